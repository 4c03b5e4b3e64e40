"""Why something could not be written, or read, at a place: in words, with the room that is left there."""

from __future__ import annotations

import errno
import os
import shutil
from pathlib import Path

# What a disk without room ends in, also where a user's share of it is used up.
_FULL = {errno.ENOSPC, errno.EDQUOT}
_WORDS = {
    errno.EROFS: "its disk can only be read",
    errno.EACCES: "the rights to it are missing",
    errno.EPERM: "the rights to it are missing",
    errno.EFBIG: "files of this size are not allowed there",
    errno.EISDIR: "it is a folder, not a file",
    errno.ENOENT: "there is no such file or folder",
    errno.ENAMETOOLONG: "the name is too long for its disk",
    errno.EIO: "its disk does not answer",
}
# Less than a block or two is no room [bytes].
_NO_ROOM = 64 * 1024


def free_bytes(place: Path) -> int | None:
    """Return the room left on the disk that holds a place, or will hold it; None if it does not say."""
    while not place.exists() and place != place.parent:
        place = place.parent
    try:
        return shutil.disk_usage(place).free
    except OSError:
        return None


def _size(count: int) -> str:
    return f"{count / 1e6:.0f} MB" if count >= 10_000_000 else f"{count / 1e3:.0f} kB"


def with_place(error: OSError, path: Path) -> OSError:
    """Return an error of writing that names its file: a write that fails does not, and FITSIO's say no reason either."""
    if error.errno is None:
        free = free_bytes(path)
        full = free is not None and free < _NO_ROOM
        return OSError(errno.ENOSPC if full else errno.EIO, os.strerror(errno.ENOSPC if full else errno.EIO), str(path))
    error.filename = str(path)
    return error


def place_words(error: Exception) -> str:
    """Return why something could not be read or written, for people: the place, the reason, the room where it lacks.

    An error that is not of a place is told as it tells itself.

    Examples
    --------
    >>> place_words(PermissionError(13, "Permission denied", "night/products"))
    'night/products: the rights to it are missing'
    """
    place = str(error.filename or "") if isinstance(error, OSError) and error.errno is not None else ""
    return f"{place}: {reason_words(error)}" if place else reason_words(error)


def reason_words(error: Exception) -> str:
    """Return the reason alone, for where the place is named already."""
    if not isinstance(error, OSError) or error.errno is None:
        return str(error)
    place = str(error.filename or "")
    if error.errno in _FULL:
        free = free_bytes(Path(place)) if place else None
        return "its disk is full" + ("" if free is None else f" ({_size(free)} free)")
    if error.errno in (errno.ENOTDIR, errno.EEXIST):
        return "a file is in the way where a folder is needed"
    return _WORDS.get(error.errno, (error.strerror or str(error)).lower())
