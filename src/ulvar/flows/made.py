"""What combining exposures gives, before it is written."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field

from ulvar.combine import RowSource
from ulvar.engine import Failed
from ulvar.flows.align import Aligned
from ulvar.flows.warping import Cut, Warped
from ulvar.registration import PixelMap
from ulvar.stacking import Stacked, StackInput
from ulvar.stacking.drops import Dropped
from ulvar.stacking.proper import ProperCoadd


@dataclass(frozen=True)
class Made:
    """A stack, and what was made beside it.

    Attributes
    ----------
    stacked : Stacked, optional
        None where no exposure could be resampled.
    kept : list of Aligned
        The exposures in it, with their ways onto the reference.
    failed : list of Failed
    cuts : mapping of str to tuple of Cut
        What was left out under trails, by path.
    noise_adu : float
        Of the sky, measured.
    coadd : ProperCoadd or Failed, optional
    dropped : Dropped or Failed, optional
    correlation : float
        Noise of areas over what that of their pixels, were they independent, would make.
    gain_share : float
        The gain of mixed colours, or of a colour, over that of the sensor.
    """

    stacked: Stacked | None
    kept: list[Aligned]
    failed: list[Failed]
    cuts: Mapping[str, tuple[Cut, ...]] = field(default_factory=dict)
    noise_adu: float = math.nan
    coadd: ProperCoadd | Failed | None = None
    dropped: Dropped | Failed | None = None
    correlation: float = 1.0
    gain_share: float = 1.0


def input_of(one: Aligned, way: PixelMap, rows: RowSource, warped: Warped) -> StackInput:
    """Return an exposure as it lies on the grid: light of a pixel goes with the area that it covers."""
    quality, facts = one.scored.quality, one.scored.facts
    area = 1 / way.at_middle(facts.width, facts.height).scale ** 2
    sky, noise = quality.sky_adu * area, quality.noise_adu * math.sqrt(area)
    if math.isfinite(warped.sky_adu):
        sky, noise = warped.sky_adu, warped.noise_adu
    return StackInput(
        rows, sky, noise, quality.fwhm_px / math.sqrt(area), one.flux_ratio if math.isfinite(one.flux_ratio) else 1.0,
        quality.score, warped.levels,
    )  # fmt: skip
