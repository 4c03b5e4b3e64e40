"""From files, folders and globs to a list of files."""

from __future__ import annotations

import glob
import os
from collections.abc import Iterable
from pathlib import Path

FITS_ENDINGS = (".fits", ".fit", ".fts", ".fits.gz", ".fit.gz", ".fts.gz", ".fits.fz", ".fit.fz", ".fz")


def is_fits_name(name: str) -> bool:
    """Whether a file name looks like FITS, compressed or not."""
    return name.lower().endswith(FITS_ENDINGS)


def is_supported_output(name: str) -> bool:
    """Whether an image can be written under this name: FITS, or TIFF."""
    return name.lower().endswith((".fits", ".fit", ".fts", ".tif", ".tiff"))


def find_files(paths: Iterable[str | Path]) -> tuple[list[str], list[str]]:
    """Return (FITS files, other files) under the given files, folders and globs, each sorted once.

    Folders are walked without following links to folders; names that start with a dot are passed over.
    A file named directly counts as FITS even when its ending is unusual, so that it is tried.

    Raises
    ------
    FileNotFoundError
        If a path does not exist and, as a glob, matches nothing.
    """
    fits: dict[str, None] = {}
    other: dict[str, None] = {}
    for given in paths:
        text = str(given)
        if os.path.lexists(text):
            matches = [text]
        else:
            # pathlib takes relative patterns only.
            matches = sorted(glob.glob(text, recursive=True)) if glob.has_magic(text) else []  # noqa: PTH207
            if not matches:
                raise FileNotFoundError(text)
        for match in matches:
            if Path(match).is_dir():
                _walk(match, fits, other)
            elif not glob.has_magic(text) or os.path.lexists(text) or is_fits_name(match):
                fits[match] = None
            else:
                other[match] = None
    return list(fits), list(other)


def _walk(folder: str, fits: dict[str, None], other: dict[str, None]) -> None:
    for place, folders, names in os.walk(folder):
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        for name in sorted(names):
            if name.startswith("."):
                continue
            path = str(Path(place) / name)
            (fits if is_fits_name(name) else other)[path] = None
