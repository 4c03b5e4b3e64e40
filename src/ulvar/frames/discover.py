"""From files, folders and globs to a list of files."""

from __future__ import annotations

import glob
import os
from collections.abc import Iterable
from pathlib import Path

from ulvar.frames.address import file_of

FITS_ENDINGS = (".fits", ".fit", ".fts", ".fits.gz", ".fit.gz", ".fts.gz", ".fits.fz", ".fit.fz", ".fz")
TIFF_ENDINGS = (".tif", ".tiff")
# What LibRaw reads and no other kind of file uses as its ending.
RAW_ENDINGS = (
    ".dng", ".cr2", ".cr3", ".crw", ".nef", ".nrw", ".arw", ".srf", ".sr2", ".orf", ".rw2", ".raf", ".pef",
    ".srw", ".3fr", ".iiq", ".kdc", ".dcr", ".mrw", ".x3f", ".erf", ".mos", ".rwl",
)  # fmt: skip


def is_tiff_name(name: str) -> bool:
    """Whether a file name looks like TIFF."""
    return name.lower().endswith(TIFF_ENDINGS)


def is_raw_name(name: str) -> bool:
    """Whether a file name looks like a camera's raw file."""
    return name.lower().endswith(RAW_ENDINGS)


def is_exposure_name(name: str) -> bool:
    """Whether a file name looks like something that Ulvar reads as an exposure."""
    return name.lower().endswith(FITS_ENDINGS + TIFF_ENDINGS + RAW_ENDINGS)


def is_supported_output(name: str) -> bool:
    """Whether an image can be written under this name: FITS, or TIFF."""
    return name.lower().endswith((".fits", ".fit", ".fts", ".tif", ".tiff"))


def find_files(paths: Iterable[str | Path]) -> tuple[list[str], list[str]]:
    """Return (files that may be exposures, other files) under files, folders and globs, each sorted once.

    Folders are walked without following links to folders; names that start with a dot are passed over.
    A file named directly counts as an exposure even when its ending is unusual, so that it is tried; the
    address of a plane (see `ulvar.frames.address`) may be named like a file.

    Raises
    ------
    FileNotFoundError
        If a path does not exist and, as a glob, matches nothing.
    """
    found: dict[str, None] = {}
    other: dict[str, None] = {}
    for given in paths:
        text = str(given)
        if os.path.lexists(text) or (text.endswith("]") and os.path.isfile(file_of(text))):  # noqa: PTH113
            matches = [text]
        else:
            # pathlib takes relative patterns only.
            matches = sorted(glob.glob(text, recursive=True)) if glob.has_magic(text) else []  # noqa: PTH207
            if not matches:
                raise FileNotFoundError(text)
        for match in matches:
            if Path(match).is_dir():
                _walk(match, found, other)
            elif match == text or is_exposure_name(match):
                found[match] = None
            else:
                other[match] = None
    return list(found), list(other)


def _walk(folder: str, found: dict[str, None], other: dict[str, None]) -> None:
    for place, folders, names in os.walk(folder):
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        for name in sorted(names):
            if name.startswith("."):
                continue
            path = str(Path(place) / name)
            (found if is_exposure_name(name) else other)[path] = None
