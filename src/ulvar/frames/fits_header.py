"""FITS headers: opening, cards, facts of every image. Pixels are never touched; raw files are only ever read."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import fitsio

from ulvar.engine import percent
from ulvar.frames.address import Address, split_address
from ulvar.frames.dialects import facts_from_header
from ulvar.frames.facts import ExposureFacts
from ulvar.frames.fits_open import is_packed, open_fits
from ulvar.frames.frame import FrameError
from ulvar.frames.gate import reading

_IMAGE_HDU = 0
# Planes that Ulvar writes beside the pixels: they are about the image, not images of their own.
BESIDE = ("MASK", "REJECTED", "COUNT MAP", "WEIGHT MAP", "NOISE MAP", "REJECTED LOW", "REJECTED HIGH", "PSF")


def _is_image(handle: fitsio.FITS, index: int, *, beside: bool = False) -> bool:
    info = handle[index].get_info()
    if info["hdutype"] != _IMAGE_HDU or info["ndims"] == 0 or min(info["dims"]) == 0:
        return False
    return beside or index == 0 or str(info.get("extname") or "").strip().upper() not in BESIDE


def extensions_of(path: str) -> list[str]:
    """Return the names of a FITS file's units, the first included; empty where a unit has none.

    Raises
    ------
    FrameError
        If it cannot be read.
    """
    with reading(path, "its extensions"), open_fits(path) as handle:
        return [str(handle[k].get_extname() or "").strip().upper() for k in range(len(handle))]


def image_hdu(handle: fitsio.FITS, path: str) -> int:
    """Return the extension that an address names, else the first that holds an image.

    Raises
    ------
    FrameError
        If there is none.
    """
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
    with reading(path, "its header"), open_fits(path) as handle:
        return _merged_header(handle, image_hdu(handle, path))


def header_cards(path: str) -> list[tuple[str, str, str]]:
    """Return (keyword, value, comment) of every card as it stands in the file, comments and history included.

    Cards of the primary header come first where the image is in an extension.

    Raises
    ------
    FrameError
        As `header_of`.
    """
    with reading(path, "its header"), open_fits(path) as handle:
        return [
            (name, str(value).strip(), comment)
            for name, value, comment in _cards(handle, image_hdu(handle, path))
            if name != "CONTINUE"
        ]


def _cards(handle: fitsio.FITS, hdu: int) -> Iterator[tuple[str, Any, str]]:
    """Yield keyword, value and comment of every named card: those of the primary header, then the image's own."""
    for index in sorted({0, hdu}):
        for record in handle[index].read_header().records():
            if record["name"]:
                yield record["name"], record["value"], str(record.get("comment") or "").strip()


def _merged_header(handle: fitsio.FITS, hdu: int) -> dict[str, Any]:
    texts = ("COMMENT", "HISTORY", "CONTINUE")
    return {name: value for name, value, _ in _cards(handle, hdu) if name not in texts}


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
    found: list[ExposureFacts] = []
    with reading(path, "its header"), open_fits(path) as handle:
        if address.hdu is None:
            hdus = [i for i in range(len(handle)) if _is_image(handle, i)]
        else:
            hdus = [image_hdu(handle, path)]
        if not hdus:
            raise FrameError(path, "it holds no image")
        for hdu in hdus:
            found += _scan_hdu(handle, address, hdu, several=len(hdus) > 1)
    return found


def _scan_hdu(handle: fitsio.FITS, address: Address, hdu: int, *, several: bool) -> list[ExposureFacts]:
    info = handle[hdu].get_info()
    header = _merged_header(handle, hdu)
    dims = list(info["dims"])
    height, width = dims[-2:] if len(dims) >= 2 else (1, dims[-1])
    planes = math.prod(dims[:-2]) if len(dims) > 2 else 1
    status = Path(address.file).stat()
    bitpix = int(info["img_type"])
    if not info["is_compressed_image"] and not is_packed(address.file):
        need = height * width * planes * abs(bitpix) // 8
        have = status.st_size - int(handle[hdu].get_offsets()["data_start"])
        if have < need:
            raise FrameError(
                address.text, f"the file is cut short: it ends at {percent(max(0.0, have / need))} of its rows"
            )
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
