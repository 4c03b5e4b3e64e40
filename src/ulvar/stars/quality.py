"""How good an exposure is, in numbers, and how good beside the others."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ulvar.engine import F64Array
from ulvar.stars.background import Background
from ulvar.stars.found import Detection
from ulvar.stars.qualities import BLENDS, DEFAULT_BLEND
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
    gradient_adu : float
        Change of the background from one end of the frame to the other along the steepest direction [ADU].
    expected_noise_adu : float
        Noise per pixel from the photons of the sky and reading out [ADU]; NaN when gain or read noise is unknown.
    trails : int
        Trails of satellites and aeroplanes.
    """

    stars: int
    fwhm_px: float
    ellipticity: float
    sky_adu: float
    noise_adu: float
    bright_flux_adu: float
    saturated: int
    score: float = math.nan
    gradient_adu: float = math.nan
    expected_noise_adu: float = math.nan
    trails: int = 0


def measure_quality(
    detection: Detection, *, gain_e_per_adu: float | None = None, read_noise_e: float | None = None
) -> ExposureQuality:
    """Return the quality of an exposure from what was found in it.

    Parameters
    ----------
    detection : Detection
    gain_e_per_adu, read_noise_e : float, optional
        Give the noise that is expected [e-/ADU], [e-].
    """
    stars = detection.stars
    clean = (stars.flags & (StarFlag.SATURATED | StarFlag.EDGE)) == 0
    fluxes = stars.flux[clean][:60]
    sky = detection.background.sky_adu
    expected = math.nan
    # The pixels of a mosaic were measured on scales of their own.
    bands = detection.bands or ((sky, 1.0),)
    if gain_e_per_adu and read_noise_e is not None and all(level > 0 for level, _ in bands):
        variances = [factor**2 * (level * gain_e_per_adu + read_noise_e**2) for level, factor in bands]
        expected = math.sqrt(sum(variances) / len(variances)) / gain_e_per_adu
    return ExposureQuality(
        stars=len(stars),
        fwhm_px=detection.fwhm_px,
        ellipticity=detection.ellipticity,
        sky_adu=sky,
        noise_adu=detection.background.noise_adu,
        bright_flux_adu=float(np.exp(np.log(fluxes[fluxes > 0]).mean())) if (fluxes > 0).any() else math.nan,
        saturated=int(((stars.flags & StarFlag.SATURATED) != 0).sum()),
        gradient_adu=background_gradient(detection.background),
        expected_noise_adu=expected,
        trails=len(detection.trails),
    )


def background_gradient(background: Background) -> float:
    """Return the change of the background along its steepest direction, from one end of the frame to the other [ADU]."""
    level = background.level
    height, width = level.shape
    if min(height, width) < 3:
        return math.nan
    ys, xs = (np.linspace(0, n - 1, min(n, 24)).astype(int) for n in (height, width))
    values = level[np.ix_(ys, xs)].astype(np.float64)
    u, v = np.meshgrid(xs / (width - 1) - 0.5, ys / (height - 1) - 0.5)
    design = np.column_stack([np.ones(u.size), u.ravel(), v.ravel()])
    fit, *_ = np.linalg.lstsq(design, values.ravel(), rcond=None)
    return float(abs(fit[1]) + abs(fit[2]))


def blend_scores(columns: Mapping[str, Sequence[float | None]], weights: Mapping[str, float] | None = None) -> F64Array:
    """Return scores from 0 to 1: the product of qualities, each to the power of its weight, over the best of the set.

    With the default weights, 1 for transparency T, FWHM and noise, the score is T / (FWHM x noise): the
    signal-to-noise ratio of a faint point source (King 1983, PASP 95, 163) beside that of the best exposure. An
    exposure without a number that has a weight scores 0.

    Parameters
    ----------
    columns : mapping
        Quality to its values, one an exposure, of one filter and exposure time; None or NaN where unknown.
    weights : mapping, optional
        Quality (of `BLENDS`) to its power.

    Raises
    ------
    ValueError
        For a quality that cannot be weighed.
    """
    chosen = {k: w for k, w in (DEFAULT_BLEND if weights is None else weights).items() if w != 0}
    unknown = [k for k in chosen if k not in BLENDS]
    if unknown:
        raise ValueError(f"'{unknown[0]}' cannot be weighed; these can: {', '.join(BLENDS)}")
    length = max((len(v) for v in columns.values()), default=0)
    raw = np.ones(length)
    for key, weight in chosen.items():
        values = np.array([math.nan if v is None else float(v) for v in columns[key]])
        with np.errstate(divide="ignore", invalid="ignore"):
            raw = raw * np.maximum(BLENDS[key](values), 0.0) ** weight
    raw = np.where(np.isfinite(raw), raw, 0.0)
    best = raw.max(initial=0.0)
    return np.asarray(raw / best if best > 0 else np.zeros(length))


def relative_scores(
    qualities: Sequence[ExposureQuality], transparencies: Sequence[float] | None = None
) -> list[ExposureQuality]:
    """Return qualities with their score by the default blend.

    Parameters
    ----------
    qualities : sequence of ExposureQuality
        Of one filter and exposure time.
    transparencies : sequence of float, optional
        Relative transparency of each; taken from the brightest stars when not given.
    """
    given = [q.bright_flux_adu for q in qualities] if transparencies is None else list(transparencies)
    scores = blend_scores(
        {
            "transparency": given,
            "fwhm_px": [q.fwhm_px for q in qualities],
            "noise_adu": [q.noise_adu for q in qualities],
        }
    )
    return [replace(q, score=float(value) if q.stars else 0.0) for q, value in zip(qualities, scores)]
