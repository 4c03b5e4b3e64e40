"""Star tables that come packed in an installed data package."""

from __future__ import annotations

import importlib.metadata
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from ulvar.astrometry.tables import CatalogueError, Rows, usable

# A mark, a version and a count, then one star behind the other, least byte first, as the package's own page tells.
_MARK, _VERSION, _HEADER = b"GDR3", 1, 16
_STAR = np.dtype(
    [("id", "<i8"), ("ra", "<f8"), ("dec", "<f8"), ("mag", "<f4"), ("pmra", "<f4"), ("pmdec", "<f4")]
)  # fmt: skip
_ROWS = 250_000
_TABLES = (".bin", ".parquet", ".csv", ".csv.gz", ".vot", ".fits")


def is_packed(path: Path) -> bool:
    """Whether a file is such a table, by the mark that it begins with."""
    try:
        with path.open("rb") as handle:
            return handle.read(len(_MARK)) == _MARK
    except OSError:
        return False


def packed_rows(path: Path) -> Iterator[Rows]:
    """Read a packed table of stars in portions; positions are of 2016.0.

    Raises
    ------
    CatalogueError
        If it is of another version, or ends in the middle.
    """
    with path.open("rb") as handle:
        head = handle.read(_HEADER)
        version, count = int.from_bytes(head[4:8], "little"), int.from_bytes(head[8:16], "little")
        if len(head) < _HEADER or version != _VERSION:
            raise CatalogueError(f"{path}: it is of version {version}, and only version {_VERSION} is known")
        if path.stat().st_size != _HEADER + count * _STAR.itemsize:
            raise CatalogueError(f"{path}: it tells of {count} stars, and its length is that of another number")
        for first in range(0, count, _ROWS):
            stars = np.frombuffer(handle.read(min(_ROWS, count - first) * _STAR.itemsize), _STAR)
            columns: dict[str, np.ndarray] = {
                name: stars[name].astype(np.float64) for name in ("ra", "dec", "mag", "pmra", "pmdec")
            }
            columns["id"] = stars["id"].astype(str).astype(object)
            yield usable(columns, first)


def installed_table(name: str) -> Path | None:
    """Return the largest star table of an installed data package; None where there is no such package, or none in it."""
    try:
        files = importlib.metadata.files(name) or []
    except importlib.metadata.PackageNotFoundError:
        return None
    tables = [Path(str(f.locate())) for f in files if f.name.endswith(_TABLES)]
    return max((t for t in tables if t.is_file()), key=lambda t: t.stat().st_size, default=None)
