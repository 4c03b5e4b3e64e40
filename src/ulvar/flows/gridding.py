"""The pixel grid that is asked of a stack: how large its pixels are, which way is up, which part is wanted."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from ulvar.astrometry import Wcs
from ulvar.calibration import Region
from ulvar.engine import Failed
from ulvar.flows.align import Aligned
from ulvar.flows.starfind import Scored
from ulvar.flows.wcsfile import wcs_of
from ulvar.frames import ExposureFacts
from ulvar.stacking import Frame2D, GridOptions, frame_exposures, turn_of


def grid_for(
    aligned: Sequence[Aligned], reference: Scored, solution: Wcs | None, options: GridOptions
) -> Frame2D | Failed:
    """Return the grid for exposures that are aligned on a reference, or why there is none.

    Parameters
    ----------
    aligned : sequence of Aligned
    reference : Scored
    solution : Wcs, optional
        Of the reference; by default that of its header, or of the ``.wcs`` file beside it.
    options : GridOptions
    """
    facts = reference.facts
    turn_deg, mirrored = options.turn_deg, False
    if options.north_up:
        sky = solution or wcs_of(facts.path)
        if sky is None:
            return Failed(f"where north is, is not known: solve the plate of {Path(facts.path).name} first", facts.path)
        north_deg, mirrored = sky.north_up((facts.width - 1) / 2, (facts.height - 1) / 2)
        turn_deg += north_deg
    if options.part is not None:
        x0, y0, width, height = options.part
        region = Region(x0, y0, x0 + width, y0 + height)
        if not region.inside(facts.width, facts.height):
            size = f"{facts.width} x {facts.height} px"
            return Failed(f"the part {region.text} lies outside the reference of {size}", facts.path)
    return frame_exposures(
        [a.transform for a in aligned], [(a.scored.facts.height, a.scored.facts.width) for a in aligned],
        (facts.height, facts.width), options.framing, turned=turn_of(options.scale, turn_deg, mirrored), part=options.part,
    )  # fmt: skip


# Sizes and scales of pixels by other names, which are those of the reference's.
_SIZES = ("YPIXSZ", "PIXSIZE1", "PIXSIZE2", "PIXSIZE", "SECPIX", "SECPIX1", "SECPIX2", "SCALE")


def pixel_cards(facts: ExposureFacts, scale: float) -> list[tuple[str, Any, str]]:
    """Return what a header says of pixels that are not as large as the reference's; nothing where they are."""
    if scale == 1:
        return []
    size, angle = facts.pixel_size_um, facts.scale_arcsec_px
    return [
        *((name, None, "") for name in _SIZES),
        ("XPIXSZ", None if size is None else size / scale, "[um] of a pixel of the sensor, as large as these"),
        ("PIXSCALE", None if angle is None else angle / scale, "[arcsec/px]"),
    ]
