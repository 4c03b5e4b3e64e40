"""FITS out: atomic, with history and checksums."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import fitsio
import numpy as np

from ulvar import __version__
from ulvar.engine import F32Array, MaskArray, atomic_path
from ulvar.frames.checksum import PLACEHOLDER, block_sum, fold, stamped
from ulvar.frames.fits_header import image_hdu
from ulvar.frames.fits_layout import units_of
from ulvar.frames.fits_open import open_fits
from ulvar.frames.gate import reading

_BUFFER_PIXELS = 256 * 1024
# Keywords as the standard has them (4.1.2.1), and longer ones of several words; a damaged one is not carried on.
_KEYWORD = re.compile(r"[A-Z0-9_-]{1,8}|[A-Z0-9_.-]{1,30}( [A-Z0-9_.-]{1,30}){0,5}", re.IGNORECASE)
# Of cards that hold nothing but words so many are carried on: a header of tens of thousands takes seconds to write.
_WORDS, _MOST_WORDS = ("HISTORY", "COMMENT", ""), 2000
# Keywords that describe the file's layout, not the exposure; the writer makes its own.
_STRUCTURAL = {
    "SIMPLE", "BITPIX", "NAXIS", "NAXIS1", "NAXIS2", "NAXIS3", "EXTEND", "BZERO", "BSCALE", "BLANK",
    "CHECKSUM", "DATASUM", "END", "XTENSION", "PCOUNT", "GCOUNT", "TFIELDS", "EXTNAME", "EXTVER",
    "ZIMAGE", "ZTILE1", "ZTILE2", "ZCMPTYPE", "ZQUANTIZ", "ZDITHER0", "ZBITPIX", "ZNAXIS", "ZNAXIS1",
    "ZNAXIS2", "ZSIMPLE", "ZEXTEND", "ZBLANK", "DATAMIN", "DATAMAX",
}  # fmt: skip


def header_for(
    like: str | None,
    cards: Mapping[str, Any] | Iterable[tuple[str, Any, str]],
    history: Sequence[str] = (),
    drop: Iterable[str] = (),
) -> fitsio.FITSHDR:
    """Return the header of a product; see `write_fits`."""
    header = fitsio.FITSHDR()
    left_behind = _STRUCTURAL | set(drop)
    new = [(k, v, "") for k, v in cards.items()] if isinstance(cards, Mapping) else list(cards)
    left_behind |= {name for name, _, _ in new}
    if like is not None:
        with reading(like, "its header"), open_fits(like) as handle:
            hdu = image_hdu(handle, like)
            words = 0
            for record in handle[hdu].read_header().records():
                words += record["name"] in _WORDS
                if record["name"] in _WORDS and words > _MOST_WORDS:
                    continue
                if _KEYWORD.fullmatch(record["name"] or "") and record["name"] not in left_behind:
                    header.add_record(record)
    for name, value, comment in new:
        if value is not None:
            header.add_record({"name": name, "value": value, "comment": comment})
    for line in (*history, f"written by Ulvar {__version__}"):
        # Cards hold ASCII (FITS standard 4.0, section 4.1.2.3); file names and objects need not.
        header.add_record({"name": "HISTORY", "value": line.encode("ascii", "replace").decode()})
    return header


@contextmanager
def _created(path: Path) -> Iterator[fitsio.FITS]:
    """Open a file for writing, or for more; its own name is plain, its folder's may hold anything (see `open_fits`)."""
    folder = os.open(path.parent, os.O_RDONLY | os.O_DIRECTORY)
    try:
        with fitsio.FITS(f"/proc/self/fd/{folder}/{path.name}", "rw") as handle:
            yield handle
    finally:
        os.close(folder)


def write_fits(
    path: Path,
    data: F32Array,
    *,
    like: str | None = None,
    cards: Mapping[str, Any] | Iterable[tuple[str, Any, str]] = (),
    history: Sequence[str] = (),
    mask: MaskArray | None = None,
    maps: Mapping[str, np.ndarray] | None = None,
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
    maps : mapping of str to array, optional
        What is known of each pixel, written as image extensions: names of `ulvar.frames.fits_header.BESIDE`. Whole numbers
        are compressed (RICE, FITS standard 4.0, section 10.4.1), the others stand as they are.
    drop : iterable of str
        Keywords that are not carried over.
    replace : bool
        Whether an existing file may be replaced.

    Raises
    ------
    OutputExists
        If `path` exists and `replace` is false.
    """
    header = header_for(like, cards, history, drop)
    pixels = np.ascontiguousarray(data, dtype=np.float32)
    with atomic_path(path, replace=replace) as temporary:
        with _created(temporary) as handle:
            handle.create_image_hdu(dims=list(pixels.shape), dtype="f4")
            handle[0].write_keys(header, clean=False)
            for name in ("DATASUM", "CHECKSUM"):
                handle[0].write_key(name, PLACEHOLDER)
            start = int(handle[0].get_offsets()["data_start"])
        _write_pixels(temporary, start, pixels)
        beside = [("MASK", mask)] if mask is not None and mask.any() else []
        beside += list((maps or {}).items())
        if beside:
            with _created(temporary) as handle:
                for name, plane in beside:
                    if np.issubdtype(plane.dtype, np.integer):
                        handle.write(plane, extname=name, compress="RICE", tile_dims=(1, plane.shape[1]))
                    else:
                        handle.write(plane, extname=name)
                    for keyword in ("DATASUM", "CHECKSUM"):
                        handle[name].write_key(keyword, PLACEHOLDER)
            _stamp_extensions(temporary)


def _write_pixels(path: Path, start: int, pixels: F32Array) -> None:
    """Write the pixel block at the offset that fitsio gave it, summing on the way, and stamp the header."""
    from ulvar.frames._kernels import float32_to_swapped

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


def _stamp_extensions(path: Path) -> None:
    """Stamp the units behind the first; CFITSIO's own stamps tell the time, by which equal products would differ."""
    handle = os.open(path, os.O_RDWR)
    try:
        for unit in units_of(lambda start, count: os.pread(handle, count, start), str(path))[1:]:
            data = os.pread(handle, unit.end - unit.data_start, unit.data_start)
            header = os.pread(handle, unit.data_start - unit.start, unit.start)
            _write_all(handle, memoryview(stamped(header, block_sum(data))), unit.start)
    finally:
        os.close(handle)


def _write_all(handle: int, block: memoryview, offset: int) -> None:
    done = 0
    while done < len(block):
        done += os.pwrite(handle, block[done:], offset + done)
