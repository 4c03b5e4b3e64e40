"""The gate for everything that comes from a file: a reader gives what it read, or a `FrameError` in plain words."""

from __future__ import annotations

import errno
import logging
from collections.abc import Iterator
from contextlib import contextmanager

import numpy as np

from ulvar.engine import F32Array, place_words
from ulvar.frames.frame import FrameError

log = logging.getLogger(__name__)


@contextmanager
def reading(path: str, what: str = "its contents") -> Iterator[None]:
    """Turn whatever goes wrong while a file is read into a `FrameError`.

    Readers are libraries, and files hold anything: a library that meets what nobody foresaw raises what nobody
    foresaw. Its words go to the log; whoever reads the sentence learns which file it is and that it cannot be used.

    Parameters
    ----------
    path : str
        The file, or the address of an image in it.
    what : str
        What is being read, for the sentence.

    Raises
    ------
    FrameError
        For any error of the body.
    """
    try:
        # Values that no float32 holds come out as infinite, and are marked as no data.
        with np.errstate(all="ignore"):
            yield
    except FrameError:
        raise
    except MemoryError:
        raise FrameError(path, "it needs more memory than there is") from None
    except OSError as error:
        raise FrameError(path, plain_reason(error)) from None
    except Exception as error:
        if "FITSIO" in str(error):
            raise FrameError(path, plain_reason(error)) from None
        log.debug("%s: %s cannot be read", path, what, exc_info=True)
        raise FrameError(path, f"{what} cannot be understood: {_short(error)}") from None


# No exposure holds such a value [ADU]; its square is more than a float32 holds.
BEYOND_ADU = np.float32(1e18)


def without_nonsense(data: F32Array) -> F32Array:
    """Return float pixels, changed in place, with NaN for what is infinite or larger than any exposure's value."""
    # Band by band: what passes stays in the cache.
    for first in range(0, len(data), 64):
        part = data[first : first + 64]
        with np.errstate(invalid="ignore"):
            beyond = np.abs(part) > BEYOND_ADU
        if beyond.any():
            part[beyond] = np.nan
    return data


def _short(error: Exception) -> str:
    text = " ".join(str(error).split())
    return f"{type(error).__name__}" + (f", {text[:100]}" if text and text.isprintable() else "")


# What the status numbers of CFITSIO mean (its file fitsio.h), as far as a file can be at fault.
_STATUS = {
    104: "the file may not be read (permission)",
    107: "the file is cut short: it ends before its pixels do",
    108: "this is not a FITS file",
    210: "its header has no end",
    252: "this is not a FITS file",
    412: "its pixels do not fit the type that its header gives",
    413: "its compressed pixels are damaged",
    414: "its compressed pixels are damaged",
}
_PHRASES = {
    "past end of file": 107,
    "could not interpret primary array header": 108,
    "Permission": 104,
    "compressed": 414,
    "decompress": 414,
    "Quantize": 414,
}


def plain_reason(error: Exception) -> str:
    """Return what an error of reading means, in plain words, without a library's status numbers."""
    if isinstance(error, OSError) and error.errno is not None:
        words = place_words(OSError(error.errno, error.strerror))
        return {errno.ENOENT: "there is no such file", errno.EACCES: _STATUS[104], errno.EPERM: _STATUS[104]}.get(
            error.errno, words
        )
    text = str(error)
    for status, words in _STATUS.items():
        if f"status = {status}:" in text or f"status = {status}\n" in text:
            return words
    for phrase, status in _PHRASES.items():
        if phrase in text:
            return _STATUS[status]
    return "its structure is damaged"
