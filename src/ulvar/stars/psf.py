"""The measured point-spread function of an exposure: a table in half pixels, gathered from its own stars."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from scipy import ndimage

from ulvar.engine import F32Array, F64Array, I64Array
from ulvar.stars._kernels_psf import sample_table
from ulvar.stars.bright import SIGMA_TO_FWHM

# Of the crest: what a table may be off by before it counts less. The fit ends after so many steps.
_TOLERATED, _STEPS, _LONGEST = 0.02, 60, 0.5


@lru_cache(maxsize=16)
def _radii(size: int) -> F64Array:
    """Return the distance of a table's points from its middle [px], shape (size, size); not to be written to."""
    offsets = (np.arange(size) - (size - 1) // 2) / 2
    radii = np.hypot(offsets[:, None], offsets[None, :])
    radii.flags.writeable = False
    return np.asarray(radii)


@dataclass(frozen=True)
class MeasuredPsf:
    """The profile that the stars of an exposure share, as recorded (pixel integration included).

    Attributes
    ----------
    table : float64 array, shape (n, n), n odd
        Value per pixel at offsets of half a pixel, middle at the star's centre; its pixels sum to 1.
    fwhm_px : float
        Geometric mean of the widths along both axes; of a ring, its outer diameter at half of its crest [px].
    ring : bool
        Whether it is lower in the middle than around it: a star out of focus.
    stars : int
        From how many stars it was gathered; 0 for a bare model.
    """

    table: F64Array
    fwhm_px: float
    ring: bool = False
    stars: int = 0

    @property
    def radius_px(self) -> int:
        """Pixels from the middle that the table covers."""
        return (self.table.shape[0] - 1) // 4 - 1

    def reach(self, flux: F64Array, noise_adu: float) -> I64Array:
        """Return the radius within which stars of these fluxes stand over a third of the noise [px].

        Parameters
        ----------
        flux : float64 array, shape (stars,)
            [ADU].
        noise_adu : float
            Of the sky, per pixel.
        """
        rings = np.floor(_radii(self.table.shape[0])).astype(np.int64)
        most = np.zeros(int(rings.max()) + 1)
        np.maximum.at(most, rings.ravel(), self.table.ravel())
        # The greatest value from each radius on: never growing outwards, so that a search by bisection holds.
        most = np.maximum(np.maximum.accumulate(most[::-1])[::-1], 1e-12)[: self.radius_px + 1]
        wanted = noise_adu / 3 / np.maximum(flux, 1e-9)
        inside = np.searchsorted(-most, -wanted, side="right")
        return np.clip(inside + 1, math.ceil(self.fwhm_px), self.radius_px).astype(np.int64)

    def kernel(self) -> F32Array:
        """Return the profile on whole pixels for a matched filter, shape (2 r + 1, 2 r + 1), sum 1."""
        radius = min(self.radius_px, math.ceil(1.6 * self.fwhm_px))
        grid = [
            [sample_table(self.table, float(x), float(y)) for x in range(-radius, radius + 1)]
            for y in range(-radius, radius + 1)
        ]
        kernel = np.maximum(np.array(grid), 0.0)
        return np.asarray(kernel / kernel.sum(), dtype=np.float32)


def _half_points(fwhm_px: float) -> int:
    """Points of a table from its middle to its edge, for stars of a width."""
    return 2 * (math.ceil(3.5 * fwhm_px) + 2)


def narrowed(psf: MeasuredPsf) -> MeasuredPsf:
    """Return a profile without what lies beyond twice the reach of stars of its width.

    Where the first guess was far too wide (words burnt in, a trail, a few hot clusters), all stars would else be taken off over tens of
    times the pixels that they have light in, at that many times the work.
    """
    middle, half = (psf.table.shape[0] - 1) // 2, 2 * _half_points(psf.fwhm_px)
    if middle <= half:
        return psf
    part = slice(middle - half, middle + half + 1)
    return replace(psf, table=unit_table(tapered(psf.table[part, part])))


def gaussian_psf(fwhm_px: float, covariance: tuple[float, float, float] | None = None) -> MeasuredPsf:
    """Return a Gaussian profile to start from.

    Parameters
    ----------
    fwhm_px : float
        Geometric mean of the two widths [px].
    covariance : (float, float, float), optional
        cxx, cyy, cxy, of which the axis ratio and angle are taken; round when not given.
    """
    sigma = fwhm_px / SIGMA_TO_FWHM
    cxx, cyy, cxy = covariance or (1.0, 1.0, 0.0)
    root = math.sqrt(max(cxx * cyy - cxy * cxy, 1e-12))
    half = _half_points(fwhm_px)
    offsets = (np.arange(2 * half + 1) - half) / 2
    dx, dy = offsets[None, :], offsets[:, None]
    quadratic = (cyy * dx * dx + cxx * dy * dy - 2 * cxy * dx * dy) / root
    table = np.exp(-0.5 * quadratic / sigma**2)
    return MeasuredPsf(unit_table(table), fwhm_px)


def unit_table(table: F64Array) -> F64Array:
    """Return a table scaled so that its pixels sum to 1."""
    return np.ascontiguousarray(table / (0.25 * table.sum()))


def tapered(table: F64Array) -> F64Array:
    """Bring the outermost points to zero, so that subtracted stars have no edge."""
    middle = (table.shape[0] - 1) // 2
    offsets = np.arange(table.shape[0]) - middle
    distance = np.hypot(offsets[:, None], offsets[None, :])
    share = np.clip((middle - 2 - distance) / max(2.0, 0.15 * middle), 0.0, 1.0)
    return np.asarray(table * share)


def centred(table: F64Array, fwhm_px: float) -> F64Array:
    """Return the table moved so that its windowed centroid is in the middle: what a position means depends on it."""
    middle = (table.shape[0] - 1) // 2
    offsets = (np.arange(table.shape[0]) - middle) / 2
    sigma = fwhm_px / SIGMA_TO_FWHM
    x = y = 0.0
    for _ in range(20):
        window = np.exp(-0.5 * ((offsets[:, None] - y) ** 2 + (offsets[None, :] - x) ** 2) / sigma**2) * table
        total = window.sum()
        if not total > 0:
            return table
        dx = 2 * float((window * (offsets[None, :] - x)).sum() / total)
        dy = 2 * float((window * (offsets[:, None] - y)).sum() / total)
        x, y = x + dx, y + dy
        if math.hypot(dx, dy) < 1e-4:
            break
    if not 1e-3 < math.hypot(x, y) < fwhm_px:
        return table
    return np.asarray(ndimage.shift(table, (-2 * y, -2 * x), order=3, mode="constant"))


def half_width(table: F64Array) -> tuple[float, bool]:
    """Return (outer diameter [px] at which the mean profile has half of its crest, whether the crest is a ring).

    Quick, and good to a few per cent; NaN when the profile does not fall to half.
    """
    radius = _radii(table.shape[0])
    rings = np.rint(radius).astype(np.int64)
    # Within half a pixel of a whole radius; what lies between two belongs to neither.
    near = (np.abs(radius - rings) < 0.5) & (rings <= (table.shape[0] - 1) // 4)
    mean = np.bincount(rings[near], weights=table[near]) / np.bincount(rings[near])
    crest = int(np.argmax(mean))
    ring = crest >= 2 and bool(mean[0] < 0.85 * mean[crest])
    below = np.flatnonzero(mean[crest:] < mean[crest] / 2)
    if not len(below):
        return math.nan, ring
    i = crest + int(below[0])
    share = (mean[i - 1] - mean[crest] / 2) / (mean[i - 1] - mean[i])
    return float(2 * (i - 1 + share)), ring


def _settled(
    off: Callable[[F64Array], F64Array], slopes: Callable[[F64Array], F64Array], start: F64Array
) -> F64Array | None:
    """Return the numbers of least residuals, of which large ones count by their size and not their square; None without any.

    Damped Gauss-Newton steps (Marquardt 1963, J. SIAM 11, 431) with weights made anew for each (Holland & Welsch 1977, Commun. Stat.
    A 6, 813). A general solver takes four times as long for numbers so few.
    """

    def cost(residual: F64Array) -> float:
        return float((np.sqrt(1 + (residual / _TOLERATED) ** 2) - 1).sum())

    numbers, damping = start, 1e-3
    residual = off(numbers)
    least = cost(residual)
    if not math.isfinite(least):
        return None
    for _ in range(_STEPS):
        slope = slopes(numbers)
        weighed = slope.T / np.sqrt(1 + (residual / _TOLERATED) ** 2)
        normal, pull = weighed @ slope, weighed @ residual
        while True:
            step = np.linalg.solve(normal + damping * np.diag(np.diag(normal) + 1e-12), pull)
            # Far from the end slopes are no guide: a step of half a logarithm is a long one.
            step *= min(1.0, _LONGEST / float(np.abs(step).max() + 1e-300))
            with np.errstate(over="ignore", invalid="ignore"):
                tried = off(numbers - step)
            fresh = cost(tried)
            if fresh <= least:
                break
            damping *= 10
            if damping > 1e8:
                return numbers
        gained, numbers, residual, least = least - fresh, numbers - step, tried, fresh
        damping = max(damping / 10, 1e-9)
        if gained <= 1e-7 * least:
            break
    return numbers


def profile_width(table: F64Array, start_px: float) -> tuple[float, bool]:
    """Return (FWHM [px], whether the profile is a ring) of a table.

    One elliptical Moffat profile (Moffat 1969, A&A 3, 455) is fitted to the table's core; a ring has its outer
    diameter at half of its crest. NaN when neither works.
    """
    quick, ring = half_width(table)
    if ring:
        return quick, True
    middle = (table.shape[0] - 1) // 2
    offsets = (np.arange(table.shape[0]) - middle) / 2
    dx, dy = np.meshgrid(offsets, offsets)
    radius = np.hypot(dx, dy)
    core = radius < 1.3 * start_px
    value = table[core] / table.max()
    cx, cy = dx[core], dy[core]

    def parts(p: F64Array) -> tuple[float, float, float, float, float, F64Array, F64Array]:
        # Logarithms keep widths and beta positive.
        a, b, beta = math.exp(p[1]), math.exp(p[2]), 1 + math.exp(p[4])
        c, s = math.cos(p[3]), math.sin(p[3])
        return a, b, beta, c, s, (c * (cx - p[5]) + s * (cy - p[6])) / a, (c * (cy - p[6]) - s * (cx - p[5])) / b

    def off(p: F64Array) -> F64Array:
        *_, beta, _, _, u, v = parts(p)
        return np.asarray(p[0] * (1 + u * u + v * v) ** -beta - value)

    def slopes(p: F64Array) -> F64Array:
        a, b, beta, c, s, u, v = parts(p)
        base = 1 + u * u + v * v
        shape = base**-beta
        by_square = -p[0] * beta * shape / base
        return np.column_stack([
            shape, by_square * -2 * u * u, by_square * -2 * v * v, by_square * 2 * u * v * (b / a - a / b),
            -p[0] * shape * np.log(base) * (beta - 1), by_square * 2 * (v * s / b - u * c / a), by_square * -2 * (u * s / a + v * c / b),
        ])  # fmt: skip

    xx, yy, xy = (float((np.maximum(value, 0) * m).sum()) for m in (cx * cx, cy * cy, cx * cy))
    angle = 0.5 * math.atan2(2 * xy, xx - yy)
    first = np.array([1.0, math.log(start_px * 1.02), math.log(start_px * 0.98), angle, math.log(2.5), 0.0, 0.0])
    fit = _settled(off, slopes, first)
    if fit is None:
        return math.nan, False
    beta = 1 + math.exp(fit[4])
    fwhm = 2 * math.exp((fit[1] + fit[2]) / 2) * math.sqrt(math.expm1(math.log(2) / beta))
    return (fwhm, False) if 0.3 * start_px < fwhm < 3 * start_px else (math.nan, False)
