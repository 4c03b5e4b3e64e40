"""Pixels of FITS files, row by row."""

from __future__ import annotations

import math
import os
import sys
import tempfile
import warnings
import weakref
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.engine import F32Array, MaskArray, percent, with_place
from ulvar.frames.address import split_address
from ulvar.frames.checksum import word_sum
from ulvar.frames.fits_header import image_hdu
from ulvar.frames.fits_open import is_packed, open_fits
from ulvar.frames.frame import FrameError
from ulvar.frames.gate import reading, without_nonsense

_BUFFER_PIXELS = 256 * 1024
# With more than these the pixels of 16 bits have values that no exposure has, which count as none.
_LARGEST_ZERO, _LARGEST_SCALE = 1e18, 1e13


class SpooledRows:
    """Rows of an unpacked image, kept in an unnamed temporary file that goes when the object does."""

    def __init__(self, data: F32Array) -> None:
        self.height, self.width = data.shape
        with tempfile.TemporaryFile(prefix="ulvar-") as spool:
            try:
                data.tofile(spool)
            except OSError as error:
                raise with_place(error, Path(tempfile.gettempdir())) from error
            self._handle = os.dup(spool.fileno())
        weakref.finalize(self, os.close, self._handle)

    def rows(self, y0: int, y1: int) -> F32Array:
        """Return rows ``y0 <= y < y1`` as a new float32 array."""
        out = np.empty((y1 - y0, self.width), dtype=np.float32)
        os.preadv(self._handle, [out.data.cast("B")], 4 * self.width * y0)
        return out


class FileRows:
    """Rows of one exposure as float32, read band by band.

    An uncompressed pixel block is read at the offset that fitsio reports and swapped and scaled in a
    kernel. Of a tile-compressed image only the tiles of the band are unpacked. A file compressed as a
    whole is unpacked once into an unnamed temporary file, so that memory stays small for any number of files.

    Parameters
    ----------
    path : str

    Raises
    ------
    FrameError
        If the file cannot be read as a two-dimensional image.
    """

    def __init__(self, path: str) -> None:
        self.path = path
        address = split_address(path)
        self._file = address.file
        self._whole: SpooledRows | None = None
        self._tiled: int | None = None
        self._start: int | None = None
        with reading(path, "its pixels"), open_fits(path) as handle:
            hdu = image_hdu(handle, path)
            info = handle[hdu].get_info()
            dims = list(info["dims"])
            planes = math.prod(dims[:-2]) if len(dims) > 2 else 1
            if len(dims) < 2 or (planes > 1 and address.plane is None):
                shape = " x ".join(str(size) for size in reversed(info["dims"]))
                raise FrameError(path, f"it is not a two-dimensional image but {shape}")
            plane = address.plane or 0
            if plane >= planes:
                raise FrameError(path, f"it holds {planes} planes only")
            self.height, self.width = int(dims[-2]), int(dims[-1])
            header = handle[hdu].read_header()
            self._type = int(info["img_type"])
            self._zero, self._scale = _scaling(header, path)
            blank = header.get("BLANK") if self._type > 0 else None
            self._blank = None if blank is None else int(blank)
            self._packed = is_packed(self._file)
            # Whether there is anything for `stored_mask` to read.
            self.masked = len(handle) > 2 or (len(handle) == 2 and hdu == 0)
            # What Ulvar wrote carries the sum of its pixels, which costs next to nothing to add up while they are read.
            own = (
                header.get("RECIPEID") is not None
                and self._type == -32
                and planes == 1
                and (self._zero, self._scale) == (0.0, 1.0)
            )
            self._sum = str(header.get("DATASUM") or "") if own else ""
            self._stamp = _stamp(os.stat(self._file))  # noqa: PTH116 - one call, the path is text here
            if not info["is_compressed_image"] and not self._packed:
                skip = plane * self.height * self.width * abs(self._type) // 8
                self._check_block(int(handle[hdu].get_offsets()["data_start"]) + skip)
            else:
                self._unpacked(handle[hdu], hdu, planes, plane)

    def every(self, step: int) -> F32Array:
        """Return every `step`-th pixel of every `step`-th row: a quick look that touches little of a plain file."""
        return np.ascontiguousarray(self.bands(range(0, self.height, step), 1)[:, 0, ::step])

    @property
    def plain(self) -> bool:
        """Whether the pixels lie uncompressed in the file, so that single rows cost little."""
        return self._start is not None

    def _check_block(self, start: int) -> None:
        have = self._stamp[1] - start
        need = self.height * self.width * abs(self._type) // 8
        if have < need:
            raise FrameError(
                self.path, f"the file is cut short: it ends at {percent(max(0.0, have / need))} of its rows"
            )
        self._start = start

    def _unpacked(self, image: Any, hdu: int, planes: int, plane: int) -> None:
        if planes == 1 and image.get_info()["ndims"] == 2 and not self._packed:
            # One row is unpacked now, so that damage is told when the file is opened.
            self._tiled = hdu
            self._tiles(image, 0, 1)
            return
        raw = image.read().reshape(planes, self.height, self.width)[plane]
        self._whole = SpooledRows(self._converted(raw))

    def _tiles(self, image: Any, y0: int, y1: int) -> F32Array:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            return self._converted(image[y0:y1, 0 : self.width])

    def _converted(self, raw: np.ndarray) -> F32Array:
        data = np.ascontiguousarray(raw, dtype=np.float32)
        if raw.dtype.kind == "f":
            data = without_nonsense(data if data.flags.writeable else data.copy())
        if self._blank is not None and raw.dtype.kind in "iu":
            data[raw == round(self._zero + self._scale * self._blank)] = np.nan
        return data

    def rows(self, y0: int, y1: int) -> F32Array:
        """Return rows ``y0 <= y < y1`` as a new float32 array, BZERO and BSCALE applied, blanks NaN."""
        out = np.empty((y1 - y0, self.width), dtype=np.float32)
        self.rows_into(y0, y1, out)
        return out

    def rows_into(self, y0: int, y1: int, out: F32Array) -> None:
        """Write rows ``y0 <= y < y1`` into `out`, C-contiguous float32 of shape (y1 - y0, width).

        Raises
        ------
        FrameError
            If the file became shorter, or its compressed pixels are damaged.
        """
        if self._whole is not None:
            out[...] = self._whole.rows(y0, y1)
            return
        if self._tiled is not None:
            self._tiles_into([y0], out[None])
            return
        with reading(self.path, "its pixels"):
            handle = os.open(self._file, os.O_RDONLY)
            try:
                self._read_into(handle, y0, y1, out)
                # Pixels of two files in one frame would be worse than none.
                self._check_same(os.fstat(handle))
            finally:
                os.close(handle)

    def bands(self, starts: Sequence[int], count: int) -> F32Array:
        """Return bands of `count` rows from each of `starts` on, shape (bands, count, width): a compressed file is opened once for all.

        Raises
        ------
        FrameError
            As `rows_into`.
        """
        out = np.empty((len(starts), count, self.width), dtype=np.float32)
        if self._tiled is None:
            for y0, band in zip(starts, out):
                self.rows_into(y0, y0 + count, band)
        else:
            self._tiles_into(starts, out)
        return out

    def _tiles_into(self, starts: Sequence[int], out: F32Array) -> None:
        with reading(self.path, "its pixels"), open_fits(self.path) as handle:
            self._check_same(os.stat(self._file))  # noqa: PTH116 - one call, the path is text here
            for y0, band in zip(starts, out):
                band[...] = self._tiles(handle[self._tiled], y0, y0 + len(band))

    def _check_same(self, status: os.stat_result) -> None:
        if _stamp(status) != self._stamp:
            raise FrameError(self.path, "the file has changed while it was read")

    def _read_into(self, handle: int, y0: int, y1: int, out: F32Array) -> None:
        assert self._start is not None
        # Read, not mapped: mapped pages of many files would count as this process's memory.
        dtype = np.dtype({8: "u1", 16: ">i2", 32: ">i4", 64: ">i8", -32: ">f4", -64: ">f8"}[self._type])
        count, offset = (y1 - y0) * self.width, self._start + y0 * self.width * dtype.itemsize
        if self._type == 16 and self._blank is None:
            self._swap_into(handle, offset, out.reshape(-1))
            return
        block = np.empty(count, dtype=dtype)
        self._fill(handle, block, offset)
        block = block.reshape(y1 - y0, self.width)
        out[...] = _plain(block, self._zero, self._scale)
        if self._sum and (y0, y1) == (0, self.height) and word_sum(out) != self._sum:
            raise FrameError(self.path, "its pixels are not what was written: the file is damaged")
        if self._type < 0:
            without_nonsense(out)
        if self._blank is not None:
            out[block == self._blank] = np.nan

    def _fill(self, handle: int, block: np.ndarray, offset: int) -> None:
        view, done = block.view(np.uint8).data, 0
        while done < len(view):
            # The system reads up to 2 GiB at a time.
            got = os.preadv(handle, [view[done:]], offset + done)
            if not got:
                raise FrameError(self.path, "the file became shorter while it was read")
            done += got

    def _swap_into(self, handle: int, offset: int, out: F32Array) -> None:
        """Read 16-bit pixels through a buffer that stays in the cache: no second copy of the frame is made."""
        buffer = np.empty(min(out.size, _BUFFER_PIXELS), dtype=np.uint16)
        zero, scale = np.float32(self._zero), np.float32(self._scale)
        swap = _swap()
        for done in range(0, out.size, buffer.size):
            part = buffer[: out.size - done]
            self._fill(handle, part, offset + 2 * done)
            swap(part, zero, scale, out[done : done + part.size])


def _stamp(status: os.stat_result) -> tuple[int, int, int]:
    return status.st_ino, status.st_size, status.st_mtime_ns


def _scaling(header: Mapping[str, Any], path: str) -> tuple[float, float]:
    """Return BZERO and BSCALE."""
    zero, scale = header.get("BZERO"), header.get("BSCALE")
    values = (0.0 if zero is None else float(zero), 1.0 if scale is None else float(scale))
    if not (abs(values[0]) < _LARGEST_ZERO and 0 < abs(values[1]) < _LARGEST_SCALE):
        raise FrameError(
            path, f"its header gives BZERO as {zero} and BSCALE as {scale}, with which no pixel has a value"
        )
    return values


def _swap_in_numpy(raw: np.ndarray, zero: np.float32, scale: np.float32, out: F32Array) -> None:
    """What `swap16_to_float32` does, to the bit, in a pass more."""
    np.copyto(out, raw.view(">i2"), casting="unsafe")
    if scale != 1.0:
        out *= scale
    out += zero


def _swap() -> Callable[[np.ndarray, np.float32, np.float32, F32Array], None]:
    """Return what swaps and scales 16-bit pixels.

    The compiler of kernels takes 0.4 s to load, for which the slower way swaps 800 megapixels: whoever has not
    loaded it for something else goes without.
    """
    if "numba" not in sys.modules:
        return _swap_in_numpy
    from ulvar.frames._kernels import swap16_to_float32

    return swap16_to_float32  # type: ignore[no-any-return]


def _plain(block: np.ndarray, zero: float, scale: float) -> np.ndarray:
    if zero == 0.0 and scale == 1.0:
        return block.astype(np.float32)
    # 32-bit integers with an offset do not fit float32 exactly; the sum is made in float64.
    return (block.astype(np.float64) * scale + zero).astype(np.float32)


def stored_mask(path: str, shape: tuple[int, ...], rows: tuple[int, int] | None = None) -> MaskArray | None:
    """Return the mask plane, or some rows of it, that `write_fits` wrote beside an image of a shape, or None."""
    with reading(path, "its mask"), open_fits(path) as handle:
        if len(handle) < 2 or "MASK" not in handle:
            return None
        if tuple(handle["MASK"].get_dims()) != shape:
            return None
        plane = handle["MASK"].read() if rows is None else handle["MASK"][rows[0] : rows[1], :]
        return plane.astype(np.uint16)
