"""Whether files are still what was written: checksums inside FITS files, digests of any other.

References
----------
FITS Standard 4.0 (2018), section 4.4.2.7 and appendix J: the sum of a unit whose CHECKSUM is right is minus zero.
"""

from __future__ import annotations

import hashlib
import os
from pathlib import Path

from ulvar.frames.checksum import block_sum, fold
from ulvar.frames.fits_layout import BLOCK, CARD, Unit, units_of
from ulvar.frames.fits_open import is_packed
from ulvar.frames.frame import FrameError
from ulvar.frames.gate import reading

_MINUS_ZERO = 0xFFFFFFFF
_STEP = 1456 * BLOCK


def digest_of(path: str) -> str:
    """Return a file's BLAKE2b digest.

    Raises
    ------
    FrameError
        If it cannot be read.
    """
    digest = hashlib.blake2b(digest_size=16)
    with reading(path), Path(path).open("rb") as handle:
        while block := handle.read(1 << 20):
            digest.update(block)
    return digest.hexdigest()


def _stamped(handle: int, unit: Unit) -> bool:
    header = os.pread(handle, unit.data_start - unit.start, unit.start)
    return any(header[at : at + 9] == b"CHECKSUM=" for at in range(0, len(header), CARD))


def _sum(handle: int, unit: Unit) -> int:
    total = 0
    for at in range(unit.start, unit.end, _STEP):
        block = os.pread(handle, min(_STEP, unit.end - at), at)
        total = fold(total + block_sum(block + b"\0" * (-len(block) % 4)))
    return total


def has_checksum(path: str) -> bool:
    """Whether a file is FITS, not packed as a whole, and carries a checksum in its first unit.

    Raises
    ------
    FrameError
        If it cannot be read.
    """
    with reading(path):
        if is_packed(path):
            return False
        handle = os.open(path, os.O_RDONLY)
        try:
            if os.pread(handle, 9, 0) != b"SIMPLE  =":
                return False
            return _stamped(handle, units_of(lambda start, count: os.pread(handle, count, start), path)[0])
        finally:
            os.close(handle)


def damage(path: str) -> str:
    """Return what is wrong with a FITS file by its own checksums, in words; empty where every sum is right.

    Units without a checksum are passed over.

    Raises
    ------
    FrameError
        If its structure cannot be read.
    """
    with reading(path):
        handle = os.open(path, os.O_RDONLY)
        try:
            units = units_of(lambda start, count: os.pread(handle, count, start), path)
            if os.fstat(handle).st_size < units[-1].end:
                raise FrameError(path, "the file is cut short: it ends before its pixels do")
            for number, unit in enumerate(units):
                if _stamped(handle, unit) and _sum(handle, unit) != _MINUS_ZERO:
                    where = "its header or its pixels" if number == 0 else f"its extension {number}"
                    return f"{where} are not what was written"
            return ""
        finally:
            os.close(handle)
