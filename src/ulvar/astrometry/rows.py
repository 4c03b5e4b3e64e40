"""Tables of results read back, whatever format they were written in: each row as text by the names of its columns."""

from __future__ import annotations

import csv
import math
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

from ulvar.astrometry.tables import CatalogueError
from ulvar.engine import reason_words
from ulvar.frames import plain_reason


def read_rows(path: Path) -> tuple[list[str], Iterator[dict[str, str]]]:
    """Return the names of a table's columns, and its rows: CSV, VOTable (.vot, .xml), FITS table or Parquet, by the ending.

    Cells are text: numbers with all of their digits, times in ISO, nothing where there is no value.

    Raises
    ------
    CatalogueError
        If it cannot be read; the message names it.
    """
    ending = path.suffix.lower()
    if ending in (".vot", ".xml"):
        names, columns = _votable(path)
    elif ending in (".fits", ".fit"):
        names, columns = _fits(path)
    elif ending == ".parquet":
        names, columns = _parquet(path)
    else:
        return _csv(path)
    texts = [[_text(value) for value in columns[name]] for name in names]
    return names, (dict(zip(names, row)) for row in zip(*texts))


def _csv(path: Path) -> tuple[list[str], Iterator[dict[str, str]]]:
    try:
        with path.open(newline="", encoding="utf-8-sig") as handle:
            reader = csv.DictReader(handle)
            rows = [{str(k): v or "" for k, v in row.items() if isinstance(v, str | None)} for row in reader]
            return [name for name in reader.fieldnames or [] if name], iter(rows)
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise CatalogueError(f"{path}: {reason_words(error)}") from None


def _votable(path: Path) -> tuple[list[str], dict[str, list[Any]]]:
    from ulvar.astrometry.votable import read_votable

    names: list[str] = []
    gathered: dict[str, list[Any]] = {}
    for fields, columns in read_votable(path):
        names = [one.name for one in fields]
        for name in names:
            values = columns.get(name, [])
            gathered.setdefault(name, []).extend(values if isinstance(values, list) else values.tolist())
    return names, {name: gathered.get(name, []) for name in names}


def _fits(path: Path) -> tuple[list[str], dict[str, list[Any]]]:
    import fitsio

    try:
        with fitsio.FITS(str(path)) as file:
            table = next((hdu for hdu in file if hdu.get_exttype() in ("BINARY_TBL", "ASCII_TBL")), None)
            if table is None:
                raise CatalogueError(f"{path}: it holds no table")
            data = table.read()
    except (OSError, ValueError) as error:
        raise CatalogueError(f"{path}: it cannot be read as a FITS table ({plain_reason(error)})") from None
    names = list(data.dtype.names or ())
    return names, {name: data[name].tolist() for name in names}


def _parquet(path: Path) -> tuple[list[str], dict[str, list[Any]]]:
    import pyarrow as pa
    import pyarrow.parquet as pq

    try:
        with path.open("rb") as handle:
            table = pq.read_table(handle)
    except (OSError, ValueError, pa.ArrowException) as error:
        reason = (str(error).splitlines() or [type(error).__name__])[0]
        raise CatalogueError(f"{path}: it cannot be read as a Parquet table ({reason})") from None
    return list(table.column_names), table.to_pydict()


def _text(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace").strip()
    if isinstance(value, datetime):
        return value.strftime("%Y-%m-%dT%H:%M:%S.%f")
    if isinstance(value, float):
        return repr(value) if math.isfinite(value) else ""
    return str(value)
