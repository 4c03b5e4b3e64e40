"""How good an exposure is, in numbers, and how good beside the others."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ulvar.engine import F64Array
from ulvar.stars.background import Background
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


@dataclass(frozen=True)
class Quality:
    """A number of an exposure that can be shown, ruled by and weighed: declared once, for files, docs and the window.

    Attributes
    ----------
    key : str
        Its name in stored values.
    title, unit : str
    decimals : int
    factor : float
        From the stored value to the one that is shown.
    better : int
        1 when more is better, -1 when less is, 0 when neither.
    meaning : str
    """

    key: str
    title: str
    unit: str
    decimals: int
    factor: float
    better: int
    meaning: str


QUALITIES: dict[str, Quality] = {
    q.key: q
    for q in (
        Quality("score", "Score", "%", 0, 100.0, 1, "signal-to-noise ratio of a faint star beside the best exposure's"),
        Quality("fwhm_px", "FWHM", "px", 2, 1.0, -1, "width of the stars at half of their height"),
        Quality("fwhm_arcsec", "FWHM", "″", 2, 1.0, -1, "the same on the sky, where the scale is known"),
        Quality("ellipticity", "Ellipticity", "", 2, 1.0, -1, "1 less short over long axis of the stars"),
        Quality("stars", "Star count", "", 0, 1.0, 1, "stars found"),
        Quality("transparency", "Transparency", "%", 0, 100.0, 1, "brightness of common stars beside the best exposures"),
        Quality("sky_adu", "Sky level", "ADU", 0, 1.0, -1, "background"),
        Quality("noise_adu", "Noise", "ADU", 1, 1.0, -1, "deviation of the background, per pixel"),
        Quality("noise_ratio", "Noise over expected", "", 2, 1.0, -1, "measured noise over that of photons and read-out"),
        Quality("gradient_adu", "Gradient", "ADU", 1, 1.0, -1, "change of the background across the frame"),
        Quality("saturated", "Saturated stars", "", 0, 1.0, -1, "stars with saturated pixels"),
        Quality("trails", "Trails", "", 0, 1.0, -1, "of satellites and aeroplanes"),
        Quality("shift_px", "Shift", "px", 1, 1.0, 0, "of the field against the reference"),
        Quality("rotation_deg", "Rotation", "°", 2, 1.0, 0, "of the field against the reference"),
        Quality("residual_px", "Alignment residual", "px", 3, 1.0, -1, "of the stars after alignment"),
    )
}  # fmt: skip


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


# What a blend may weigh, and how a stored value becomes a number that grows with quality.
BLENDS: dict[str, Callable[[F64Array], F64Array]] = {
    "transparency": lambda v: v,
    "fwhm_px": lambda v: 1 / v,
    "noise_adu": lambda v: 1 / v,
    "ellipticity": lambda v: 1 - v,
    "sky_adu": lambda v: 1 / v,
    "stars": lambda v: v,
}
DEFAULT_BLEND: dict[str, float] = {"transparency": 1.0, "fwhm_px": 1.0, "noise_adu": 1.0}


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
