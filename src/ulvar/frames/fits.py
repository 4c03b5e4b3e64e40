"""FITS in and out. Headers, compression and writing are fitsio's; raw files are only ever read."""

from __future__ import annotations

import math
import os
import warnings
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import fitsio
import numpy as np

from ulvar import __version__
from ulvar.engine import F32Array, MaskArray, atomic_path
from ulvar.frames._kernels import swap16_to_float32
from ulvar.frames.dialects import facts_from_header
from ulvar.frames.facts import ExposureFacts
from ulvar.frames.frame import Frame, FrameError, MaskBit, mark

_IMAGE_HDU = 0
# Keywords that describe the file's layout, not the exposure; the writer makes its own.
_STRUCTURAL = {
    "SIMPLE", "BITPIX", "NAXIS", "NAXIS1", "NAXIS2", "NAXIS3", "EXTEND", "BZERO", "BSCALE", "BLANK",
    "CHECKSUM", "DATASUM", "END", "XTENSION", "PCOUNT", "GCOUNT", "TFIELDS", "EXTNAME", "EXTVER",
    "ZIMAGE", "ZTILE1", "ZTILE2", "ZCMPTYPE", "ZQUANTIZ", "ZDITHER0", "ZBITPIX", "ZNAXIS", "ZNAXIS1",
    "ZNAXIS2", "ZSIMPLE", "ZEXTEND", "ZBLANK", "DATAMIN", "DATAMAX",
}  # fmt: skip


def _open(path: str) -> fitsio.FITS:
    place = Path(path)
    try:
        if not place.is_file():
            raise FrameError(path, "there is no such file")
        if place.stat().st_size == 0:
            raise FrameError(path, "the file is empty (0 bytes)")
        return fitsio.FITS(path, "r")
    except OSError as error:
        raise FrameError(path, _plain_reason(error)) from None


def _plain_reason(error: Exception) -> str:
    text = str(error)
    if "past end of file" in text or "status = 107" in text:
        return "the file is cut short: it ends before its pixels do"
    if "status = 108" in text or "could not interpret primary array header" in text or "status = 252" in text:
        return "this is not a FITS file"
    if "status = 104" in text or "Permission" in text:
        return "the file may not be read (permission)"
    if "status = 413" in text or "status = 414" in text:
        return "its compressed pixels are damaged"
    last = [line.strip() for line in text.splitlines() if line.strip()]
    return last[-1] if last else type(error).__name__


def _image_hdu(handle: fitsio.FITS, path: str) -> int:
    for index in range(len(handle)):
        info = handle[index].get_info()
        if info["hdutype"] == _IMAGE_HDU and info["ndims"] > 0 and min(info["dims"]) > 0:
            return index
    raise FrameError(path, "it holds no image")


def header_of(path: str) -> dict[str, Any]:
    """Return keyword to value of the file's image extension, over those of the primary header.

    Raises
    ------
    FrameError
        If the file cannot be read as FITS or holds no image.
    """
    with _open(path) as handle:
        try:
            return _merged_header(handle, _image_hdu(handle, path))
        except OSError as error:
            raise FrameError(path, _plain_reason(error)) from None


def _merged_header(handle: fitsio.FITS, hdu: int) -> dict[str, Any]:
    merged: dict[str, Any] = {}
    for index in sorted({0, hdu}):
        for record in handle[index].read_header().records():
            name = record["name"]
            if name and name not in ("COMMENT", "HISTORY", "CONTINUE"):
                merged[name] = record["value"]
    return merged


def scan_file(path: str) -> ExposureFacts:
    """Return the facts of one file without touching its pixels.

    Raises
    ------
    FrameError
        If it is not a FITS image, or is shorter than its header says. The message names the reason;
        for a short file it gives the fraction of rows that are there.
    """
    with _open(path) as handle:
        try:
            hdu = _image_hdu(handle, path)
            info = handle[hdu].get_info()
            header = _merged_header(handle, hdu)
            compressed = bool(info["is_compressed_image"])
            start = int(handle[hdu].get_offsets()["data_start"])
        except OSError as error:
            raise FrameError(path, _plain_reason(error)) from None
    dims = list(info["dims"])
    height, width = dims[-2:] if len(dims) >= 2 else (1, dims[-1])
    planes = math.prod(dims[:-2]) if len(dims) > 2 else 1
    status = Path(path).stat()
    bitpix = int(info["img_type"])
    if not compressed and not path.lower().endswith((".gz", ".bz2")):
        need = height * width * planes * abs(bitpix) // 8
        have = status.st_size - start
        if have < need:
            raise FrameError(path, f"the file is cut short: it ends at {max(0.0, have / need):.0%} of its rows")
    return facts_from_header(
        header,
        path,
        width=int(width),
        height=int(height),
        planes=int(planes),
        bitpix=bitpix,
        hdu=hdu,
        size_bytes=status.st_size,
        mtime_ns=status.st_mtime_ns,
    )


class FileRows:
    """Rows of one exposure as float32, read band by band.

    An uncompressed pixel block is read at the offset that fitsio reports and swapped and scaled in a
    kernel; anything else is read whole once by fitsio.

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
        self._whole: F32Array | None = None
        self._start: int | None = None
        with _open(path) as handle:
            try:
                hdu = _image_hdu(handle, path)
                info = handle[hdu].get_info()
                dims = [size for size in info["dims"] if size > 1] if info["ndims"] > 2 else list(info["dims"])
                if len(dims) != 2:
                    shape = " x ".join(str(size) for size in reversed(info["dims"]))
                    raise FrameError(path, f"it is not a two-dimensional image but {shape}")
                self.height, self.width = int(dims[0]), int(dims[1])
                header = handle[hdu].read_header()
                plain = not info["is_compressed_image"] and not path.lower().endswith((".gz", ".bz2"))
                self._type = int(info["img_type"])
                self._zero = float(header.get("BZERO", 0.0) or 0.0)
                self._scale = float(header.get("BSCALE", 1.0) or 1.0)
                blank = header.get("BLANK") if self._type > 0 else None
                self._blank = None if blank is None else int(blank)
                if plain:
                    self._check_block(int(handle[hdu].get_offsets()["data_start"]))
                else:
                    self._whole = self._read_whole(handle[hdu])
            except OSError as error:
                raise FrameError(path, _plain_reason(error)) from None

    def _check_block(self, start: int) -> None:
        have = os.stat(self.path).st_size - start  # noqa: PTH116 - one call, path is text here
        need = self.height * self.width * abs(self._type) // 8
        if have < need:
            raise FrameError(self.path, f"the file is cut short: it ends at {max(0.0, have / need):.0%} of its rows")
        self._start = start

    def _read_whole(self, hdu: Any) -> F32Array:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            raw = hdu.read().reshape(self.height, self.width)
        data = np.ascontiguousarray(raw, dtype=np.float32)
        if self._blank is not None and raw.dtype.kind in "iu":
            data[raw == round(self._zero + self._scale * self._blank)] = np.nan
        return data

    def rows(self, y0: int, y1: int) -> F32Array:
        """Return rows ``y0 <= y < y1`` as a new float32 array, BZERO and BSCALE applied, blanks NaN."""
        if self._start is None:
            assert self._whole is not None
            return self._whole[y0:y1].copy()
        # Read, not mapped: mapped pages of many files would count as this process's memory.
        dtype = np.dtype({8: "u1", 16: ">i2", 32: ">i4", 64: ">i8", -32: ">f4", -64: ">f8"}[self._type])
        count, offset = (y1 - y0) * self.width, self._start + y0 * self.width * dtype.itemsize
        block = np.fromfile(self.path, dtype=dtype, count=count, offset=offset)
        if block.size != count:
            raise FrameError(self.path, "the file became shorter while it was read")
        block = block.reshape(y1 - y0, self.width)
        out = np.empty(block.shape, dtype=np.float32)
        if self._type == 16:
            native = block.view(np.uint16).reshape(-1)
            swap16_to_float32(native, np.float32(self._zero), np.float32(self._scale), out.reshape(-1))
        else:
            out[...] = _plain(block, self._zero, self._scale)
        if self._blank is not None:
            out[block == self._blank] = np.nan
        return out

    def close(self) -> None:
        """Let go of pixels held."""
        self._whole = None


def _plain(block: np.ndarray, zero: float, scale: float) -> np.ndarray:
    if zero == 0.0 and scale == 1.0:
        return block.astype(np.float32)
    # 32-bit integers with an offset do not fit float32 exactly; the sum is made in float64.
    return (block.astype(np.float64) * scale + zero).astype(np.float32)


def read_plane(path: str) -> F32Array:
    """Return the image of a FITS file as float32, shape (height, width).

    Raises
    ------
    FrameError
        As `FileRows`.
    """
    source = FileRows(path)
    return source.rows(0, source.height)


def read_frame(facts: ExposureFacts | str) -> Frame:
    """Read one exposure with its mask.

    Parameters
    ----------
    facts : ExposureFacts or str
        The exposure, or its path (its header is then scanned first).

    Returns
    -------
    Frame
        NaN and blank pixels carry `MaskBit.NO_DATA`, pixels at or over the saturation level `SATURATED`.
        A ``MASK`` extension written by `write_fits` is read back.

    Raises
    ------
    FrameError
        If the file cannot be used.
    """
    known = scan_file(facts) if isinstance(facts, str) else facts
    data = read_plane(known.path)
    mask = np.zeros(data.shape, dtype=np.uint16)
    mark(mask, ~np.isfinite(data), MaskBit.NO_DATA)
    if known.saturation_adu is not None:
        mark(mask, data >= known.saturation_adu, MaskBit.SATURATED)
    stored = _stored_mask(known.path, data.shape)
    if stored is not None:
        mask |= stored
    return Frame(data=data, facts=known, mask=mask if mask.any() else None)


def _stored_mask(path: str, shape: tuple[int, ...]) -> MaskArray | None:
    with _open(path) as handle:
        if len(handle) < 2 or "MASK" not in handle:
            return None
        plane = handle["MASK"].read()
    return plane.astype(np.uint16) if plane.shape == shape else None


def write_fits(
    path: Path,
    data: F32Array,
    *,
    like: str | None = None,
    cards: Mapping[str, Any] | Iterable[tuple[str, Any, str]] = (),
    history: Sequence[str] = (),
    mask: MaskArray | None = None,
    drop: Iterable[str] = (),
    replace: bool = False,
) -> None:
    """Write a float32 FITS image with history and checksums, atomically.

    Parameters
    ----------
    path : Path
        Where to. Its folder is made if missing.
    data : float32 array, shape (height, width)
    like : str, optional
        A FITS file whose cards are carried over, but for those about its layout.
    cards : mapping, or iterable of (keyword, value, comment)
        Further cards; they win over carried ones. A value of None removes the keyword.
    history : sequence of str
        HISTORY lines.
    mask : uint16 array, optional
        Written as an image extension ``MASK`` when any bit is set.
    drop : iterable of str
        Keywords that are not carried over.
    replace : bool
        Whether an existing file may be replaced.

    Raises
    ------
    OutputExists
        If `path` exists and `replace` is false.
    """
    header = fitsio.FITSHDR()
    left_behind = _STRUCTURAL | set(drop)
    new = [(k, v, "") for k, v in cards.items()] if isinstance(cards, Mapping) else list(cards)
    left_behind |= {name for name, _, _ in new}
    if like is not None:
        with _open(like) as handle:
            hdu = _image_hdu(handle, like)
            for record in handle[hdu].read_header().records():
                if record["name"] and record["name"] not in left_behind:
                    header.add_record(record)
    for name, value, comment in new:
        if value is not None:
            header.add_record({"name": name, "value": value, "comment": comment})
    for line in (*history, f"written by Ulvar {__version__}"):
        header.add_record({"name": "HISTORY", "value": line})
    with atomic_path(path, replace=replace) as temporary, fitsio.FITS(str(temporary), "rw") as handle:
        handle.write(np.ascontiguousarray(data, dtype=np.float32), header=header)
        handle[0].write_checksum()
        if mask is not None and mask.any():
            handle.write(mask, extname="MASK", compress="RICE", tile_dims=(1, mask.shape[1]))
            handle["MASK"].write_checksum()
