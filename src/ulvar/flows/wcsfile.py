"""Plate solutions in files: headers of their own, headers of products, and what they say."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry import Wcs, fit_wcs, wcs_from_header
from ulvar.engine import atomic_path
from ulvar.frames import (
    ExposureFacts,
    extensions_of,
    header_of,
    is_fits_path,
    read_frame,
    read_plane,
    scan_file,
    write_fits,
)
from ulvar.frames.fits_header import BESIDE
from ulvar.registration import PixelMap

# What another way of writing a solution would leave beside a new one.
WCS_KEYS = (
    "CDELT1", "CDELT2", "CROTA1", "CROTA2", "PC1_1", "PC1_2", "PC2_1", "PC2_2", "LONPOLE", "LATPOLE", "EQUINOX",
    "A_ORDER", "B_ORDER", "AP_ORDER", "BP_ORDER",
)  # fmt: skip


def describe(wcs: Wcs, facts: ExposureFacts) -> dict[str, object]:
    """Return the numbers of the contract: centre, scale, rotation, parity."""
    ra, dec = wcs.sky((facts.width - 1) / 2, (facts.height - 1) / 2)
    return {
        "ra": float(ra), "dec": float(dec), "scale_arcsec_px": wcs.scale_arcsec_px, "rotation_deg": wcs.rotation_deg,
        "flipped": wcs.flipped, "matched": None, "rms_arcsec": None, "seconds": 0.0,
    }  # fmt: skip


def put_solution(path: Path, wcs: Wcs, note: str, more: Sequence[tuple[str, Any, str]] = ()) -> None:
    """Write a plate solution into the header of a product, whose pixels and other cards stay as they are, atomically.

    `more` are cards that come with it.

    Raises
    ------
    FrameError
        If it cannot be read.
    OSError
        If it cannot be written.
    """
    frame = read_frame(scan_file(str(path)))
    # The maps of a stack stay in its file.
    maps = {
        n: read_plane(f"{path}[{k}]") for k, n in enumerate(extensions_of(str(path))) if n in BESIDE and n != "MASK"
    }
    cards = [*wcs.cards((frame.facts.height, frame.facts.width)), *more]
    write_fits(
        path, frame.data, like=str(path), cards=cards, history=[note], mask=frame.mask, drop=WCS_KEYS,
        replace=True, maps=maps or None,
    )  # fmt: skip


def write_wcs_file(path: Path, wcs: Wcs, note: str, size: tuple[int, int] | None = None) -> None:
    """Write a header-only ``.wcs`` file: FITS cards of 80 characters, atomically; `size` is the picture's height and width."""
    cards = [("SIMPLE", True, "header of a plate solution"), ("BITPIX", 8, ""), ("NAXIS", 0, "")]
    cards += wcs.cards(size)  # type: ignore[arg-type]
    lines = []
    for name, value, comment in cards:
        if isinstance(value, bool):
            text = "T" if value else "F"
        elif isinstance(value, str):
            text = f"'{value:<8s}'"
        elif isinstance(value, int):
            text = str(value)
        else:
            text = f"{value:.15G}"
            text = text if any(letter in text for letter in ".E") else text + ".0"
        padded = text if isinstance(value, str) else f"{text:>20s}"
        lines.append(f"{name:<8s}= {padded:<20s}{' / ' + comment if comment else ''}"[:80].ljust(80))
    lines += [f"HISTORY {note}"[:80].ljust(80), "END".ljust(80)]
    block = "".join(lines)
    block += " " * (-len(block) % 2880)
    with atomic_path(path) as temporary:
        temporary.write_bytes(block.encode("ascii", "replace"))


def read_wcs_file(path: Path) -> Wcs | None:
    """Return the solution of a ``.wcs`` file, or None when it holds none."""
    try:
        content = path.read_bytes()
    except OSError:
        return None
    return _solution_in(content)


# The solutions of a night are asked for again whenever something changes.
@lru_cache(maxsize=4096)
def _solution_in(content: bytes) -> Wcs | None:
    text = content.decode("ascii", "replace")
    header: dict[str, object] = {}
    for start in range(0, len(text), 80):
        card = text[start : start + 80]
        if card.startswith("END") or card[8:10] != "= ":
            continue
        value = card[10:].split(" / ")[0].strip()
        if value.startswith("'"):
            header[card[:8].strip()] = value.strip("'").strip()
        else:
            try:
                header[card[:8].strip()] = float(value)
            except ValueError:
                continue
    return wcs_from_header(header)


def wcs_of(path: str) -> Wcs | None:
    """Return the plate solution of an exposure: its own header's, else that of the ``.wcs`` file beside it.

    Raises
    ------
    FrameError
        If the exposure cannot be read.
    """
    # Camera raw and TIFF hold no solution.
    own = wcs_from_header(header_of(path)) if is_fits_path(path) else None
    if own is not None:
        return own
    place = Path(path)
    stem = ExposureFacts(path).stem
    return read_wcs_file(place.with_name(f"{stem}.wcs"))


def carried_solution(known: Wcs, way: PixelMap, shape: tuple[int, int]) -> Wcs:
    """Return the solution of an exposure whose pixels lead to those of one that is solved.

    Parameters
    ----------
    known : Wcs
        Of the solved one.
    way : PixelMap
        From the exposure's pixels to those of the solved one.
    shape : (int, int)
        Height and width of the exposure [px].
    """
    height, width = shape
    x, y = (g.ravel() for g in np.meshgrid(np.linspace(0, width - 1, _NODES), np.linspace(0, height - 1, _NODES)))
    ra, dec = known.sky(*way(x, y))
    centre = (width - 1) / 2, (height - 1) / 2
    middle = known.sky(*way(np.array([centre[0]]), np.array([centre[1]])))
    start = float(middle[0][0]), float(middle[1][0])
    plain = fit_wcs(x, y, ra, dec, centre=centre, start=start)
    px, py = plain.pixel(ra, dec)
    if np.hypot(px - x, py - y).max() < _STRAIGHT_PX:
        return plain
    return fit_wcs(x, y, ra, dec, centre=centre, start=start, order=5)


# Places each way at which a solution is carried over; a way that is as straight as this needs no distortion [px].
_NODES, _STRAIGHT_PX = 21, 0.005
