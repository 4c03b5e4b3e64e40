"""FITS in and out. Headers, compression and writing are fitsio's; raw files are only ever read."""

from __future__ import annotations

import math
import os
import tempfile
import warnings
import weakref
import zlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

import fitsio
import numpy as np

from ulvar import __version__
from ulvar.engine import F32Array, MaskArray, atomic_path
from ulvar.frames._kernels import float32_to_swapped, swap16_to_float32
from ulvar.frames.address import Address, split_address
from ulvar.frames.checksum import PLACEHOLDER, fold, stamped
from ulvar.frames.dialects import facts_from_header
from ulvar.frames.facts import ExposureFacts
from ulvar.frames.frame import FrameError

_IMAGE_HDU = 0
_SPECIAL = set("[](){}+*?!")
_BUFFER_PIXELS = 256 * 1024
# Planes that Ulvar writes beside the pixels: they are about the image, not images of their own.
_BESIDE = ("MASK", "REJECTED")
# Keywords that describe the file's layout, not the exposure; the writer makes its own.
_STRUCTURAL = {
    "SIMPLE", "BITPIX", "NAXIS", "NAXIS1", "NAXIS2", "NAXIS3", "EXTEND", "BZERO", "BSCALE", "BLANK",
    "CHECKSUM", "DATASUM", "END", "XTENSION", "PCOUNT", "GCOUNT", "TFIELDS", "EXTNAME", "EXTVER",
    "ZIMAGE", "ZTILE1", "ZTILE2", "ZCMPTYPE", "ZQUANTIZ", "ZDITHER0", "ZBITPIX", "ZNAXIS", "ZNAXIS1",
    "ZNAXIS2", "ZSIMPLE", "ZEXTEND", "ZBLANK", "DATAMIN", "DATAMAX",
}  # fmt: skip


def _open(path: str) -> fitsio.FITS:
    file = split_address(path).file
    place = Path(file)
    try:
        if not place.is_file():
            raise FrameError(path, "there is no such file")
        if place.stat().st_size == 0:
            raise FrameError(path, "the file is empty (0 bytes)")
        if _SPECIAL & set(file):
            # CFITSIO takes these characters of a name for its own language; a descriptor has a plain name.
            handle = os.open(file, os.O_RDONLY)
            try:
                return fitsio.FITS(f"/proc/self/fd/{handle}", "r")
            finally:
                os.close(handle)
        return fitsio.FITS(file, "r")
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


def _is_image(handle: fitsio.FITS, index: int, *, beside: bool = False) -> bool:
    info = handle[index].get_info()
    if info["hdutype"] != _IMAGE_HDU or info["ndims"] == 0 or min(info["dims"]) == 0:
        return False
    return beside or index == 0 or str(info.get("extname") or "").strip().upper() not in _BESIDE


def _image_hdu(handle: fitsio.FITS, path: str) -> int:
    wanted = split_address(path).hdu
    if wanted is not None:
        if wanted >= len(handle) or not _is_image(handle, wanted, beside=True):
            raise FrameError(path, f"it holds no image in extension {wanted}")
        return wanted
    for index in range(len(handle)):
        if _is_image(handle, index):
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


def header_cards(path: str) -> list[tuple[str, str, str]]:
    """Return (keyword, value, comment) of every card as it stands in the file, comments and history included.

    Cards of the primary header come first where the image is in an extension.

    Raises
    ------
    FrameError
        As `header_of`.
    """
    with _open(path) as handle:
        try:
            cards = []
            for index in sorted({0, _image_hdu(handle, path)}):
                for record in handle[index].read_header().records():
                    name = record["name"] or ""
                    if name in ("COMMENT", "HISTORY"):
                        cards.append((name, str(record["value"]).strip(), ""))
                    elif name and name != "CONTINUE":
                        cards.append((name, str(record["value"]).strip(), str(record.get("comment") or "").strip()))
            return cards
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


def scan_fits(path: str) -> list[ExposureFacts]:
    """Return the facts of every image of a FITS file without touching its pixels.

    A file with one image gives one entry under its own path; of cubes and of files with several image
    extensions each plane is an entry under its address (see `ulvar.frames.address`). The header of a cube
    dates its first plane only: the others have no time rather than a wrong one.

    Raises
    ------
    FrameError
        If it is not a FITS image, or is shorter than its header says. The message names the reason;
        for a short file it gives the fraction of rows that are there.
    """
    address = split_address(path)
    with _open(path) as handle:
        try:
            if address.hdu is None:
                hdus = [i for i in range(len(handle)) if _is_image(handle, i)]
            else:
                hdus = [_image_hdu(handle, path)]
            if not hdus:
                raise FrameError(path, "it holds no image")
            found: list[ExposureFacts] = []
            for hdu in hdus:
                found += _scan_hdu(handle, address, hdu, several=len(hdus) > 1)
        except OSError as error:
            raise FrameError(path, _plain_reason(error)) from None
    return found


def _scan_hdu(handle: fitsio.FITS, address: Address, hdu: int, *, several: bool) -> list[ExposureFacts]:
    info = handle[hdu].get_info()
    header = _merged_header(handle, hdu)
    dims = list(info["dims"])
    height, width = dims[-2:] if len(dims) >= 2 else (1, dims[-1])
    planes = math.prod(dims[:-2]) if len(dims) > 2 else 1
    status = Path(address.file).stat()
    bitpix = int(info["img_type"])
    if not info["is_compressed_image"] and not address.file.lower().endswith((".gz", ".bz2")):
        need = height * width * planes * abs(bitpix) // 8
        have = status.st_size - int(handle[hdu].get_offsets()["data_start"])
        if have < need:
            raise FrameError(address.text, f"the file is cut short: it ends at {max(0.0, have / need):.0%} of its rows")
    if planes == 1:
        wanted: list[int | None] = [None]
    elif address.plane is not None:
        if address.plane >= planes:
            raise FrameError(address.text, f"it holds {planes} planes only")
        wanted = [address.plane]
    else:
        wanted = list(range(planes))
    result = []
    for plane in wanted:
        alone = plane is None and not several and address.hdu is None
        path = address.file if alone else Address(address.file, hdu, plane).text
        facts = facts_from_header(
            header, path, width=int(width), height=int(height), planes=int(planes), bitpix=bitpix, hdu=hdu,
            size_bytes=status.st_size, mtime_ns=status.st_mtime_ns,
        )  # fmt: skip
        if plane:
            facts = replace(facts, start_utc=None, mid_utc=None)
        result.append(facts)
    return result


class SpooledRows:
    """Rows of an unpacked image, kept in an unnamed temporary file that goes when the object does."""

    def __init__(self, data: F32Array) -> None:
        self.height, self.width = data.shape
        with tempfile.TemporaryFile(prefix="ulvar-") as spool:
            data.tofile(spool)
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
        with _open(path) as handle:
            try:
                hdu = _image_hdu(handle, path)
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
                plain = not info["is_compressed_image"] and not self._file.lower().endswith((".gz", ".bz2"))
                self._type = int(info["img_type"])
                self._zero = float(header.get("BZERO", 0.0) or 0.0)
                self._scale = float(header.get("BSCALE", 1.0) or 1.0)
                blank = header.get("BLANK") if self._type > 0 else None
                self._blank = None if blank is None else int(blank)
                if plain:
                    skip = plane * self.height * self.width * abs(self._type) // 8
                    self._check_block(int(handle[hdu].get_offsets()["data_start"]) + skip)
                else:
                    self._unpacked(handle[hdu], hdu, planes, plane)
            except OSError as error:
                raise FrameError(path, _plain_reason(error)) from None

    def every(self, step: int) -> F32Array:
        """Return every `step`-th pixel of every `step`-th row: a quick look that touches little of a plain file."""
        picked = [self.rows(y, y + 1)[0, ::step] for y in range(0, self.height, step)]
        return np.stack(picked)

    @property
    def plain(self) -> bool:
        """Whether the pixels lie uncompressed in the file, so that single rows cost little."""
        return self._start is not None

    def _check_block(self, start: int) -> None:
        have = os.stat(self._file).st_size - start  # noqa: PTH116 - one call, path is text here
        need = self.height * self.width * abs(self._type) // 8
        if have < need:
            raise FrameError(self.path, f"the file is cut short: it ends at {max(0.0, have / need):.0%} of its rows")
        self._start = start

    def _unpacked(self, image: Any, hdu: int, planes: int, plane: int) -> None:
        if planes == 1 and image.get_info()["ndims"] == 2 and not self._file.lower().endswith((".gz", ".bz2")):
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
            try:
                with _open(self.path) as handle:
                    out[...] = self._tiles(handle[self._tiled], y0, y1)
            except OSError as error:
                raise FrameError(self.path, _plain_reason(error)) from None
            return
        assert self._start is not None
        # Read, not mapped: mapped pages of many files would count as this process's memory.
        dtype = np.dtype({8: "u1", 16: ">i2", 32: ">i4", 64: ">i8", -32: ">f4", -64: ">f8"}[self._type])
        count, offset = (y1 - y0) * self.width, self._start + y0 * self.width * dtype.itemsize
        if self._type == 16 and self._blank is None:
            self._swap_into(offset, out.reshape(-1))
            return
        block = np.fromfile(self._file, dtype=dtype, count=count, offset=offset)
        if block.size != count:
            raise FrameError(self.path, "the file became shorter while it was read")
        block = block.reshape(y1 - y0, self.width)
        out[...] = _plain(block, self._zero, self._scale)
        if self._blank is not None:
            out[block == self._blank] = np.nan

    def _swap_into(self, offset: int, out: F32Array) -> None:
        """Read 16-bit pixels through a buffer that stays in the cache: no second copy of the frame is made."""
        buffer = np.empty(min(out.size, _BUFFER_PIXELS), dtype=np.uint16)
        view = buffer.data.cast("B")
        zero, scale = np.float32(self._zero), np.float32(self._scale)
        handle = os.open(self._file, os.O_RDONLY)
        try:
            done = 0
            while done < out.size:
                size = min(buffer.size, out.size - done)
                if os.preadv(handle, [view[: 2 * size]], offset + 2 * done) != 2 * size:
                    raise FrameError(self.path, "the file became shorter while it was read")
                swap16_to_float32(buffer[:size], zero, scale, out[done : done + size])
                done += size
        finally:
            os.close(handle)


def _plain(block: np.ndarray, zero: float, scale: float) -> np.ndarray:
    if zero == 0.0 and scale == 1.0:
        return block.astype(np.float32)
    # 32-bit integers with an offset do not fit float32 exactly; the sum is made in float64.
    return (block.astype(np.float64) * scale + zero).astype(np.float32)


def stored_mask(path: str, shape: tuple[int, ...]) -> MaskArray | None:
    """Return the mask plane that `write_fits` wrote beside an image, or None."""
    with _open(path) as handle:
        if len(handle) < 2 or "MASK" not in handle:
            return None
        plane = handle["MASK"].read()
    return plane.astype(np.uint16) if plane.shape == shape else None


@contextmanager
def _created(path: Path, *, new: bool = True) -> Iterator[fitsio.FITS]:
    """Open a file for writing, whatever characters its name and folder hold (see `_open`)."""
    if not _SPECIAL & set(str(path)):
        with fitsio.FITS(str(path), "rw") as handle:
            yield handle
        return
    folder = os.open(path.parent, os.O_RDONLY | os.O_DIRECTORY)
    plain = f".{os.getpid()}-{zlib.crc32(path.name.encode()):08x}.fits"
    if not new:
        path.replace(path.with_name(plain))
    try:
        with fitsio.FITS(f"/proc/self/fd/{folder}/{plain}", "rw") as handle:
            yield handle
        path.with_name(plain).replace(path)
    finally:
        path.with_name(plain).unlink(missing_ok=True)
        os.close(folder)


def write_fits(
    path: Path,
    data: F32Array,
    *,
    like: str | None = None,
    cards: Mapping[str, Any] | Iterable[tuple[str, Any, str]] = (),
    history: Sequence[str] = (),
    mask: MaskArray | None = None,
    rejected: np.ndarray | None = None,
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
        A FITS file (or the address of one of its images) whose cards are carried over, but for those about
        its layout.
    cards : mapping, or iterable of (keyword, value, comment)
        Further cards; they win over carried ones. A value of None removes the keyword.
    history : sequence of str
        HISTORY lines.
    mask : uint16 array, optional
        Written as an image extension ``MASK`` when any bit is set.
    rejected : uint16 array, optional
        How many frames were rejected at each pixel; written as an image extension ``REJECTED``.
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
    pixels = np.ascontiguousarray(data, dtype=np.float32)
    with atomic_path(path, replace=replace) as temporary:
        with _created(temporary) as handle:
            handle.create_image_hdu(dims=list(pixels.shape), dtype="f4")
            handle[0].write_keys(header, clean=False)
            for name in ("DATASUM", "CHECKSUM"):
                handle[0].write_key(name, PLACEHOLDER)
            start = int(handle[0].get_offsets()["data_start"])
        _write_pixels(temporary, start, pixels)
        beside = [(n, p) for n, p in (("MASK", mask), ("REJECTED", rejected)) if p is not None and p.any()]
        if beside:
            with _created(temporary, new=False) as handle:
                for name, plane in beside:
                    handle.write(plane, extname=name, compress="RICE", tile_dims=(1, plane.shape[1]))
                    handle[name].write_checksum()


def _write_pixels(path: Path, start: int, pixels: F32Array) -> None:
    """Write the pixel block at the offset that fitsio gave it, summing on the way, and stamp the header."""
    words = pixels.reshape(-1).view(np.uint32)
    buffer = np.empty(min(words.size, _BUFFER_PIXELS), dtype=np.uint32)
    handle = os.open(path, os.O_RDWR)
    try:
        total = done = 0
        while done < words.size:
            size = min(buffer.size, words.size - done)
            total += int(float32_to_swapped(words[done : done + size], buffer[:size]))
            _write_all(handle, buffer[:size].data.cast("B"), start + 4 * done)
            done += size
        # A FITS file is made of blocks of 2880 bytes; the last one is filled with zeros.
        end = start + 4 * words.size
        os.truncate(handle, end)
        os.truncate(handle, -(-end // 2880) * 2880)
        _write_all(handle, memoryview(stamped(os.pread(handle, start, 0), fold(total))), 0)
    finally:
        os.close(handle)


def _write_all(handle: int, block: memoryview, offset: int) -> None:
    done = 0
    while done < len(block):
        done += os.pwrite(handle, block[done:], offset + done)
