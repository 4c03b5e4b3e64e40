"""Combining registered exposures."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.combine import Combined, CombinedMaps, Method, Rejection, RowSource, ScaledRows, combine_sources, suited
from ulvar.engine import F32Array, F64Array, Progress, StopToken, silent
from ulvar.stacking.growth import Growth, noise_growth
from ulvar.stacking.local import Surface, SurfaceRows, level_difference
from ulvar.stacking.options import STACK_REJECTION, Normalise, Weighting


@dataclass(frozen=True)
class StackInput:
    """One registered exposure.

    Attributes
    ----------
    source : RowSource
        Resampled onto the stack's grid.
    sky_adu, noise_adu : float
        Background level and noise per pixel [ADU].
    fwhm_px : float
    flux_scale : float
        Brightness of its stars over that of the reference's (1 for equal transparency).
    score : float
    levels : float32 array, optional
        Background at `level_places` of the stack's grid [ADU]; `Normalise.LOCAL` needs it.
    """

    source: RowSource
    sky_adu: float
    noise_adu: float
    fwhm_px: float = math.nan
    flux_scale: float = 1.0
    score: float = math.nan
    levels: F32Array | None = None


@dataclass(frozen=True)
class Stacked:
    """A stack with the maps behind it.

    Attributes
    ----------
    data : float32 array, shape (height, width)
        Combined image [ADU]; NaN where no exposure has data.
    noise : float32 array
        Standard error from the spread of the exposures, their weights and what was rejected [ADU].
    kept : uint16 array
        Exposures kept at each pixel.
    weights : float64 array, shape (exposures,)
    rejected_fractions : float64 array, shape (exposures,)
    rejection : Rejection
        With the limits that were taken for so many exposures.
    scaling : tuple of (float, float)
        Factor and addend [ADU] that brought each exposure to the reference.
    surfaces : tuple of Surface or None
        What was added in the place of the addend, where levels were matched locally.
    maps : CombinedMaps, optional
        Where they were asked for.
    growth : Growth, optional
        How the noise fell with the number of exposures.
    """

    data: F32Array
    noise: F32Array
    kept: np.ndarray
    weights: F64Array
    rejected_fractions: F64Array
    rejection: Rejection
    scaling: tuple[tuple[float, float], ...] = ()
    surfaces: tuple[Surface | None, ...] = ()
    maps: CombinedMaps | None = None
    growth: Growth | None = None


def normalisation(inputs: Sequence[StackInput], reference: int, how: Normalise) -> list[tuple[float, float]]:
    """Return (factor, addend) for each input so that its sky, or its stars, match the reference's."""
    target = inputs[reference]
    result = []
    for entry in inputs:
        factor = 1.0
        if how in (Normalise.SCALE, Normalise.BOTH, Normalise.LOCAL):
            factor = target.flux_scale / entry.flux_scale if entry.flux_scale > 0 else 1.0
        add = 0.0
        if how in (Normalise.LEVEL, Normalise.BOTH, Normalise.LOCAL):
            add = target.sky_adu - factor * entry.sky_adu
        result.append((factor, add))
    return result


def local_surfaces(
    inputs: Sequence[StackInput], reference: int, scaling: Sequence[tuple[float, float]]
) -> list[Surface | None]:
    """Return what is added to each input for its level to be the reference's all over the frame; None where it is unknown."""
    base = inputs[reference].levels
    found: list[Surface | None] = []
    for entry, (factor, add) in zip(inputs, scaling):
        if base is None or entry.levels is None:
            found.append(None)
            continue
        shape = entry.source.height, entry.source.width
        found.append(level_difference(entry.levels, base, factor, shape, add))
    return found


def scaled_sources(
    inputs: Sequence[StackInput], scaling: Sequence[tuple[float, float]], surfaces: Sequence[Surface | None]
) -> list[RowSource]:
    """Return the inputs' rows brought to the reference: by factor and addend, or by factor and surface."""
    return [
        ScaledRows(entry.source, None, factor, add) if surface is None else SurfaceRows(entry.source, factor, surface)
        for entry, (factor, add), surface in zip(inputs, scaling, surfaces)
    ]


def stack_weights(inputs: Sequence[StackInput], factors: Sequence[float], how: Weighting) -> F64Array:
    """Return weights that sum to 1, shape (inputs,).

    ``snr`` weighs by 1/(noise^2 FWHM^2) of the normalised exposure, the optimum for point sources in a
    plain weighted mean (Zackay & Ofek 2017, ApJ 836, 187, section 2). An exposure without the number that a
    weighting asks for counts as the poorest of the others.
    """
    noise = np.array([entry.noise_adu * factor for entry, factor in zip(inputs, factors)])
    fwhm = np.array([entry.fwhm_px for entry in inputs])
    score = np.array([entry.score for entry in inputs])
    with np.errstate(divide="ignore", invalid="ignore"):
        raw = {
            Weighting.EQUAL: np.ones(len(inputs)),
            Weighting.NOISE: 1 / noise**2,
            Weighting.SNR: 1 / (noise**2 * fwhm**2),
            Weighting.FWHM: 1 / fwhm**2,
            Weighting.SCORE: score**2,
        }[how]
    good = np.isfinite(raw) & (raw > 0)
    if not good.any():
        return np.full(len(inputs), 1 / len(inputs))
    raw = np.where(good, raw, raw[good].min())
    return np.asarray(raw / raw.sum())


def error_share(sigma: F64Array, weights: F64Array | None) -> float:
    """Return the standard error of a combined pixel over the sample deviation of its values.

    Parameters
    ----------
    sigma : float64 array, shape (inputs,)
        Noise of each input; where one is unknown all count as equal.
    weights : float64 array, shape (inputs,), or None
        Of the mean; None for the median.

    Notes
    -----
    The sample deviation of values with deviations s_i is near sqrt(mean s_i^2), the error of their weighted mean
    sqrt(sum w_i^2 s_i^2) / sum w_i. The variance of the median of n values is near pi s^2 / (2 n + pi - 2):
    exact for one value and for many, within 2 % for odd counts between.
    """
    n = len(sigma)
    known = np.where(np.isfinite(sigma).all() & (sigma > 0).all(), sigma, 1.0)
    if weights is None:
        return math.sqrt(math.pi / (2 * n + math.pi - 2))
    return float(np.sqrt((weights**2 * known**2).sum()) / weights.sum() / np.sqrt((known**2).mean()))


def combined_noise(combined: Combined, sigma: F64Array, weights: F64Array | None) -> F32Array:
    """Return the standard error of what was combined, by the spread of the values and how many were kept [ADU].

    Parameters
    ----------
    combined : Combined
    sigma, weights
        As `error_share`.
    """
    counts = np.maximum(np.arange(len(sigma) + 1), 1)
    error = (error_share(sigma, weights) * np.sqrt(len(sigma) / counts)).astype(np.float32)[combined.kept]
    error *= combined.spread
    return np.asarray(error)


def stack_warped(
    inputs: Sequence[StackInput],
    *,
    reference: int = 0,
    rejection: Rejection | None = None,
    normalise: Normalise = Normalise.BOTH,
    weighting: Weighting = Weighting.SNR,
    maps: bool = False,
    budget_bytes: int = 512 * 1024**2,
    threads: int = 1,
    progress: Progress = silent,
    stop: StopToken | None = None,
) -> Stacked:
    """Combine exposures that already lie on one grid.

    Parameters
    ----------
    inputs : sequence of StackInput
    reference : int
        The input whose sky level and star brightness the others are brought to.
    rejection : Rejection, optional
        Default: `STACK_REJECTION`, whose limits follow from the number of exposures.
    normalise : Normalise
    weighting : Weighting
        The median takes equal weights only.
    maps : bool
        Whether to tell what happened at each pixel, too.
    budget_bytes, threads, progress, stop
        As `ulvar.combine.combine_sources`.

    Raises
    ------
    ValueError
        If there is nothing to stack, sizes differ, or weights are asked of the median.
    """
    if not inputs:
        raise ValueError("there is nothing to stack")
    limits = suited(rejection or STACK_REJECTION, len(inputs))
    if limits.method is Method.MEDIAN and weighting is not Weighting.EQUAL:
        raise ValueError("the median takes no weights; ask for equal ones")
    scaling = normalisation(inputs, reference, normalise)
    weights = stack_weights(inputs, [factor for factor, _ in scaling], weighting)
    surfaces = local_surfaces(inputs, reference, scaling) if normalise is Normalise.LOCAL else [None] * len(inputs)
    sources = scaled_sources(inputs, scaling, surfaces)
    combined: Combined = combine_sources(
        sources,
        rejection=limits,
        weights=None if limits.method is Method.MEDIAN else [float(w) for w in weights],
        maps=maps,
        budget_bytes=budget_bytes,
        threads=threads,
        progress=progress,
        stop=stop,
    )
    sigma = np.array([entry.noise_adu * factor for entry, (factor, _) in zip(inputs, scaling)])
    return Stacked(
        data=combined.data,
        noise=combined_noise(combined, sigma, None if limits.method is Method.MEDIAN else weights),
        kept=combined.kept,
        weights=weights,
        rejected_fractions=combined.rejected_fractions,
        rejection=limits,
        scaling=tuple(scaling),
        surfaces=tuple(surfaces),
        maps=combined.maps,
        growth=noise_growth(sources, weights, limits, stop=stop),
    )
