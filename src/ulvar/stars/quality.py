"""How good an exposure is, in numbers."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ulvar.stars.detection import Detection
from ulvar.stars.table import StarFlag


@dataclass(frozen=True)
class ExposureQuality:
    """Quality of one exposure.

    Attributes
    ----------
    stars : int
    fwhm_px : float
        FWHM of the shared profile as recorded [px]; NaN without stars.
    ellipticity : float
        1 - b/a of bright stars; NaN without.
    sky_adu, noise_adu : float
        Background level and its deviation per pixel [ADU].
    bright_flux_adu : float
        Geometric mean flux of the brightest unsaturated stars [ADU]: a transparency before matching.
    saturated : int
        Stars with saturated pixels.
    score : float
        0 to 1, higher is better; NaN until exposures are compared.
    """

    stars: int
    fwhm_px: float
    ellipticity: float
    sky_adu: float
    noise_adu: float
    bright_flux_adu: float
    saturated: int
    score: float = math.nan


def measure_quality(detection: Detection) -> ExposureQuality:
    """Return the quality of an exposure from what was found in it."""
    stars = detection.stars
    clean = (stars.flags & (StarFlag.SATURATED | StarFlag.EDGE)) == 0
    fluxes = stars.flux[clean][:60]
    return ExposureQuality(
        stars=len(stars),
        fwhm_px=detection.fwhm_px,
        ellipticity=detection.ellipticity,
        sky_adu=detection.background.sky_adu,
        noise_adu=detection.background.noise_adu,
        bright_flux_adu=float(np.exp(np.log(fluxes[fluxes > 0]).mean())) if (fluxes > 0).any() else math.nan,
        saturated=int(((stars.flags & StarFlag.SATURATED) != 0).sum()),
    )


def relative_scores(
    qualities: Sequence[ExposureQuality], transparencies: Sequence[float] | None = None
) -> list[ExposureQuality]:
    """Return qualities with their score: the point-source signal-to-noise ratio relative to the best.

    For a faint star the ratio is T / (FWHM x noise) with T the transparency (King 1983, PASP 95, 163);
    elongation counts through the FWHM of the profile. The best exposure of the set scores 1.

    Parameters
    ----------
    qualities : sequence of ExposureQuality
        Of one filter and exposure time.
    transparencies : sequence of float, optional
        Relative transparency of each; taken from the brightest stars when not given.
    """
    given = [q.bright_flux_adu for q in qualities] if transparencies is None else list(transparencies)
    raw = np.array(
        [
            t / (q.fwhm_px * q.noise_adu) if q.stars and q.fwhm_px * q.noise_adu > 0 else 0.0
            for q, t in zip(qualities, given)
        ]
    )
    raw = np.nan_to_num(raw, nan=0.0)
    best = raw.max(initial=0.0)
    return [replace(q, score=float(value / best) if best > 0 else 0.0) for q, value in zip(qualities, raw)]
