"""Files appear whole or not at all."""

from __future__ import annotations

import csv
import os
import re
import shutil
import zlib
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TextIO

from ulvar.engine.places import free_bytes, with_place


class OutputExists(FileExistsError):
    """An output is already there and may not be replaced without being asked to."""


class DiskFull(OSError):
    """The output folder has less free space than the run is estimated to need."""


def _begun(process: int) -> int:
    """Return when a process began, in ticks of the kernel; 0 where it has ended."""
    try:
        fields = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()
    except OSError:
        return 0
    return 0 if fields[0] in ("Z", "X") else int(fields[19])


# Of two endings the writers look at both (``.fits.fz``).
_ENDING = re.compile(r"(\.fits)?\.[A-Za-z0-9]{1,7}$")


def temporary_name(name: str, *, mark: str = "") -> str:
    """Return the name that a file has while it is written: hidden, short, plain, and told from anybody else's.

    It carries this process's number and when it began, by which another process knows that the file is in use. The
    suffix stays, because writers of FITS and images choose the format from it.
    """
    process = os.getpid()
    ending = _ENDING.search(name)
    middle = mark or f"{zlib.crc32(os.fsencode(name)):08x}"
    return f".ulvar-{process}-{_begun(process)}-{middle}{ending.group() if ending and not mark else ''}"


_LEFT = re.compile(r"\.ulvar-(?P<process>\d{1,10})-(?P<begun>\d{1,20})-[0-9a-z]+(\.[A-Za-z0-9]{1,7}){0,2}")


def files_in(folder: Path, pattern: str) -> list[Path]:
    """Return the files of a folder that match, by name; none that is hidden, as those are that are being written or were when a process died."""
    return sorted(path for path in folder.glob(pattern) if not path.name.startswith("."))


def is_left_over(name: str) -> bool:
    """Whether a file is one of `temporary_name` whose process has ended."""
    found = _LEFT.fullmatch(name)
    return found is not None and _begun(int(found["process"])) != int(found["begun"])


def clear_leftovers(folder: Path) -> int:
    """Remove what killed processes left below `folder` in the middle of writing; returns how many.

    Only what `temporary_name` has named, of processes that have ended; links are not followed. What may not be
    removed stays.
    """
    removed = 0
    for place, folders, files in os.walk(folder):
        removed += sum(_cleared_away(Path(place, name)) for name in [*files, *folders])
        folders[:] = [name for name in folders if not is_left_over(name)]
    return removed


def _cleared_away(path: Path) -> bool:
    """Remove a file or folder if it is left over; whether it is gone."""
    if not is_left_over(path.name) or path.is_symlink():
        return False
    if path.is_dir():
        shutil.rmtree(path, ignore_errors=True)
    else:
        with suppress(OSError):
            path.unlink()
    return not path.exists()


# Folders that this process has written into, and cleared before.
_cleared: set[Path] = set()


def _clear_once(folder: Path) -> None:
    if folder not in _cleared:
        _cleared.add(folder)
        with suppress(OSError):
            for name in os.listdir(folder):  # noqa: PTH208 - names are all that is wanted
                _cleared_away(folder / name)


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
    _clear_once(path.parent)
    temporary = path.with_name(temporary_name(path.name))
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


def copy_file(source: Path, path: Path, *, replace: bool = True) -> None:
    """Copy a file atomically (see `atomic_path`); an error names the one of the two that it is about."""
    with atomic_path(path, replace=replace) as temporary, source.open("rb") as given, temporary.open("wb") as taken:
        while True:
            try:
                block = given.read(1 << 20)
            except OSError as error:
                raise with_place(error, source) from error
            if not block:
                break
            taken.write(block)


def write_text(path: Path, text: str, *, replace: bool = True) -> None:
    """Write `text` as UTF-8 to `path` atomically (see `atomic_path`)."""
    with atomic_path(path, replace=replace) as temporary:
        # Names may hold bytes that are no text.
        temporary.write_text(text, encoding="utf-8", errors="backslashreplace")


def _opened_table(path: Path) -> TextIO:
    return path.open("w", newline="", encoding="utf-8", errors="backslashreplace")


def write_csv(path: Path, header: Sequence[str], rows: Iterable[Sequence[str]], *, replace: bool = True) -> None:
    """Write a CSV table of prepared texts atomically (see `atomic_path`)."""
    with atomic_path(path, replace=replace) as temporary, _opened_table(temporary) as handle:
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
