"""Profiles of one star or two fitted to the pixels about them, with the sky beneath."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from ulvar.engine import BoolArray, F32Array, F64Array, Failed, MaskArray
from ulvar.frames import CLIPPED_TO_SIGMA, MAD_TO_SIGMA, MaskBit
from ulvar.stars.table import StarFlag, StarTable

if TYPE_CHECKING:
    from ulvar.stars.psf import MeasuredPsf

_SPOILT = int(MaskBit.NO_DATA | MaskBit.HOT | MaskBit.COLD | MaskBit.COLUMN | MaskBit.COSMIC | MaskBit.TRAIL | MaskBit.SATURATED)  # fmt: skip
# Pixels so far from a star take part in its fit [FWHM], but never fewer than those [px].
_REACH, _LEAST_PX = 1.6, 3.0
# Stars further apart have a sky each [FWHM].
_APART = 2 * _REACH + 1
# A start that ends further off was led astray [FWHM].
_ASTRAY = 1.5
# A profile is gathered from so many stars at most, of this signal-to-noise ratio and more; fewer do not tell it.
_MOST, _LEAST, _STRONG = 40, 4, 40.0
# Places [px].
Place = tuple[float, float]


@dataclass(frozen=True)
class Patch:
    """The surroundings of stars: values less neighbours [ADU], their noise [ADU], pixels that count, where its corner is."""

    value: F64Array
    noise: float
    good: BoolArray
    saturated: BoolArray
    left: int
    low: int
    gain: float


def patch_about(
    data: F32Array, places: Sequence[Place], fwhm: float, mask: MaskArray | None, gain: float, full: float
) -> Patch | Failed:
    """Return the surroundings of stars, their sky taken off.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        [ADU].
    places : sequence of (float, float)
        [px].
    fwhm : float
        [px].
    mask : uint16 array or None
    gain : float
        [e-/ADU]; 0 where it is not known.
    full : float
        Values from here on are saturated [ADU].
    """
    height, width = data.shape
    if any(not (0 <= x <= width - 1 and 0 <= y <= height - 1) for x, y in places):
        return Failed("it lies outside the picture")
    reach = math.ceil(max(6 * fwhm, 14.0))
    left, low = (max(0, math.floor(min(along)) - reach) for along in zip(*places))
    right, top = (math.ceil(max(along)) + reach + 1 for along in zip(*places))
    cut = np.s_[low:top, left:right]
    value = data[cut].astype(np.float64)
    good = np.isfinite(value)
    saturated = good & (value >= full)
    if mask is not None:
        good &= (mask[cut] & np.uint16(_SPOILT)) == 0
        saturated |= (mask[cut] & np.uint16(MaskBit.SATURATED)) != 0
    good &= ~saturated
    ys, xs = np.mgrid[: value.shape[0], : value.shape[1]]
    near = np.minimum.reduce([np.hypot(xs + left - x, ys + low - y) for x, y in places])
    ring = value[good & (near > 2.5 * fwhm) & (near < reach)]
    if ring.size < 30:
        return Failed("there are too few pixels with a value about it")
    for _ in range(8):
        middle, spread = float(np.median(ring)), float(ring.std())
        kept = np.abs(ring - middle) < 3 * spread
        if kept.all():
            break
        ring = ring[kept]
    noise = max(float(ring.std()) * CLIPPED_TO_SIGMA, 1e-9)
    return Patch(value - float(np.median(ring)), noise, good, saturated, left, low, gain)


def profile_near(
    data: F32Array, stars: StarTable, places: Sequence[Place], fwhm: float, mask: MaskArray | None, gain: float
) -> MeasuredPsf | None:
    """Return the profile that lone bright stars of the exposure share, those nearest to the places first; None of too few."""
    from ulvar.stars.fitting import gather_psf, stamps
    from ulvar.stars.psf import gaussian_psf

    start = gaussian_psf(fwhm)
    spoilt = int(StarFlag.SATURATED | StarFlag.NONLINEAR | StarFlag.EDGE | StarFlag.BAD_PIXEL)
    clean = (stars.flags & spoilt) == 0
    away = np.minimum.reduce([np.hypot(stars.x - x, stars.y - y) for x, y in places])
    # What is measured does not tell its own profile: it may be long, or two stars in one.
    strong = clean & (stars.snr > _STRONG) & (away > fwhm)
    alone = []
    for k in np.flatnonzero(strong)[np.argsort(away[strong], kind="stable")]:
        near = np.hypot(stars.x - stars.x[k], stars.y - stars.y[k]) < start.radius_px + fwhm
        if stars.flux[near].sum() < 1.03 * stars.flux[k]:
            alone.append(k)
        if len(alone) == _MOST:
            break
    if len(alone) < _LEAST:
        return None
    clean_mask = np.zeros((1, 1), dtype=np.uint16) if mask is None else mask
    planes = (data, np.broadcast_to(clean_mask, data.shape))
    (picture, masks), x, y, inside = stamps(planes, stars.x[alone], stars.y[alone], start.radius_px + 2)
    if len(x) < _LEAST:
        return None
    side = picture.shape[0]
    bad = ~np.isfinite(picture) | ((masks & np.uint16(_SPOILT)) != 0)
    border = np.ones((side, side), dtype=bool)
    border[2:-2, 2:-2] = False
    noise = np.empty_like(picture)
    for k in range(len(x)):
        part = np.s_[:, k * side : (k + 1) * side]
        rim = picture[part][border & ~bad[part]]
        if not rim.size:
            bad[part] = True
            continue
        level = np.median(rim)
        picture[part] -= level
        noise[part] = max(MAD_TO_SIGMA * float(np.median(np.abs(rim - level))), 1e-6)
    flux = stars.flux[alone][inside]
    return gather_psf(
        start, picture, noise, bad, x, y, flux, gain=gain, noise_adu=float(np.median(noise)), rounds=6, doubt=0.5
    )


def take_neighbours_off(patch: Patch, psf: MeasuredPsf, stars: StarTable, places: Sequence[Place], fwhm: float) -> None:
    """Take the light of other stars off the patch, in place."""
    height, width = patch.value.shape
    x, y = stars.x - patch.left, stars.y - patch.low
    beyond = psf.radius_px
    near = (x > -beyond) & (y > -beyond) & (x < width + beyond) & (y < height + beyond)
    for px, py in places:
        near &= np.hypot(stars.x - px, stars.y - py) > 1.2 * fwhm
    ys, xs = np.mgrid[:height, :width]
    for k in np.flatnonzero(near):
        close = np.hypot(xs - x[k], ys - y[k]) < beyond
        patch.value[close] -= stars.flux[k] * _from_table(psf.table, xs[close] - x[k], ys[close] - y[k])


def smoothed(patch: Patch, fwhm: float) -> F64Array:
    """Return the patch smoothed, so that its peaks are stars."""
    from scipy.ndimage import gaussian_filter

    return np.asarray(gaussian_filter(np.where(patch.good, patch.value, 0.0), max(0.6, fwhm / 3.5)))


def peak_near(smooth: F64Array, place: Place, radius: float) -> Place:
    """Return the highest pixel within a radius of a place of a smoothed patch [px]."""
    ys, xs = np.mgrid[: smooth.shape[0], : smooth.shape[1]]
    inside = np.hypot(xs - place[0], ys - place[1]) <= max(radius, 1.0)
    k = int(np.argmax(np.where(inside, smooth, -np.inf)))
    return float(k % smooth.shape[1]), float(k // smooth.shape[1])


# ---- the fit


@dataclass(frozen=True)
class Fitted:
    """A fit of stars: places and shape, their light and sky, chi-squared, and the pixels and weights that it was made with."""

    places: F64Array
    shape: F64Array
    linear: F64Array
    chi2: float
    pixels: Pixels

    @property
    def free(self) -> int:
        """Degrees of freedom."""
        return len(self.pixels.value) - len(self.places) - len(self.shape) - len(self.linear)


@dataclass(frozen=True)
class Pixels:
    """Pixels that take part: where they are, values and errors [ADU], and to which sky each belongs, shape (pixels, skies)."""

    x: F64Array
    y: F64Array
    value: F64Array
    sigma: F64Array
    skies: F64Array

    @classmethod
    def about(cls, patch: Patch, places: F64Array, fwhm: float) -> Pixels:
        """Take the pixels about stars, with the noise of the sky alone."""
        ys, xs = np.mgrid[: patch.value.shape[0], : patch.value.shape[1]]
        reach = max(_REACH * fwhm, _LEAST_PX)
        each = [np.hypot(xs - places[i], ys - places[i + 1]) <= reach for i in range(0, len(places), 2)]
        used = patch.good & np.logical_or.reduce(each)
        wide = len(each) > 1 and math.hypot(places[2] - places[0], places[3] - places[1]) > _APART * fwhm
        skies = np.column_stack([one[used] for one in each]) if wide else np.ones((int(used.sum()), 1))
        value = patch.value[used]
        sigma = np.full(value.shape, patch.noise)
        return cls(xs[used].astype(np.float64), ys[used].astype(np.float64), value, sigma, skies.astype(np.float64))


def _from_table(table: F64Array, dx: F64Array, dy: F64Array) -> F64Array:
    """Return the profile at offsets from the star's centre [px], shape (pixels,); 0 outside the table."""
    from ulvar.stars._kernels_psf import sample_places

    out = np.empty(len(dx))
    sample_places(table, dx, dy, out)
    return out


def _moffat(shape: F64Array, dx: F64Array, dy: F64Array) -> F64Array:
    """Return a Moffat profile of sum 1 at offsets [px].

    Its shape: logarithm of the size, the two parts of its elongation, logarithm of beta - 1. Held where the profile is
    one: exponents beyond tell nothing more.
    """
    size, beta = math.exp(min(max(shape[0], -2.0), 4.0)), 1 + math.exp(min(max(shape[3], -1.0), 4.0))
    long = math.hypot(shape[1], shape[2])
    share = math.tanh(long) / long if long > 1e-9 else 1.0
    e1, e2 = share * shape[1], share * shape[2]
    root = math.sqrt(1 - e1 * e1 - e2 * e2)
    r2 = ((1 - e1) * dx * dx + (1 + e1) * dy * dy - 2 * e2 * dx * dy) / (root * size * size)
    return np.asarray((beta - 1) / (math.pi * size * size) * (1 + r2) ** -beta)


def first_shape(fwhm: float, psf: MeasuredPsf | None) -> F64Array:
    """Return the shape to begin with: round, of beta 3; a measured profile has none to fit."""
    core = fwhm / (2 * math.sqrt(2 ** (1 / 3) - 1))
    return np.array([math.log(core), 0.0, 0.0, math.log(2.0)]) if psf is None else np.empty(0)


def _columns(pixels: Pixels, psf: MeasuredPsf | None, places: F64Array, shape: F64Array) -> F64Array:
    """Return one column for each star and each sky, shape (pixels, stars + skies)."""
    stars = []
    for i in range(0, len(places), 2):
        dx, dy = pixels.x - places[i], pixels.y - places[i + 1]
        stars.append(_moffat(shape, dx, dy) if psf is None else _from_table(psf.table, dx, dy))
    return np.column_stack([*stars, pixels.skies])


def settled(pixels: Pixels, psf: MeasuredPsf | None, places: F64Array, shape: F64Array, fwhm: float) -> Fitted | None:
    """Fit stars on given pixels and weights from a start; None where that leads nowhere."""
    from scipy.optimize import least_squares

    n, weight = len(places), 1 / pixels.sigma
    value = pixels.value * weight
    if len(value) < n + len(shape) + 6:
        return None

    def light(p: F64Array) -> tuple[F64Array, F64Array]:
        # Light and sky enter linearly: for given places they follow (Golub & Pereyra 1973, SIAM J. Numer. Anal. 10, 413).
        a = _columns(pixels, psf, p[:n], p[n:]) * weight[:, None]
        linear = np.linalg.lstsq(a, value, rcond=None)[0]
        return np.asarray(linear, dtype=np.float64), np.asarray(a @ linear - value)

    try:
        found = least_squares(
            lambda p: light(p)[1], np.concatenate([places, shape]), method="lm", xtol=1e-7, ftol=1e-9, max_nfev=400
        ).x
    except (ValueError, np.linalg.LinAlgError):
        return None
    if not np.isfinite(found).all() or np.abs(found[:n] - places).max() > _ASTRAY * fwhm:
        return None
    linear, off = light(found)
    return Fitted(found[:n], found[n:], linear, float((off**2).sum()), pixels)


def weighed(patch: Patch, fit: Fitted, psf: MeasuredPsf | None, fwhm: float) -> Pixels:
    """Return the pixels about the places that were found, with errors by the light that was found."""
    pixels = Pixels.about(patch, fit.places, fwhm)
    per_adu = 1 / patch.gain if patch.gain else _photons(fit, psf, patch.noise)
    stars = len(fit.places) // 2
    light = _columns(pixels, psf, fit.places, fit.shape)[:, :stars] @ fit.linear[:stars]
    return replace(pixels, sigma=np.sqrt(patch.noise**2 + per_adu * np.maximum(light, 0)))


def _photons(fit: Fitted, psf: MeasuredPsf | None, noise: float) -> float:
    """Return the variance for each ADU of light [ADU], as the scatter about the fit tells it."""
    stars = len(fit.places) // 2
    columns = _columns(fit.pixels, psf, fit.places, fit.shape)
    light = np.maximum(columns[:, :stars] @ fit.linear[:stars], 0)
    extra = (fit.pixels.value - columns @ fit.linear) ** 2 - noise**2
    # Numbers that were fitted have taken their part of the scatter.
    extra = extra + noise**2 * (len(extra) / max(fit.free, 1) - 1)
    share = 0.0
    for _ in range(4):
        weight = 1 / (noise**2 + share * light) ** 2
        share = max(0.0, float((weight * light * extra).sum() / max((weight * light * light).sum(), 1e-30)))
    return share


def covariance_of(fit: Fitted, psf: MeasuredPsf | None) -> F64Array | None:
    """Return the covariance of places, then light, by the normal equations of all numbers; None where they are singular."""
    n, step = len(fit.places), 1e-4
    numbers = np.concatenate([fit.places, fit.shape])
    slopes = []
    for k in range(len(numbers)):
        ahead, behind = numbers.copy(), numbers.copy()
        ahead[k] += step
        behind[k] -= step
        change = _columns(fit.pixels, psf, ahead[:n], ahead[n:]) - _columns(fit.pixels, psf, behind[:n], behind[n:])
        slopes.append(change @ fit.linear / (2 * step))
    a = np.column_stack([*slopes, _columns(fit.pixels, psf, fit.places, fit.shape)]) / fit.pixels.sigma[:, None]
    scale = np.sqrt((a * a).sum(axis=0))
    # A profile that is as pointed or as flat as can be has no slope there: it is no uncertainty of the places.
    told = scale > 1e-9 * scale.max()
    a, scale = a[:, told] / scale[told], scale[told]
    normal = a.T @ a
    if not told[: len(numbers) - len(fit.shape)].all() or np.linalg.cond(normal) > 1e12:
        return None
    inverse = np.linalg.inv(normal) / np.outer(scale, scale)
    stars = int(told[: len(numbers)].sum())
    kept = [*range(n), *range(stars, stars + n // 2)]
    return np.asarray(inverse[np.ix_(kept, kept)])
