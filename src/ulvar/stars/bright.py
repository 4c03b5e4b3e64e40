"""The brightest stars of a frame, and the width that they share, from windowed moments."""

from __future__ import annotations

import math
from dataclasses import dataclass

import cv2
import numpy as np

from ulvar.engine import BoolArray, F32Array, F64Array, I64Array, in_parts
from ulvar.stars._kernels import local_maxima, windowed_moments

SIGMA_TO_FWHM = 2.0 * math.sqrt(2.0 * math.log(2.0))


@dataclass(frozen=True)
class BrightStars:
    """The brightest candidates, and the width that settled on them.

    `rows` are windowed moments of those that look like stars (see `windowed_moments`), brightest first.
    """

    x: F64Array
    y: F64Array
    rows: F64Array
    fwhm_px: float
    covariance: tuple[float, float, float]


def find_bright_stars(
    residual: F32Array,
    noise: F32Array,
    hidden: BoolArray,
    saturated: BoolArray,
    guess: float,
    threshold: float,
) -> BrightStars | None:
    """Find bright stars with a guessed width; look again only where the width turns out to be another."""
    fwhm = guess
    found: BrightStars | None = None
    for _ in range(4):
        sigma = fwhm / SIGMA_TO_FWHM
        x, y, _ = _candidates(residual, noise, hidden, sigma, max(threshold, 8.0), 20_000)
        if len(x) < 3:
            x, y, _ = _candidates(residual, noise, hidden, sigma, threshold, 20_000)
        if len(x) == 0:
            return found
        start = BrightStars(x[:200], y[:200], np.empty((0, 11)), fwhm, (0.0, 0.0, 0.0))
        settled = settle_width(residual, noise, hidden, saturated, start)
        if settled is None:
            return found
        found = settled
        # A filter within a factor of 1.5 of the right width finds the same bright stars.
        if 1 / 1.5 < settled.fwhm_px / fwhm < 1.5:
            break
        fwhm = settled.fwhm_px
    return found


def settle_width(
    residual: F32Array, noise: F32Array, hidden: BoolArray, saturated: BoolArray, start: BrightStars
) -> BrightStars | None:
    """Measure bright stars with a window of their own width, iterated; None when none looks like a star."""
    fwhm = start.fwhm_px
    bad = saturated | hidden
    rows: F64Array = start.rows
    cxx = cyy = cxy = 0.0
    for _ in range(6):
        rows = _moments(residual, noise, bad, start.x, start.y, fwhm / SIGMA_TO_FWHM, 0.0)
        good = (rows[:, 9] > 0) & (rows[:, 10] == 0) & np.isfinite(rows[:, 4]) & (rows[:, 8] > 0.12)
        rows = rows[good]
        if len(rows) == 0:
            return None
        cxx, cyy, cxy = (float(np.median(rows[:, column])) for column in (4, 5, 6))
        det = cxx * cyy - cxy * cxy
        if det <= 0:
            return None
        # Below one pixel a width from moments means undersampling, not a smaller star.
        new = min(max(SIGMA_TO_FWHM * det**0.25, 1.0), 60.0)
        settled = abs(new - fwhm) < 0.01 * fwhm
        fwhm = new
        if settled:
            break
    return BrightStars(start.x, start.y, rows, fwhm, (cxx, cyy, cxy))


def matched_gaussian(residual: F32Array, sigma: float, hidden: BoolArray) -> tuple[F32Array, float]:
    """Convolve with a unit-sum Gaussian; return it with the noise factor sqrt(sum k^2)."""
    radius = max(2, int(math.ceil(3.5 * sigma)))
    offsets = np.arange(-radius, radius + 1)
    kernel = np.exp(-0.5 * (offsets / sigma) ** 2)
    kernel /= kernel.sum()
    # Hidden pixels are NaN and would spread; what is not hidden is finite.
    filled = np.nan_to_num(residual, nan=0.0) if hidden.any() else residual
    smooth = cv2.sepFilter2D(filled, cv2.CV_32F, kernel, kernel, borderType=cv2.BORDER_REFLECT)
    return smooth, float((kernel**2).sum())


def _candidates(
    residual: F32Array, noise: F32Array, hidden: BoolArray, sigma: float, threshold: float, limit: int
) -> tuple[F64Array, F64Array, F64Array]:
    smooth, factor = matched_gaussian(residual, sigma, hidden)
    level = np.float32(threshold * factor)

    def part(first: int, last: int) -> tuple[I64Array, I64Array]:
        out_y, out_x = np.empty(limit, dtype=np.int64), np.empty(limit, dtype=np.int64)
        found = local_maxima(smooth, noise, level, hidden, first, last, 2, out_y, out_x)
        return out_y[:found], out_x[:found]

    parts = in_parts(part, smooth.shape[0], smallest=64)
    ys, xs = np.concatenate([p[0] for p in parts])[:limit], np.concatenate([p[1] for p in parts])[:limit]
    height = smooth[ys, xs].astype(np.float64)
    # A pixel that stands alone is hot, or hit by a cosmic ray: thousands of them would hide the stars.
    pairs = [residual[ys + dy, xs + dx] for dy in (-1, 0, 1) for dx in (-1, 0, 1) if dy or dx]
    alone = np.nan_to_num(np.mean(pairs, axis=0)) < 0.12 * np.nan_to_num(residual[ys, xs])
    ys, xs, height = ys[~alone], xs[~alone], height[~alone]
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
