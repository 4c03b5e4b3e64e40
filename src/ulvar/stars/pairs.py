"""Two stars measured together: places, fluxes and their errors, of wide pairs and of those that run into one."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from ulvar.engine import BoolArray, F32Array, F64Array, Failed, MaskArray
from ulvar.frames import CLIPPED_TO_SIGMA, MaskBit
from ulvar.stars.table import StarFlag, StarTable

if TYPE_CHECKING:
    from ulvar.stars.psf import MeasuredPsf

_SPOILT = int(MaskBit.NO_DATA | MaskBit.HOT | MaskBit.COLD | MaskBit.COLUMN | MaskBit.COSMIC | MaskBit.TRAIL | MaskBit.SATURATED)  # fmt: skip
# Pixels so far from a star take part in its fit [FWHM], but never fewer than those [px].
_REACH, _LEAST_PX = 1.6, 3.0
# Stars further apart have a sky each [FWHM].
_APART = 2 * _REACH + 1
# A second star must better the fit by so much of chi-squared: by chance its three numbers do so once in a million times.
_BETTER = 32.0
# A start that ends further off was led astray [FWHM].
_ASTRAY = 1.5
# Where the two share a profile that is fitted to themselves and overlap, each is misplaced by about so much [FWHM, per
# axis]: no real profile is a Moffat profile (measured on profiles of two Gaussians, see docs/positions.md).
_MISFIT, _OVERLAP = 0.0045, 4.0
# A profile is gathered from so many stars at most, of this signal-to-noise ratio and more; fewer do not tell it.
_MOST, _LEAST, _STRONG = 40, 4, 40.0


@dataclass(frozen=True)
class PairFit:
    """Two stars of one exposure; the first is the one that was named first.

    Attributes
    ----------
    x, y, flux : float64 array, shape (2,)
        Places [px, 0-based] and light [ADU].
    covariance : float64 array, shape (6, 6)
        Of x1, y1, x2, y2 [px], flux 1, flux 2 [ADU].
    chi2 : float
        Reduced; over 1 it has widened the errors.
    fwhm_px : float
    saturated : bool
        Whether either star has saturated pixels: they are left away, the wings tell the place.
    own_profile : bool
        Whether other stars of the exposure told the profile; else its shape was fitted to the two themselves.
    """

    x: F64Array
    y: F64Array
    flux: F64Array
    covariance: F64Array
    chi2: float
    fwhm_px: float
    saturated: bool
    own_profile: bool

    @property
    def separation_px(self) -> tuple[float, float]:
        """Distance of the two and its standard error [px]."""
        dx, dy = float(self.x[1] - self.x[0]), float(self.y[1] - self.y[0])
        apart = math.hypot(dx, dy)
        slope = np.array([-dx, -dy, dx, dy]) / apart
        return apart, math.sqrt(slope @ self.covariance[:4, :4] @ slope)

    @property
    def angle_deg(self) -> tuple[float, float]:
        """Direction from the first to the second, from +x to +y, 0-360, and its standard error [deg]."""
        dx, dy = float(self.x[1] - self.x[0]), float(self.y[1] - self.y[0])
        slope = np.array([dy, -dx, -dy, dx]) / (dx * dx + dy * dy)
        error = math.sqrt(slope @ self.covariance[:4, :4] @ slope)
        return math.degrees(math.atan2(dy, dx)) % 360.0, math.degrees(error)

    @property
    def difference_mag(self) -> tuple[float, float]:
        """Magnitude of the second less that of the first, and its standard error."""
        slope = np.array([1 / self.flux[0], -1 / self.flux[1]]) * 2.5 / math.log(10)
        error = math.sqrt(slope @ self.covariance[4:, 4:] @ slope)
        return -2.5 * math.log10(self.flux[1] / self.flux[0]), error


@dataclass(frozen=True)
class _Patch:
    """The surroundings of a pair: values less neighbours [ADU], their noise [ADU], pixels that count, where its corner is."""

    value: F64Array
    noise: float
    good: BoolArray
    saturated: BoolArray
    left: int
    low: int
    gain: float


def measure_pair(
    data: F32Array,
    first: tuple[float, float],
    second: tuple[float, float],
    *,
    fwhm_px: float,
    stars: StarTable | None = None,
    mask: MaskArray | None = None,
    gain_e_per_adu: float | None = None,
    saturation_adu: float | None = None,
) -> PairFit | Failed:
    """Measure two stars at about these places together.

    Both profiles are fitted at once to the pixels about either star, with the sky beneath them; a pair closer than its
    width is no other case. The profile is that of the exposure's own stars near by (Anderson & King 2000, PASP 112, 1360;
    fitted to several stars at once as in Stetson 1987, PASP 99, 191); where there are too few of them, one
    elliptical Moffat profile (Moffat 1969, A&A 3, 455) that both stars share is fitted along with them.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        [ADU]; not modified.
    first, second : (float, float)
        About where they are [px]: within a width, or nearer to this star than to any other.
    fwhm_px : float
        Of stars in this exposure [px].
    stars : StarTable, optional
        Those of the exposure: they tell the profile, and are taken off where they stand near the pair.
    mask : uint16 array, optional
        `MaskBit` plane.
    gain_e_per_adu : float, optional
        [e-/ADU]. Without it the scatter about the fit tells the noise of the light.
    saturation_adu : float, optional
        Values from here on are saturated [ADU].

    Returns
    -------
    PairFit, or Failed where there are no two stars
    """
    if not (math.isfinite(fwhm_px) and fwhm_px > 0):
        return Failed("the width of its stars is not known")
    height, width = data.shape
    for x, y in (first, second):
        if not (0 <= x <= width - 1 and 0 <= y <= height - 1):
            return Failed("a star of the pair lies outside the picture")
    gain = float(gain_e_per_adu) if gain_e_per_adu is not None and gain_e_per_adu > 0 else 0.0
    full = np.inf if saturation_adu is None else saturation_adu
    psf = None if stars is None else _profile_near(data, stars, first, second, fwhm_px, mask, gain)
    patch = _patch_about(data, first, second, fwhm_px, mask, gain, full)
    if isinstance(patch, Failed):
        return patch
    if psf is not None and stars is not None:
        _take_neighbours_off(patch, psf, stars, (first, second), fwhm_px)
    starts = _starts(patch, first, second, fwhm_px)
    # All on the same pixels with the same weights, so that the least misfit tells the best.
    pixels = _Pixels.about(patch, starts[0], fwhm_px)
    tried = [_settled(pixels, psf, start, _first_shape(fwhm_px, psf), fwhm_px) for start in starts]
    best = min((one for one in tried if one is not None), key=lambda one: one.chi2, default=None)
    for _ in range(2):
        if best is not None:
            best = _settled(_weighed(patch, best, psf, fwhm_px), psf, best.places, best.shape, fwhm_px)
    if best is None:
        return Failed("no two stars are found there")
    if (best.places[2:] - best.places[:2]) @ np.subtract(second, first) < 0:
        # Which of two merged stars is which, the direction tells in which they were named.
        best = replace(
            best, places=np.roll(best.places, 2), linear=np.concatenate([best.linear[1::-1], best.linear[2:]])
        )
    return _judged(patch, best, fwhm_px, psf)


def _patch_about(
    data: F32Array, first: tuple[float, float], second: tuple[float, float], fwhm: float, mask: MaskArray | None,
    gain: float, full: float,
) -> _Patch | Failed:  # fmt: skip
    reach = math.ceil(max(6 * fwhm, 14.0))
    left, low = (max(0, math.floor(min(a, b)) - reach) for a, b in zip(first, second))
    right, top = (math.ceil(max(a, b)) + reach + 1 for a, b in zip(first, second))
    cut = np.s_[low:top, left:right]
    value = data[cut].astype(np.float64)
    good = np.isfinite(value)
    saturated = good & (value >= full)
    if mask is not None:
        good &= (mask[cut] & np.uint16(_SPOILT)) == 0
        saturated |= (mask[cut] & np.uint16(MaskBit.SATURATED)) != 0
    good &= ~saturated
    ys, xs = np.mgrid[: value.shape[0], : value.shape[1]]
    near = np.minimum(*(np.hypot(xs + left - x, ys + low - y) for x, y in (first, second)))
    ring = value[good & (near > 2.5 * fwhm) & (near < reach)]
    if ring.size < 30:
        return Failed("there are too few pixels with a value about the pair")
    for _ in range(8):
        middle, spread = float(np.median(ring)), float(ring.std())
        kept = np.abs(ring - middle) < 3 * spread
        if kept.all():
            break
        ring = ring[kept]
    noise = max(float(ring.std()) * CLIPPED_TO_SIGMA, 1e-9)
    return _Patch(value - float(np.median(ring)), noise, good, saturated, left, low, gain)


def _profile_near(
    data: F32Array, stars: StarTable, first: tuple[float, float], second: tuple[float, float], fwhm: float,
    mask: MaskArray | None, gain: float,
) -> MeasuredPsf | None:  # fmt: skip
    """Return the profile that lone bright stars of the exposure share, those nearest to the pair first; None of too few."""
    from ulvar.stars.fitting import gather_psf, stamps
    from ulvar.stars.psf import gaussian_psf

    start = gaussian_psf(fwhm)
    spoilt = int(StarFlag.SATURATED | StarFlag.NONLINEAR | StarFlag.EDGE | StarFlag.BAD_PIXEL)
    clean = (stars.flags & spoilt) == 0
    away = np.minimum(*(np.hypot(stars.x - x, stars.y - y) for x, y in (first, second)))
    # A star of the pair tells its profile only where the other one is no part of it.
    apart = math.dist(first, second) > 2 * start.radius_px
    strong = clean & (stars.snr > _STRONG) & ((away > fwhm) | apart)
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
        noise[part] = max(1.4826 * float(np.median(np.abs(rim - level))), 1e-6)
    flux = stars.flux[alone][inside]
    return gather_psf(
        start, picture, noise, bad, x, y, flux, gain=gain, noise_adu=float(np.median(noise)), rounds=6, doubt=0.5
    )


def _take_neighbours_off(
    patch: _Patch, psf: MeasuredPsf, stars: StarTable, pair: tuple[tuple[float, float], ...], fwhm: float
) -> None:
    """Take the light of other stars off the patch, in place."""
    height, width = patch.value.shape
    x, y = stars.x - patch.left, stars.y - patch.low
    beyond = psf.radius_px
    near = (x > -beyond) & (y > -beyond) & (x < width + beyond) & (y < height + beyond)
    for px, py in pair:
        near &= np.hypot(stars.x - px, stars.y - py) > 1.2 * fwhm
    ys, xs = np.mgrid[:height, :width]
    for k in np.flatnonzero(near):
        close = np.hypot(xs - x[k], ys - y[k]) < beyond
        patch.value[close] -= stars.flux[k] * _from_table(psf.table, xs[close] - x[k], ys[close] - y[k])


def _starts(patch: _Patch, first: tuple[float, float], second: tuple[float, float], fwhm: float) -> list[F64Array]:
    """Return places (x1, y1, x2, y2) to begin at: as they were named, drawn to the peaks near by, and either side of a peak they share."""
    from scipy.ndimage import gaussian_filter

    named = [(first[0] - patch.left, first[1] - patch.low), (second[0] - patch.left, second[1] - patch.low)]
    smooth = gaussian_filter(np.where(patch.good, patch.value, 0.0), max(0.6, fwhm / 3.5))
    peaks = [_peak(smooth, place, 1.2 * fwhm) for place in named]
    starts = [(*named[0], *named[1])]
    if math.dist(peaks[0], peaks[1]) > 0.7 * fwhm:
        starts.append((*peaks[0], *peaks[1]))
    else:
        # Both are drawn to one peak: they lie on either side of it, along the line that was drawn, or one of them on it.
        dx, dy = named[1][0] - named[0][0], named[1][1] - named[0][1]
        length = math.hypot(dx, dy)
        ux, uy = (dx / length, dy / length) if length else (1.0, 0.0)
        (px, py), sx, sy = peaks[0], 0.9 * fwhm * ux, 0.9 * fwhm * uy
        starts += [
            (px - share * sx, py - share * sy, px + (1 - share) * sx, py + (1 - share) * sy) for share in (0.5, 0, 1)
        ]
    return [np.array(start) for start in starts]


def _peak(smooth: F64Array, place: tuple[float, float], radius: float) -> tuple[float, float]:
    ys, xs = np.mgrid[: smooth.shape[0], : smooth.shape[1]]
    inside = np.hypot(xs - place[0], ys - place[1]) <= max(radius, 1.0)
    k = int(np.argmax(np.where(inside, smooth, -np.inf)))
    return float(k % smooth.shape[1]), float(k // smooth.shape[1])


# ---- the fit


@dataclass(frozen=True)
class _Fitted:
    """A fit of stars: places and shape, their light and sky, chi-squared, and the pixels and weights that it was made with."""

    places: F64Array
    shape: F64Array
    linear: F64Array
    chi2: float
    pixels: _Pixels

    @property
    def free(self) -> int:
        """Degrees of freedom."""
        return len(self.pixels.value) - len(self.places) - len(self.shape) - len(self.linear)


@dataclass(frozen=True)
class _Pixels:
    """Pixels that take part: where they are, values and errors [ADU], and to which sky each belongs, shape (pixels, skies)."""

    x: F64Array
    y: F64Array
    value: F64Array
    sigma: F64Array
    skies: F64Array

    @classmethod
    def about(cls, patch: _Patch, places: F64Array, fwhm: float) -> _Pixels:
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


def _first_shape(fwhm: float, psf: MeasuredPsf | None) -> F64Array:
    """Return the shape to begin with: round, of beta 3; a measured profile has none to fit."""
    core = fwhm / (2 * math.sqrt(2 ** (1 / 3) - 1))
    return np.array([math.log(core), 0.0, 0.0, math.log(2.0)]) if psf is None else np.empty(0)


def _columns(pixels: _Pixels, psf: MeasuredPsf | None, places: F64Array, shape: F64Array) -> F64Array:
    """Return one column for each star and each sky, shape (pixels, stars + skies)."""
    stars = []
    for i in range(0, len(places), 2):
        dx, dy = pixels.x - places[i], pixels.y - places[i + 1]
        stars.append(_moffat(shape, dx, dy) if psf is None else _from_table(psf.table, dx, dy))
    return np.column_stack([*stars, pixels.skies])


def _settled(
    pixels: _Pixels, psf: MeasuredPsf | None, places: F64Array, shape: F64Array, fwhm: float
) -> _Fitted | None:
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
    return _Fitted(found[:n], found[n:], linear, float((off**2).sum()), pixels)


def _weighed(patch: _Patch, fit: _Fitted, psf: MeasuredPsf | None, fwhm: float) -> _Pixels:
    """Return the pixels about the places that were found, with errors by the light that was found."""
    pixels = _Pixels.about(patch, fit.places, fwhm)
    per_adu = 1 / patch.gain if patch.gain else _photons(fit, psf, patch.noise)
    stars = len(fit.places) // 2
    light = _columns(pixels, psf, fit.places, fit.shape)[:, :stars] @ fit.linear[:stars]
    return replace(pixels, sigma=np.sqrt(patch.noise**2 + per_adu * np.maximum(light, 0)))


def _photons(fit: _Fitted, psf: MeasuredPsf | None, noise: float) -> float:
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


def _judged(patch: _Patch, best: _Fitted, fwhm: float, psf: MeasuredPsf | None) -> PairFit | Failed:
    """Return the pair with its errors, or why it is none."""
    covariance = _covariance(best, psf)
    if covariance is None:
        return Failed("the two stars cannot be told apart")
    reduced = best.chi2 / max(best.free, 1)
    # A misfit is uncertainty, too.
    covariance = covariance * max(1.0, reduced)
    apart = math.dist(best.places[:2], best.places[2:])
    if psf is None and apart < _OVERLAP * fwhm:
        covariance = covariance + np.diag([(_MISFIT * fwhm) ** 2] * 4 + [0.0, 0.0])
    flux, errors = best.linear[:2], np.sqrt(np.diag(covariance))
    if not np.isfinite(errors).all() or (flux < 3 * errors[4:]).any():
        which = "first" if flux[0] < 3 * errors[4] else "second"
        return Failed(f"there is no {which} star that stands out of the noise")
    if apart < 3 * fwhm:
        brighter = 2 * int(flux[1] > flux[0])
        middle = (flux[:, None] * best.places.reshape(2, 2)).sum(axis=0) / flux.sum()
        alone = [
            one.chi2
            for place in (best.places[brighter : brighter + 2], middle)
            if (one := _settled(best.pixels, psf, place, best.shape, fwhm)) is not None
        ]
        if alone and min(alone) - best.chi2 < _BETTER * max(1.0, reduced):
            return Failed("one star fits as well as two")
    ys, xs = np.mgrid[: patch.value.shape[0], : patch.value.shape[1]]
    near = np.minimum(*(np.hypot(xs - best.places[i], ys - best.places[i + 1]) for i in (0, 2))) < fwhm
    return PairFit(
        best.places[0::2] + patch.left, best.places[1::2] + patch.low, flux, covariance, reduced,
        fwhm if psf is None else psf.fwhm_px, bool((patch.saturated & near).any()), psf is not None,
    )  # fmt: skip


def _covariance(fit: _Fitted, psf: MeasuredPsf | None) -> F64Array | None:
    """Return the covariance of places and light by the normal equations of all numbers; None where they are singular."""
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
    kept = [0, 1, 2, 3, stars, stars + 1]
    return np.asarray(inverse[np.ix_(kept, kept)])
