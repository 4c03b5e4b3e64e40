"""TIFF in: grey or colour, one page or many; each page and each colour is an image of its own."""

from __future__ import annotations

import json
import logging
import math
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import tifffile

from ulvar.engine import F32Array, counted
from ulvar.frames.address import Address, split_address
from ulvar.frames.camera import exif_facts
from ulvar.frames.dialects import facts_from_header
from ulvar.frames.facts import ExposureFacts
from ulvar.frames.fits_layout import MAX_PIXELS, MAX_PLANES
from ulvar.frames.frame import FrameError
from ulvar.frames.gate import BEYOND_ADU, reading, without_nonsense

# It tells in the log what it then raises; whoever reads a sentence needs no second one.
logging.getLogger("tifffile").setLevel(logging.CRITICAL)
# Who wrote a file stands in its tag Software: of its own files Ulvar knows how rows and values lie.
SOFTWARE = "Ulvar"
# No packing that TIFF knows makes pixels this many times smaller.
_MOST_PACKED = 1100


def _pages(path: str) -> tifffile.TiffFile:
    try:
        return tifffile.TiffFile(path)
    except tifffile.TiffFileError:
        raise FrameError(path, "this is not a TIFF file") from None


def _layout(page: Any, path: str) -> tuple[int, int, int]:
    """Return (samples a pixel, height, width) of a page."""
    samples = int(page.samplesperpixel)
    height, width = int(page.imagelength), int(page.imagewidth)
    if math.prod(page.shape) != samples * height * width:
        shape = " x ".join(str(n) for n in page.shape)
        raise FrameError(path, f"its page is {shape}, which is no plane of pixels")
    size, kind = samples * height * width, page.dtype
    if size == 0 or kind is None:
        raise FrameError(path, "it holds a page without pixels")
    if height * width > MAX_PIXELS:
        raise FrameError(path, f"it promises {width} x {height} pixels; up to {MAX_PIXELS // 10**6} million are read")
    have = Path(path).stat().st_size
    if size * kind.itemsize > have * (_MOST_PACKED if int(page.compression) > 1 else 1):
        raise FrameError(path, f"the file is cut short: {have / 1e6:.1f} MB for {width} x {height} pixels")
    return samples, height, width


def _told(page: Any) -> dict[str, Any] | None:
    """Return what Ulvar said of a picture that it wrote; None for files of others, and for what was spoiled."""
    software = page.tags.get("Software")
    if software is None or str(software.value).strip() != SOFTWARE:
        return None
    try:
        told = json.loads(page.description)
    except (ValueError, RecursionError):
        return None
    if not isinstance(told, dict) or not isinstance(told.get("header"), dict):
        return None
    return told


def _header_told(told: dict[str, Any]) -> dict[str, Any]:
    """Return the cards among what was said, whatever stands there."""
    return {str(k): v for k, v in told["header"].items() if isinstance(v, str | int | float)}


def _in_adu(picture: np.ndarray, told: dict[str, Any]) -> F32Array:
    """Return an own picture as it was before it was written: rows from the bottom, values in ADU, NaN for no data."""
    data = picture[::-1].astype(np.float32)
    blank, scale, zero = (told.get(name) for name in ("blank", "scale", "zero"))
    empty = data == np.float32(blank) if isinstance(blank, int | float) and abs(blank) < BEYOND_ADU else None
    if all(isinstance(v, int | float) and abs(v) < BEYOND_ADU for v in (scale, zero)):
        data = (data.astype(np.float64) * float(scale or 0) + float(zero or 0)).astype(np.float32)
    if empty is not None:
        data[empty] = np.nan
    return data


def scan_tiff(path: str) -> list[ExposureFacts]:
    """Return the facts of every image in a TIFF file without touching its pixels.

    Raises
    ------
    FrameError
        If it cannot be read.
    """
    address = split_address(path)
    with reading(path, "its tags"), _pages(address.file) as tiff:
        if not tiff.pages:
            raise FrameError(path, "it holds no image")
        if len(tiff.pages) > MAX_PLANES:
            raise FrameError(path, f"it holds more than {MAX_PLANES} pages")
        layouts = [_layout(page, address.file) for page in tiff.pages]
        bits = int(tiff.pages[0].bitspersample or 0) if not isinstance(tiff.pages[0].bitspersample, tuple) else 16
        kind = np.dtype(tiff.pages[0].dtype or np.uint16).kind
        told = _told(tiff.pages[0])
    wanted = [(i, s) for i, (samples, _, _) in enumerate(layouts) for s in range(samples)]
    if address.hdu is not None:
        wanted = [(i, s) for i, s in wanted if i == address.hdu and s == (address.plane or 0)]
        if not wanted:
            raise FrameError(path, f"it holds {counted(len(layouts), 'page')} only")
    known = {"bitpix": -bits if kind == "f" else bits, "planes": len(wanted)}
    if told is None:
        base = exif_facts(address.file, **known)
    else:
        status = Path(address.file).stat()
        known |= {"size_bytes": status.st_size, "mtime_ns": status.st_mtime_ns}
        base = facts_from_header(_header_told(told), address.file, **known)
    result = []
    for page, sample in wanted:
        samples, height, width = layouts[page]
        alone = address.hdu is None and len(layouts) == 1 and samples == 1
        facts = replace(
            base, path=address.file if alone else Address(address.file, page, sample).text, width=width,
            height=height, hdu=page,
        )  # fmt: skip
        if samples in (3, 4):
            facts = replace(facts, filter="RGBA"[sample], origins={**facts.origins, "filter": "guessed"})
        if page > 0:
            facts = replace(facts, start_utc=None, mid_utc=None)
        result.append(facts)
    return result


def tiff_pixels(path: str) -> F32Array:
    """Return one image of a TIFF file as float32, shape (height, width).

    Raises
    ------
    FrameError
        If it cannot be read, or holds several images and the path names none.
    """
    address = split_address(path)
    with reading(path, "its pixels"), _pages(address.file) as tiff:
        index = address.hdu or 0
        if index >= len(tiff.pages):
            raise FrameError(path, f"it holds {counted(len(tiff.pages), 'page')} only")
        page = tiff.pages[index]
        samples, height, width = _layout(page, address.file)
        if address.hdu is None and (len(tiff.pages) > 1 or samples > 1):
            raise FrameError(path, f"it holds {counted(len(tiff.pages) * samples, 'image')}; name one")
        data = page.asarray()
        if samples > 1:
            sample = address.plane or 0
            separate = int(page.planarconfig) == int(tifffile.PLANARCONFIG.SEPARATE)
            data = data[sample] if separate else data[..., sample]
        told = _told(tiff.pages[0])
        if told is not None:
            data = _in_adu(data.reshape(height, width), told)
        return without_nonsense(np.array(data.reshape(height, width), dtype=np.float32, order="C"))
