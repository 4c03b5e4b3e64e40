"""Finding stars: matched filter, local maxima, windowed centroids, shape cuts."""

from __future__ import annotations

import math
from dataclasses import dataclass

import cv2
import numpy as np

from ulvar.engine import BoolArray, F32Array, F64Array, I64Array, MaskArray, in_parts
from ulvar.stars._kernels import local_maxima, windowed_moments
from ulvar.stars.background import Background, estimate_background
from ulvar.stars.profile import measured_fwhm
from ulvar.stars.table import StarFlag, StarTable

_SIGMA_TO_FWHM = 2.0 * math.sqrt(2.0 * math.log(2.0))
_SATURATED_BIT = 2
_UNUSABLE_BITS = 0xFFFF & ~(_SATURATED_BIT | 4 | 256)


@dataclass(frozen=True)
class DetectOptions:
    """How stars are looked for.

    Attributes
    ----------
    threshold : float
        Smallest matched-filter signal-to-noise ratio of a detection.
    box_px : int
        Background mesh cell [px].
    fwhm_px : float or None
        Expected FWHM [px]; measured on bright stars when None.
    max_stars : int
        The brightest this many are kept.
    """

    threshold: float = 5.0
    box_px: int = 64
    fwhm_px: float | None = None
    max_stars: int = 50_000

    def __post_init__(self) -> None:
        if self.threshold <= 0 or self.box_px < 8 or self.max_stars < 1:
            raise ValueError("threshold must be above 0, the mesh cell 8 px or more, at least one star kept")


@dataclass(frozen=True)
class Detection:
    """Stars of one frame with the background they stand on and the shared shape."""

    stars: StarTable
    background: Background
    fwhm_px: float
    ellipticity: float


def find_stars(
    data: F32Array,
    *,
    mask: MaskArray | None = None,
    gain_e_per_adu: float | None = None,
    options: DetectOptions | None = None,
) -> Detection:
    """Find and measure the stars of one exposure.

    A first pass with a wide range of widths finds bright stars, whose measured shape makes the matched
    filter of the second pass; the background is estimated again with the stars masked.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        [ADU]; not modified; NaN is passed over.
    mask : uint16 array, optional
        `ulvar.frames.MaskBit` plane: saturated pixels flag a star, other bits hide pixels.
    gain_e_per_adu : float, optional
        Adds the source's photon noise to the flux errors [e-/ADU].
    options : DetectOptions, optional

    Returns
    -------
    Detection
        With an empty table and NaN shape where there are no stars.
    """
    settings = options or DetectOptions()
    hidden = ~np.isfinite(data)
    saturated = np.zeros(data.shape, dtype=np.bool_)
    if mask is not None:
        hidden |= (mask & _UNUSABLE_BITS) != 0
        saturated = (mask & _SATURATED_BIT) != 0
    background = estimate_background(data, masked=hidden, box_px=settings.box_px)
    if not math.isfinite(background.sky_adu):
        return Detection(StarTable.empty(), background, math.nan, math.nan)
    # The guess of the width matters little: a filter half as wide or twice as wide finds bright stars.
    guess = settings.fwhm_px or 3.0
    residual = _subtract(data, background, hidden)
    bright = _bright_stars(residual, background.noise, hidden, saturated, guess, settings)
    if bright is None:
        return Detection(StarTable.empty(), background, math.nan, math.nan)
    width = settings.fwhm_px or bright.fwhm_px
    source_mask = _source_mask(residual, background, width, hidden) | hidden
    if source_mask.mean() < 0.6:
        background = estimate_background(data, masked=source_mask, box_px=settings.box_px)
        residual = _subtract(data, background, hidden)
        bright = _settled(residual, background.noise, hidden, saturated, bright) or bright
    shape = _shape_of(residual, bright)
    fwhm = settings.fwhm_px or shape[0]
    gain = gain_e_per_adu or 0.0
    stars = _measure(residual, background.noise, hidden, saturated, fwhm, shape, gain, settings)
    best = stars.ellipticity[(stars.snr > 20) & (stars.flags == 0)][:200]
    return Detection(stars, background, fwhm, float(np.nanmedian(best)) if np.isfinite(best).any() else shape[2])


def _subtract(data: F32Array, background: Background, hidden: BoolArray) -> F32Array:
    residual = data - background.level
    if hidden.any():
        residual[hidden] = np.nan
    return residual


def _matched(residual: F32Array, sigma: float, hidden: BoolArray) -> tuple[F32Array, float]:
    """Convolve with a unit-sum Gaussian; return it with the noise factor sqrt(sum k^2)."""
    radius = max(2, int(math.ceil(3.5 * sigma)))
    offsets = np.arange(-radius, radius + 1)
    kernel = np.exp(-0.5 * (offsets / sigma) ** 2)
    kernel /= kernel.sum()
    # Hidden pixels are NaN and would spread; what is not hidden is finite.
    filled = np.nan_to_num(residual, nan=0.0) if hidden.any() else residual
    smooth = cv2.sepFilter2D(filled, cv2.CV_32F, kernel, kernel, borderType=cv2.BORDER_REFLECT)
    return smooth, float((kernel**2).sum())


def _source_mask(residual: F32Array, background: Background, fwhm: float, hidden: BoolArray) -> BoolArray:
    smooth, factor = _matched(residual, fwhm / _SIGMA_TO_FWHM, hidden)
    over = (smooth > np.float32(3.0 * factor) * background.noise).view(np.uint8)
    size = 2 * round(fwhm) + 1
    return cv2.dilate(over, np.ones((size, size), np.uint8)).view(np.bool_)


def _candidates(
    residual: F32Array, noise: F32Array, hidden: BoolArray, sigma: float, threshold: float, limit: int
) -> tuple[F64Array, F64Array, F64Array]:
    smooth, factor = _matched(residual, sigma, hidden)
    level = np.float32(threshold * factor)

    def part(first: int, last: int) -> tuple[I64Array, I64Array]:
        out_y, out_x = np.empty(limit, dtype=np.int64), np.empty(limit, dtype=np.int64)
        found = local_maxima(smooth, noise, level, hidden, first, last, 2, out_y, out_x)
        return out_y[:found], out_x[:found]

    parts = in_parts(part, smooth.shape[0], smallest=64)
    ys, xs = np.concatenate([p[0] for p in parts])[:limit], np.concatenate([p[1] for p in parts])[:limit]
    height = smooth[ys, xs].astype(np.float64)
    order = np.argsort(-height, kind="stable")
    return (
        xs[order].astype(np.float64),
        ys[order].astype(np.float64),
        height[order] / (factor * noise[ys, xs][order]),
    )


def _moments(
    residual: F32Array, noise: F32Array, bad: BoolArray, x: F64Array, y: F64Array, sigma: float, gain: float
) -> F64Array:
    out = np.empty((len(x), 11), dtype=np.float64)

    def part(first: int, last: int) -> None:
        windowed_moments(residual, noise, bad, x[first:last], y[first:last], float(sigma), float(gain), out[first:last])

    in_parts(part, len(x), smallest=100)
    return out


@dataclass(frozen=True)
class _Bright:
    """The brightest candidates, and the width that settled on them.

    `rows` are windowed moments of those that look like stars (see `windowed_moments`), brightest first.
    """

    x: F64Array
    y: F64Array
    rows: F64Array
    fwhm_px: float
    covariance: tuple[float, float, float]


def _bright_stars(
    residual: F32Array,
    noise: F32Array,
    hidden: BoolArray,
    saturated: BoolArray,
    guess: float,
    settings: DetectOptions,
) -> _Bright | None:
    """Find bright stars with a guessed width; look again only where the width turns out to be another."""
    fwhm = guess
    found: _Bright | None = None
    for _ in range(4):
        sigma = fwhm / _SIGMA_TO_FWHM
        x, y, _ = _candidates(residual, noise, hidden, sigma, max(settings.threshold, 8.0), 20_000)
        if len(x) < 3:
            x, y, _ = _candidates(residual, noise, hidden, sigma, settings.threshold, 20_000)
        if len(x) == 0:
            return found
        start = _Bright(x[:200], y[:200], np.empty((0, 11)), fwhm, (0.0, 0.0, 0.0))
        settled = _settled(residual, noise, hidden, saturated, start)
        if settled is None:
            return found
        found = settled
        # A filter within a factor of 1.5 of the right width finds the same bright stars.
        if 1 / 1.5 < settled.fwhm_px / fwhm < 1.5:
            break
        fwhm = settled.fwhm_px
    return found


def _settled(
    residual: F32Array, noise: F32Array, hidden: BoolArray, saturated: BoolArray, start: _Bright
) -> _Bright | None:
    """Measure bright stars with a window of their own width, iterated; None when none looks like a star."""
    fwhm = start.fwhm_px
    bad = saturated | hidden
    rows: F64Array = start.rows
    cxx = cyy = cxy = 0.0
    for _ in range(6):
        rows = _moments(residual, noise, bad, start.x, start.y, fwhm / _SIGMA_TO_FWHM, 0.0)
        good = (rows[:, 9] > 0) & (rows[:, 10] == 0) & np.isfinite(rows[:, 4]) & (rows[:, 8] > 0.12)
        rows = rows[good]
        if len(rows) == 0:
            return None
        cxx, cyy, cxy = (float(np.median(rows[:, column])) for column in (4, 5, 6))
        det = cxx * cyy - cxy * cxy
        if det <= 0:
            return None
        # Below one pixel a width from moments means undersampling, not a smaller star.
        new = min(max(_SIGMA_TO_FWHM * det**0.25, 1.0), 60.0)
        settled = abs(new - fwhm) < 0.01 * fwhm
        fwhm = new
        if settled:
            break
    return _Bright(start.x, start.y, rows, fwhm, (cxx, cyy, cxy))


def _shape_of(residual: F32Array, bright: _Bright) -> tuple[float, float, float]:
    """Return (FWHM of the profile, ratio of that to the moments' FWHM, ellipticity) from bright stars."""
    cxx, cyy, cxy = bright.covariance
    fwhm, rows = bright.fwhm_px, bright.rows
    trace, spread = (cxx + cyy) / 2, math.hypot((cxx - cyy) / 2, cxy)
    ellipticity = 1 - math.sqrt(max(0.0, trace - spread) / (trace + spread))
    best = rows[:120]
    # Neighbours bend the profile: stars with a brighter or similar one close by are left to the others.
    distance = np.hypot(best[:, None, 0] - rows[None, :, 0], best[:, None, 1] - rows[None, :, 1])
    distance[distance < 1e-6] = np.inf
    alone = distance.min(axis=1, initial=np.inf) > 4 * fwhm
    chosen = best[alone] if alone.sum() >= 3 else best
    profile = measured_fwhm(
        residual, chosen[:, 0], chosen[:, 1], chosen[:, 2], np.array([cxx, cyy, cxy]), start_px=fwhm
    )
    if not math.isfinite(profile):
        profile = fwhm
    return profile, profile / fwhm, ellipticity


def _measure(
    residual: F32Array,
    noise: F32Array,
    hidden: BoolArray,
    saturated: BoolArray,
    fwhm: float,
    shape: tuple[float, float, float],
    gain: float,
    settings: DetectOptions,
) -> StarTable:
    sigma = fwhm / shape[1] / _SIGMA_TO_FWHM
    x, y, snr = _candidates(residual, noise, hidden, sigma, settings.threshold, 200_000)
    if len(x) == 0:
        return StarTable.empty()
    rows = _moments(residual, noise, saturated | hidden, x, y, sigma, gain)
    saturated_near = _near(saturated, x, y, 2)
    keep = _is_star(rows, snr, sigma, saturated_near)
    keep &= _first_of_each(rows[:, 0], rows[:, 1], keep, 0.7 * fwhm)
    rows, saturated_near = rows[keep], saturated_near[keep]
    if len(rows) == 0:
        return StarTable.empty()
    total = _total_flux_factor(residual, rows, saturated_near, fwhm)
    cxx, cyy, cxy = rows[:, 4], rows[:, 5], rows[:, 6]
    with np.errstate(invalid="ignore"):
        trace, spread = (cxx + cyy) / 2, np.hypot((cxx - cyy) / 2, cxy)
        axis_ratio = np.sqrt(np.maximum(0.0, trace - spread) / (trace + spread))
        star_fwhm = _SIGMA_TO_FWHM * (cxx * cyy - cxy * cxy) ** 0.25 * shape[1]
    height, width = residual.shape
    flags = np.zeros(len(rows), dtype=np.int64)
    flags[saturated_near] |= StarFlag.SATURATED
    reach = 2 * fwhm
    flags[
        (rows[:, 0] < reach)
        | (rows[:, 1] < reach)
        | (rows[:, 0] > width - 1 - reach)
        | (rows[:, 1] > height - 1 - reach)
    ] |= StarFlag.EDGE
    flags[(rows[:, 10] > 0) & ~saturated_near] |= StarFlag.BAD_PIXEL
    flux, error = rows[:, 2] * total, np.sqrt(rows[:, 3]) * total
    order = np.argsort(-flux, kind="stable")[: settings.max_stars]
    table = StarTable(
        x=rows[:, 0], y=rows[:, 1], flux=flux, flux_error=error, snr=flux / error, fwhm_px=star_fwhm,
        ellipticity=1 - axis_ratio, angle_deg=np.degrees(0.5 * np.arctan2(2 * cxy, cxx - cyy)),
        peak=rows[:, 7], flags=flags,
    )  # fmt: skip
    return table.select(order)


def _near(plane: BoolArray, x: F64Array, y: F64Array, reach: int) -> BoolArray:
    if not plane.any():
        return np.zeros(len(x), dtype=np.bool_)
    grown = cv2.dilate(plane.astype(np.uint8), np.ones((2 * reach + 1, 2 * reach + 1), np.uint8))
    return np.asarray(grown[y.astype(int), x.astype(int)] > 0)


def _is_star(rows: F64Array, snr: F64Array, sigma: float, saturated: BoolArray) -> BoolArray:
    """Shape cuts: sharper than the profile is a hot pixel or a cosmic ray, much longer is a trail."""
    # A star of the measured width has this mean of its eight neighbours over its central pixel.
    expected = (math.exp(-0.5 / sigma**2) + math.exp(-1.0 / sigma**2)) / 2
    noise = 1.2 / np.maximum(snr, 1.0) * math.sqrt(math.pi) * 2 * sigma
    sharp = rows[:, 8] < 0.45 * expected - np.minimum(noise, 0.4 * expected)
    with np.errstate(invalid="ignore"):
        area = np.sqrt(rows[:, 4] * rows[:, 5] - rows[:, 6] ** 2) / sigma**2
        trace = (rows[:, 4] + rows[:, 5]) / 2
        spread = np.hypot((rows[:, 4] - rows[:, 5]) / 2, rows[:, 6])
        elongation = np.sqrt((trace + spread) / np.maximum(trace - spread, 1e-9))
        typical = np.median(elongation[np.isfinite(elongation) & (snr > 15)][:300]) if (snr > 15).any() else 1.0
        small = (area < 0.3) & (snr > 12)
        long = (elongation > 2.2 * typical) & (snr > 12)
    good = (rows[:, 9] > 0) & (rows[:, 2] > 0) & ~sharp & ~small & ~long
    # A saturated core is flat and may be wide; it is a star all the same, and it is flagged.
    return np.asarray(good | (saturated & (rows[:, 2] > 0)))


def _first_of_each(x: F64Array, y: F64Array, usable: BoolArray, reach: float) -> BoolArray:
    """Keep the brighter of detections whose centroids ran together."""
    from scipy.spatial import cKDTree

    keep = usable.copy()
    index = np.flatnonzero(usable)
    if len(index) < 2:
        return keep
    for a, b in sorted(cKDTree(np.column_stack([x[index], y[index]])).query_pairs(reach)):
        if keep[index[a]]:
            keep[index[b]] = False
    return keep


def _total_flux_factor(residual: F32Array, rows: F64Array, saturated: BoolArray, fwhm: float) -> float:
    """Ratio of the whole star's light to the profile-weighted flux, from bright lone stars.

    Real profiles have wings that a Gaussian weight does not see; one factor a frame puts them back.
    """
    reach = int(math.ceil(3 * fwhm))
    height, width = residual.shape
    ratios = []
    offsets_y, offsets_x = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    disc = np.hypot(offsets_x, offsets_y) <= reach
    bright = np.flatnonzero(~saturated & (rows[:, 10] == 0))[:150]
    positions = rows[:, :2]
    for k in bright:
        cx, cy = rows[k, 0], rows[k, 1]
        ix, iy = round(cx), round(cy)
        if ix < reach or iy < reach or ix + reach >= width or iy + reach >= height:
            continue
        near = np.hypot(positions[:, 0] - cx, positions[:, 1] - cy) < 2 * reach
        if (rows[near, 2] > 0.02 * rows[k, 2]).sum() > 1:
            continue
        stamp = residual[iy - reach : iy + reach + 1, ix - reach : ix + reach + 1]
        if np.isfinite(stamp).all():
            ratios.append(float(stamp[disc].sum(dtype=np.float64)) / rows[k, 2])
        if len(ratios) == 40:
            break
    if len(ratios) < 3:
        return 1.0
    return float(min(max(np.median(ratios), 0.7), 2.5))
