"""Opening FITS files: for reading only, under any name, packed or not, with what libraries stumble over put right."""

from __future__ import annotations

import bz2
import gzip
import os
import stat
import tempfile
import zlib
from pathlib import Path
from typing import BinaryIO

import fitsio

from ulvar.engine import default_budget
from ulvar.frames.address import split_address
from ulvar.frames.fits_layout import Unit, cleaned, units_of
from ulvar.frames.frame import FrameError
from ulvar.frames.gate import reading

_GZIP, _BZIP2 = b"\x1f\x8b", b"BZh"
_STEP = 1 << 20
# No packing makes pixels this many times smaller (deflate: 1032 times, for zeros); what it makes of a real exposure
# is never this small, so that more than `_LARGE` bytes are made for nothing.
_MOST_PACKED = 1100
_UNLIKELY, _LARGE = 200, 512 * 1024**2


def _start_of(file: str) -> bytes:
    with Path(file).open("rb") as handle:
        return handle.read(4)


def is_packed(file: str) -> bool:
    """Whether a file is packed as a whole, whatever it is called."""
    return _start_of(file).startswith((_GZIP, _BZIP2))


class _Unpacking:
    """A packed file that is unpacked as far as it is asked for, into an unnamed temporary file."""

    def __init__(self, file: str, path: str) -> None:
        self._path = path
        self._size = Path(file).stat().st_size
        opened = gzip.open if _start_of(file).startswith(_GZIP) else bz2.open
        self._stream: BinaryIO = opened(file, "rb")  # type: ignore[assignment]
        self.spool = tempfile.TemporaryFile(prefix="ulvar-")  # noqa: SIM115 - it lives as long as this object
        self._have = 0
        self._ended = False

    def read(self, start: int, count: int) -> bytes:
        while not self._ended and self._have < start + count:
            try:
                part = self._stream.read(min(_STEP, start + count - self._have))
            except EOFError:
                raise FrameError(self._path, "the file is cut short: its packed contents have no end") from None
            except (OSError, ValueError, zlib.error) as error:
                raise FrameError(self._path, f"its packed contents are damaged ({error})") from None
            self._ended = not part
            self.spool.write(part)
            self._have += len(part)
        self.spool.flush()
        return os.pread(self.spool.fileno(), count, start)

    def check(self, unit: Unit) -> None:
        """Refuse a unit that is larger than what can be packed in a file of this size, before it is unpacked."""
        times = unit.end / max(1, self._size)
        if times > _MOST_PACKED or (times > _UNLIKELY and unit.end > _LARGE) or unit.end > default_budget():
            raise FrameError(
                self._path, f"its header promises {unit.end / 1e6:.0f} MB, packed into {self._size / 1e6:.1f} MB"
            )

    def close(self) -> None:
        self._stream.close()
        self.spool.close()


def _opened(descriptor: int) -> fitsio.FITS:
    # CFITSIO has a language of its own for names, and takes ASCII only; a descriptor has a plain name.
    return fitsio.FITS(f"/proc/self/fd/{descriptor}", "r")


def _clean_header(source: int, target: int, unit: Unit) -> None:
    header = os.pread(source, unit.data_start - unit.start, unit.start)
    os.pwrite(target, cleaned(header), unit.start)


def _with_clean_headers(descriptor: int, units: list[Unit]) -> fitsio.FITS:
    """Open a copy whose headers are ASCII.

    Pixels of plain images are read from the file itself, by their place: the copy has a hole there.
    """
    with tempfile.TemporaryFile(prefix="ulvar-") as copy:
        for unit in units:
            _clean_header(descriptor, copy.fileno(), unit)
            for at in range(unit.data_start, 0 if unit.plain else unit.end, _STEP):
                os.pwrite(copy.fileno(), os.pread(descriptor, min(_STEP, unit.end - at), at), at)
        os.truncate(copy.fileno(), min(os.fstat(descriptor).st_size, units[-1].end))
        return _opened(copy.fileno())


def open_fits(path: str) -> fitsio.FITS:
    """Open a file for reading only.

    Raises
    ------
    FrameError
        If it cannot be opened as FITS.
    """
    file = split_address(path).file
    with reading(path, "its structure"):
        status = os.stat(file)  # noqa: PTH116 - the path is text, and a stat is all that is wanted
        if not stat.S_ISREG(status.st_mode):
            raise FrameError(path, "it is no ordinary file")
        if status.st_size == 0:
            raise FrameError(path, "the file is empty (0 bytes)")
        if is_packed(file):
            packed = _Unpacking(file, path)
            try:
                units = units_of(packed.read, path, packed.check)
                spool = packed.spool.fileno()
                # Nothing of what follows the last unit is kept.
                os.truncate(spool, min(os.fstat(spool).st_size, units[-1].end))
                for unit in units:
                    _clean_header(spool, spool, unit)
                return _opened(spool)
            finally:
                packed.close()
        descriptor = os.open(file, os.O_RDONLY)
        try:
            units = units_of(lambda start, count: os.pread(descriptor, count, start), path)
            # What follows the last unit would be taken for one more.
            clean = status.st_size <= units[-1].end and not any(unit.odd for unit in units)
            return _opened(descriptor) if clean else _with_clean_headers(descriptor, units)
        finally:
            os.close(descriptor)
