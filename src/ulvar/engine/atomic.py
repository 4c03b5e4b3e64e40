"""Files appear whole or not at all."""

from __future__ import annotations

import csv
import os
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from ulvar.engine.places import free_bytes, with_place


class OutputExists(FileExistsError):
    """An output is already there and may not be replaced without being asked to."""


class DiskFull(OSError):
    """The output folder has less free space than the run is estimated to need."""


def _lives(process_id: str) -> bool:
    """Whether a process runs; one that ended but was not yet waited for does not."""
    try:
        state = Path(f"/proc/{process_id}/stat").read_text().rpartition(")")[2].split()[0]
    except (OSError, IndexError):
        return False
    return state not in ("Z", "X")


def clear_leftovers(folder: Path) -> int:
    """Remove temporary files that killed processes left below `folder`; returns how many.

    A temporary file of `atomic_path` carries the process id of its writer; one whose process still runs stays.
    """
    removed = 0
    for path in folder.rglob(".*-*"):
        number = path.name[1:].split("-", 1)[0]
        if number.isdigit() and path.is_file() and not _lives(number):
            path.unlink(missing_ok=True)
            removed += 1
    return removed


@contextmanager
def atomic_path(path: Path, *, replace: bool = True) -> Iterator[Path]:
    """Yield a temporary path beside `path`; on success flush it and rename it to `path`.

    The temporary name keeps the suffix, because FITS and image writers choose the format from it.
    If the body raises, or nothing was written, the temporary file is removed and `path` is untouched.

    Parameters
    ----------
    path : Path
        The final name. Its folder is made if it is missing.
    replace : bool
        Whether an existing `path` may be replaced.

    Raises
    ------
    OutputExists
        If `path` exists and `replace` is false.
    OSError
        If it cannot be written; it names `path` and has a number, also where a library's error had neither.
    """
    if not replace and path.exists():
        raise OutputExists(f"{path} exists; it is not replaced unless asked")
    path.parent.mkdir(parents=True, exist_ok=True)
    temporary = path.with_name(f".{os.getpid()}-{path.name}")
    try:
        yield temporary
        with temporary.open("rb") as handle:
            os.fsync(handle.fileno())
        temporary.replace(path)
    except OSError as error:
        if isinstance(error, OutputExists | DiskFull) or error.filename not in (None, str(temporary)):
            raise
        placed = with_place(error, path)
        if placed is error:
            raise
        raise placed from error
    finally:
        temporary.unlink(missing_ok=True)


def write_text(path: Path, text: str, *, replace: bool = True) -> None:
    """Write `text` as UTF-8 to `path` atomically (see `atomic_path`)."""
    with atomic_path(path, replace=replace) as temporary:
        temporary.write_text(text, encoding="utf-8")


def write_csv(path: Path, header: Sequence[str], rows: Iterable[Sequence[str]], *, replace: bool = True) -> None:
    """Write a CSV table of prepared texts atomically (see `atomic_path`)."""
    with atomic_path(path, replace=replace) as temporary, temporary.open("w", newline="", encoding="utf-8") as handle:
        writer = csv.writer(handle)
        writer.writerow(header)
        writer.writerows(rows)


def check_disk(folder: Path, need_bytes: int) -> None:
    """Raise `DiskFull` when `folder`'s disk has less than `need_bytes` free.

    `folder` need not exist yet; its nearest existing parent is asked. A disk that does not say is tried.
    """
    free = free_bytes(folder)
    if free is not None and free < need_bytes:
        raise DiskFull(f"{folder} needs about {need_bytes / 1e6:.0f} MB, but its disk has {free / 1e6:.0f} MB free")
