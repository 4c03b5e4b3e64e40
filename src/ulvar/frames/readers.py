"""One door to every kind of file: facts without pixels, rows, planes, frames."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Protocol

import numpy as np

from ulvar.engine import F32Array
from ulvar.frames.address import file_of
from ulvar.frames.camera import raw_pixels, scan_raw
from ulvar.frames.clipped import clipped_at
from ulvar.frames.discover import is_raw_name, is_tiff_name
from ulvar.frames.facts import ExposureFacts
from ulvar.frames.fits_header import scan_fits
from ulvar.frames.fits_rows import FileRows, SpooledRows, stored_mask
from ulvar.frames.frame import Frame, MaskBit, mark
from ulvar.frames.tiff import scan_tiff, tiff_pixels


class Rows(Protocol):
    """Rows of one exposure as float32."""

    height: int
    width: int

    def rows(self, y0: int, y1: int) -> F32Array:
        """Return rows ``y0 <= y < y1`` as a new array."""
        ...


def _decoded(path: str) -> F32Array:
    return tiff_pixels(path) if is_tiff_name(file_of(path)) else raw_pixels(path)


def scan_images(path: str) -> list[ExposureFacts]:
    """Return the facts of every image that a file holds, without touching its pixels.

    Raises
    ------
    FrameError
        If the file cannot be used; the message names the reason.
    """
    file = file_of(path)
    if is_tiff_name(file):
        return scan_tiff(path)
    if is_raw_name(file):
        return scan_raw(file)
    return scan_fits(path)


def scan_file(path: str) -> ExposureFacts:
    """Return the facts of one image; of a file that holds several, those of the first.

    Raises
    ------
    FrameError
        As `scan_images`.
    """
    return scan_images(path)[0]


def open_rows(path: str) -> Rows:
    """Return a source of rows of one image.

    Raises
    ------
    FrameError
        If it cannot be read as a two-dimensional image.
    """
    return FileRows(path) if is_fits_path(path) else SpooledRows(_decoded(path))


def read_plane(path: str) -> F32Array:
    """Return one image as float32, shape (height, width).

    Raises
    ------
    FrameError
        As `open_rows`.
    """
    if not is_fits_path(path):
        return _decoded(path)
    source = FileRows(path)
    return source.rows(0, source.height)


def read_frame(facts: ExposureFacts | str, rows: tuple[int, int] | None = None) -> Frame:
    """Read one exposure, or some of its rows, with its mask.

    Parameters
    ----------
    facts : ExposureFacts or str
        The exposure, or its path (its header is then scanned first).
    rows : (int, int), optional
        The first row and the one behind the last.

    Returns
    -------
    Frame
        NaN and blank pixels carry `MaskBit.NO_DATA`, pixels at or over the saturation level `SATURATED` (where the header tells
        none, those that are clipped, see `clipped_at`), those from where the response bends on `NONLINEAR`.
        A ``MASK`` extension written by `write_fits` is read back.

    Raises
    ------
    FrameError
        If the file cannot be used.
    """
    known = scan_file(facts) if isinstance(facts, str) else facts
    source = open_rows(known.path)
    shape = source.height, source.width
    data = source.rows(*(rows or (0, source.height)))
    mask = np.zeros(data.shape, dtype=np.uint16)
    mark(mask, ~np.isfinite(data), MaskBit.NO_DATA)
    full = known.saturation_adu if known.saturation_adu is not None else clipped_at(data, known.bitpix)
    if full is not None:
        mark(mask, data >= full, MaskBit.SATURATED)
    if known.nonlinear_adu is not None:
        mark(mask, data >= known.nonlinear_adu, MaskBit.NONLINEAR)
    if isinstance(source, FileRows) and source.masked and (stored := stored_mask(known.path, shape, rows)) is not None:
        mask |= stored
    return Frame(data=data, facts=known, mask=mask if mask.any() else None)


def is_fits_path(path: str) -> bool:
    """Whether an exposure is read as FITS (everything that does not look like TIFF or camera raw)."""
    file = file_of(path)
    return not (is_tiff_name(file) or is_raw_name(file))


def carried_cards(facts: ExposureFacts, given: Iterable[str] = ()) -> tuple[str | None, list[tuple[str, Any, str]]]:
    """Return what a product of an exposure carries on: the FITS file whose cards are copied, or cards made of facts.

    The second is for exposures that are not FITS; names that are `given` otherwise are not among them.
    """
    if is_fits_path(facts.path):
        return facts.path, []
    start = facts.start_utc.strftime("%Y-%m-%dT%H:%M:%S.%f") if facts.start_utc else None
    made: list[tuple[str, Any, str]] = [
        ("EXPTIME", facts.exposure_s, "[s]"),
        ("DATE-OBS", start, "start of the exposure, UTC"),
        ("FILTER", facts.filter or None, ""),
        ("OBJECT", facts.object or None, ""),
        ("INSTRUME", facts.camera or None, ""),
        ("GAIN", facts.gain, "camera setting"),
        ("BAYERPAT", facts.cfa or None, "Bayer (CFA) pattern"),
        ("APTDIA", facts.aperture_mm, "[mm]"),
    ]
    known = set(given)
    return None, [card for card in made if card[0] not in known]
