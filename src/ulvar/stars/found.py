"""What star finding gives, apart from how it is found, so that whoever only holds results loads no search."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from ulvar.stars.background import Background
from ulvar.stars.options import DetectOptions
from ulvar.stars.table import StarFlag, StarTable
from ulvar.stars.trails import Trail

if TYPE_CHECKING:
    from ulvar.stars.psf import MeasuredPsf


@dataclass(frozen=True)
class Detection:
    """Stars of one frame with the background they stand on and the shared shape.

    Attributes
    ----------
    stars : StarTable
    background : Background
    fwhm_px, ellipticity : float
        Of the shared profile; NaN without stars.
    psf : MeasuredPsf or None
        The profile itself.
    trails : tuple of Trail
        Of satellites and aeroplanes.
    threshold : float
        The signal-to-noise ratio that was asked of a star in the end.
    bands : tuple of (float, float)
        Of a colour mosaic: sky level [ADU] and factor of each pixel of its cell, see `even_mosaic`.
    """

    stars: StarTable
    background: Background
    fwhm_px: float
    ellipticity: float
    psf: MeasuredPsf | None = None
    trails: tuple[Trail, ...] = ()
    threshold: float = math.nan
    bands: tuple[tuple[float, float], ...] = ()


def limit_stars(stars: StarTable, fwhm_px: float, ellipticity: float, options: DetectOptions) -> StarTable:
    """Return the stars within the limits of threshold, size and shape, the brightest first.

    Parameters
    ----------
    stars : StarTable
    fwhm_px, ellipticity : float
        Of the exposure.
    options : DetectOptions
    """
    sure = (stars.snr > 12) & ((stars.flags & StarFlag.SATURATED) == 0)
    with np.errstate(invalid="ignore", divide="ignore"):
        size = stars.fwhm_fit_px / fwhm_px
        longer = (1 - (ellipticity if math.isfinite(ellipticity) else 0.0)) / (1 - stars.ellipticity)
        odd = (size < options.smallest) | (size > options.widest) | (longer > options.longest)
    keep = np.flatnonzero((stars.snr >= options.threshold) & ~(sure & odd))
    return stars.select(keep[np.argsort(-stars.flux[keep], kind="stable")][: options.max_stars])
