"""The brightest stars of a frame, and the width that they share, from windowed moments."""

from __future__ import annotations

import math
from dataclasses import dataclass

import cv2
import numpy as np

from ulvar.engine import BoolArray, F32Array, F64Array, I64Array, in_parts, in_rows, places_in_groups

# As many of the brightest are measured.
_MOST = 200
# Of each part of the frame, so many each way, where the brightest alone are no stars.
_PARTS, _OF_A_PART = 8, 6
SIGMA_TO_FWHM = 2.0 * math.sqrt(2.0 * math.log(2.0))


@dataclass(frozen=True)
class BrightStars:
    """The brightest candidates, and the width that settled on them.

    `rows` are windowed moments of those that look like stars (see `windowed_moments`), brightest first.
    """

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
    """Find bright stars with a guessed width; look again only where the width turns out to be another.

    Where none of the brightest looks like a star, they are taken from all parts of the frame: words that a program burnt into a
    corner are brighter than any star, and many.
    """
    fwhm = guess
    found: BrightStars | None = None
    evenly = False
    for _ in range(4):
        sigma = fwhm / SIGMA_TO_FWHM
        x, y = _candidates(residual, noise, hidden, sigma, max(threshold, 8.0))
        if len(x) < 3:
            x, y = _candidates(residual, noise, hidden, sigma, threshold)
        if len(x) == 0:
            return found
        settled = None
        if not evenly:
            settled = _settled(residual, noise, saturated | hidden, x[:_MOST], y[:_MOST], fwhm)
            evenly = settled is None and found is None
        if evenly:
            some = _of_all_parts(x, y, residual.shape)
            settled = _settled(residual, noise, saturated | hidden, x[some], y[some], fwhm)
        if settled is None:
            return found
        found = settled
        # A filter within a factor of 1.5 of the right width finds the same bright stars.
        if 1 / 1.5 < settled.fwhm_px / fwhm < 1.5:
            break
        fwhm = settled.fwhm_px
    return found


def _settled(
    residual: F32Array, noise: F32Array, bad: BoolArray, x: F64Array, y: F64Array, fwhm: float
) -> BrightStars | None:
    """Measure bright stars with a window of their own width, iterated; None when none looks like a star."""
    rows: F64Array = np.empty((0, 11))
    cxx = cyy = cxy = 0.0
    for _ in range(6):
        rows = window_moments(residual, noise, bad, x, y, fwhm / SIGMA_TO_FWHM)
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
    return BrightStars(rows, fwhm, (cxx, cyy, cxy))


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


def find_maxima(
    smooth: F32Array, noise: F32Array, level: float, hidden: BoolArray, apart: int, limit: int = 200_000
) -> tuple[I64Array, I64Array]:
    """Return x, y of local maxima over ``level * noise``, at least `apart` px from a higher one."""

    from ulvar.stars._kernels import local_maxima

    def part(first: int, last: int) -> tuple[I64Array, I64Array]:
        out_y, out_x = np.empty(limit, dtype=np.int64), np.empty(limit, dtype=np.int64)
        found = local_maxima(smooth, noise, np.float32(level), hidden, first, last, 2, out_y, out_x)
        return out_y[:found], out_x[:found]

    parts = in_rows(part, smooth.shape)
    ys, xs = np.concatenate([p[0] for p in parts])[:limit], np.concatenate([p[1] for p in parts])[:limit]
    if apart > 1 and len(xs):
        disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * apart + 1, 2 * apart + 1))
        highest = cv2.dilate(smooth, disc)
        top = smooth[ys, xs] >= highest[ys, xs]
        ys, xs = ys[top], xs[top]
    order = np.argsort(-smooth[ys, xs], kind="stable")
    return xs[order], ys[order]


def _candidates(
    residual: F32Array, noise: F32Array, hidden: BoolArray, sigma: float, threshold: float
) -> tuple[F64Array, F64Array]:
    """Return x, y of the peaks that do not stand alone in their pixel, the brightest first."""
    smooth, factor = matched_gaussian(residual, sigma, hidden)
    xs, ys = find_maxima(smooth, noise, threshold * factor, hidden, 1, limit=20_000)
    # A pixel that stands alone is hot, or hit by a cosmic ray: thousands of them would hide the stars.
    pairs = [residual[ys + dy, xs + dx] for dy in (-1, 0, 1) for dx in (-1, 0, 1) if dy or dx]
    alone = np.nan_to_num(np.mean(pairs, axis=0)) < 0.12 * np.nan_to_num(residual[ys, xs])
    chosen = np.flatnonzero(~alone)
    return xs[chosen].astype(np.float64), ys[chosen].astype(np.float64)


def _of_all_parts(x: F64Array, y: F64Array, shape: tuple[int, ...]) -> I64Array:
    """Return which peaks, sorted by brightness, are among the brightest of their part of the frame."""
    part = y * _PARTS // shape[0] * _PARTS + x * _PARTS // shape[1]
    return np.flatnonzero(places_in_groups(part) < _OF_A_PART)[:_MOST]


def window_moments(
    residual: F32Array, noise: F32Array, bad: BoolArray, x: F64Array, y: F64Array, sigma: float, gain: float = 0.0
) -> F64Array:
    """Return the rows of `ulvar.stars._kernels.windowed_moments` for stars near places, shape (stars, 11)."""
    from ulvar.stars._kernels import windowed_moments

    out = np.empty((len(x), 11), dtype=np.float64)

    def part(first: int, last: int) -> None:
        windowed_moments(residual, noise, bad, x[first:last], y[first:last], float(sigma), float(gain), out[first:last])

    in_parts(part, len(x), smallest=100)
    return out


def moment_shapes(cxx: F64Array, cyy: F64Array, cxy: F64Array) -> tuple[F64Array, F64Array, F64Array]:
    """Return FWHM [px] of a Gaussian of the same area, ellipticity 1 - b/a, and angle of the long axis from +x to +y [deg].

    Of second moments [px^2], arrays of one shape; NaN where they are those of no ellipse.
    """
    with np.errstate(invalid="ignore"):
        mean, spread = (cxx + cyy) / 2, np.hypot((cxx - cyy) / 2, cxy)
        axis_ratio = np.sqrt(np.maximum(0.0, mean - spread) / (mean + spread))
        width = SIGMA_TO_FWHM * (cxx * cyy - cxy * cxy) ** 0.25
    return width, 1 - axis_ratio, np.degrees(0.5 * np.arctan2(2 * cxy, cxx - cyy))


def ring_mean(picture: F32Array, x: I64Array, y: I64Array) -> F64Array:
    """Return the mean of the eight neighbours of pixels, of those that are known; 0 where none is."""
    around = np.array([picture[y + dy, x + dx] for dx in (-1, 0, 1) for dy in (-1, 0, 1) if dx or dy])
    known = np.isfinite(around)
    return np.asarray(np.where(known, around, 0).sum(axis=0) / np.maximum(known.sum(axis=0), 1))
