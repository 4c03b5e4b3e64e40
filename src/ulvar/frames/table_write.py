"""Tables of results, written as CSV, VOTable, FITS table or Parquet: the name's ending chooses."""

from __future__ import annotations

import csv
import math
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape, quoteattr

import numpy as np

from ulvar.engine import atomic_path, write_csv

# Name, unit as the Virtual Observatory writes it, decimals (None for text and times), meaning.
ColumnSpec = tuple[str, str, int | None, str]
Cells = Mapping[str, Sequence[Any]]

TABLE_ENDINGS = (".csv", ".txt", ".vot", ".xml", ".fits", ".fit", ".parquet")


def is_table_name(path: Path) -> bool:
    """Whether a table can be written under a name."""
    return path.suffix.lower() in TABLE_ENDINGS


def write_table(
    path: Path,
    columns: Sequence[ColumnSpec],
    cells: Cells,
    *,
    about: Mapping[str, str] | None = None,
    replace: bool = False,
) -> None:
    """Write a table atomically in the format that the name's ending says: .csv, .txt, .vot, .xml, .fits, .parquet.

    Parameters
    ----------
    path : Path
    columns : sequence of (name, unit, decimals, meaning)
        Decimals None is text or a time (`datetime`, UTC).
    cells : mapping of str to sequence
        Values of each column, all of one length; None and NaN are empty cells.
    about : mapping of str to str, optional
        What holds for the whole table, time scale and frame of reference for instance. CSV has no place for it.
    replace : bool
        Whether a file of that name may be replaced.

    Raises
    ------
    OutputExists
        If `path` exists and may not be replaced.
    ValueError
        If the ending is none of those.
    """
    writers: dict[str, Callable[..., None]] = {
        ".csv": _csv, ".txt": _csv, ".vot": _votable, ".xml": _votable, ".fits": _fits, ".fit": _fits, ".parquet": _parquet,
    }  # fmt: skip
    writer = writers.get(path.suffix.lower())
    if writer is None:
        raise ValueError(f"{path}: tables are written as {', '.join(TABLE_ENDINGS)}")
    writer(path, columns, cells, about or {}, replace)


def write_table_again(
    source: Path, path: Path, columns: Sequence[ColumnSpec], *, about: Mapping[str, str] | None = None
) -> None:
    """Write a table that is there as CSV once more, in the format that the name's ending says; one that is there is replaced.

    Parameters
    ----------
    source : Path
        As `write_table` wrote it.
    path : Path
    columns : sequence of (name, unit, decimals, meaning)
        Those of the table; what it does not have is left away.
    about : mapping of str to str, optional

    Raises
    ------
    ValueError
        If the ending is none of a table, or the table is not one of such columns.
    """
    with source.open(newline="", encoding="utf-8") as handle:
        reader = csv.DictReader(handle)
        rows = list(reader)
    there = [column for column in columns if column[0] in (reader.fieldnames or [])]
    if not there:
        raise ValueError(f"{source.name} is not such a table")
    cells: dict[str, list[Any]] = {
        name: [row[name] if decimals is None else float(row[name] or math.nan) for row in rows]
        for name, _, decimals, _ in there
    }
    write_table(path, there, cells, about=about, replace=True)


def _text(value: Any, decimals: int | None) -> str:
    if value is None:
        return ""
    if isinstance(value, datetime):
        return value.strftime("%Y-%m-%dT%H:%M:%S.%f")
    if decimals is None:
        return str(value)
    return f"{value:.{decimals}f}" if math.isfinite(value) else ""


def _texts(columns: Sequence[ColumnSpec], cells: Cells) -> list[list[str]]:
    return [[_text(value, decimals) for value in cells[name]] for name, _, decimals, _ in columns]


def _csv(path: Path, columns: Sequence[ColumnSpec], cells: Cells, about: Mapping[str, str], replace: bool) -> None:
    write_csv(path, [name for name, *_ in columns], zip(*_texts(columns, cells)), replace=replace)


def _votable(path: Path, columns: Sequence[ColumnSpec], cells: Cells, about: Mapping[str, str], replace: bool) -> None:
    """Write a VOTable of text cells (IVOA Recommendation: VOTable 1.4, section 5.1)."""
    lines = [
        '<?xml version="1.0" encoding="UTF-8"?>', '<VOTABLE version="1.4" xmlns="http://www.ivoa.net/xml/VOTable/v1.3">',
        '<RESOURCE type="results">', "<TABLE>",
    ]  # fmt: skip
    for name, text in about.items():
        lines.append(f'<PARAM name={quoteattr(name)} datatype="char" arraysize="*" value={quoteattr(text)}/>')
    for name, unit, decimals, meaning in columns:
        kind = 'datatype="char" arraysize="*"' if decimals is None else 'datatype="double"'
        told = f" unit={quoteattr(unit)}" if unit else ""
        lines.append(f"<FIELD name={quoteattr(name)} {kind}{told}><DESCRIPTION>{escape(meaning)}</DESCRIPTION></FIELD>")
    lines.append("<DATA><TABLEDATA>")
    for row in zip(*_texts(columns, cells)):
        lines.append("<TR>" + "".join(f"<TD>{escape(cell)}</TD>" for cell in row) + "</TR>")
    lines += ["</TABLEDATA></DATA>", "</TABLE>", "</RESOURCE>", "</VOTABLE>", ""]
    with atomic_path(path, replace=replace) as temporary:
        temporary.write_text("\n".join(lines), encoding="utf-8")


def _plain(values: Sequence[Any], decimals: int | None) -> list[Any]:
    if decimals is None:
        return [_text(value, None) for value in values]
    return [math.nan if value is None else float(value) for value in values]


def _fits(path: Path, columns: Sequence[ColumnSpec], cells: Cells, about: Mapping[str, str], replace: bool) -> None:
    """Write a binary table; what holds for the whole of it are HISTORY cards, for its keywords have eight letters."""
    import fitsio

    names = [name for name, *_ in columns]
    arrays = []
    for name, _, decimals, _ in columns:
        values = _plain(cells[name], decimals)
        if decimals is None:
            # FITS holds ASCII only; what is none is told by its code.
            coded = [v.encode("ascii", "backslashreplace") for v in values]
            arrays.append(np.array(coded, dtype=f"S{max(map(len, coded), default=0) or 1}"))
        else:
            arrays.append(np.array(values, dtype=np.float64))
    with atomic_path(path, replace=replace) as temporary:
        temporary.unlink(missing_ok=True)
        with fitsio.FITS(str(temporary), "rw") as handle:
            handle.write_table(arrays, names=names, units=[unit for _, unit, *_ in columns], extname="TABLE")
            for name, text in about.items():
                handle[-1].write_history(f"{name}: {text}".encode("ascii", "backslashreplace").decode())
            for number, (_, _, _, meaning) in enumerate(columns, 1):
                handle[-1].write_key(f"TCOMM{number}", meaning.encode("ascii", "replace").decode()[:68])


def _parquet(path: Path, columns: Sequence[ColumnSpec], cells: Cells, about: Mapping[str, str], replace: bool) -> None:
    import pyarrow as pa
    import pyarrow.parquet as pq

    fields, arrays = [], []
    for name, unit, decimals, meaning in columns:
        if any(isinstance(value, datetime) for value in cells[name]):
            kind: Any = pa.timestamp("us", tz="UTC")
            values: list[Any] = list(cells[name])
        else:
            kind = pa.string() if decimals is None else pa.float64()
            values = [None if isinstance(v, float) and math.isnan(v) else v for v in _plain(cells[name], decimals)]
        told = {"unit": unit, "description": meaning}
        fields.append(pa.field(name, kind, metadata={k: v for k, v in told.items() if v}))
        arrays.append(pa.array(values, type=kind))
    schema = pa.schema(fields, metadata=dict(about))
    with atomic_path(path, replace=replace) as temporary, temporary.open("wb") as handle:
        pq.write_table(pa.Table.from_arrays(arrays, schema=schema), handle)
