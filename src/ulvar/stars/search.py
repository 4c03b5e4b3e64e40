"""The search itself: matched filter, maxima, one fit of all profiles, and again on what is left."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace

import cv2
import numpy as np
from scipy.spatial import cKDTree

from ulvar.engine import BoolArray, F32Array, F64Array, laid_end_to_end
from ulvar.frames import robust_spread
from ulvar.stars._kernels_psf import sample_table
from ulvar.stars.background import Background, estimate_background
from ulvar.stars.bright import SIGMA_TO_FWHM, find_maxima, matched_gaussian, ring_mean
from ulvar.stars.fitting import ProfileFit, gather_psf
from ulvar.stars.psf import MeasuredPsf, narrowed, profile_width
from ulvar.stars.trails import Trail

# Searches at most; only very crowded fields need more than five.
_PASSES = 8


@dataclass
class Scene:
    """A frame while its stars are looked for."""

    residual: F32Array
    background: Background
    hidden: BoolArray
    saturated: BoolArray
    gain: float
    box_px: int
    mosaic: bool = False
    bad: BoolArray = field(init=False)

    def __post_init__(self) -> None:
        self.bad = self.hidden | self.saturated if self.saturated.any() else self.hidden

    @property
    def noise(self) -> F32Array:
        return self.background.noise


def _matched(residual: F32Array, psf: MeasuredPsf, hidden: BoolArray) -> tuple[F32Array, float]:
    """Convolve with the profile (sum 1); return it with the noise factor sqrt(sum k^2)."""
    if psf.ring or psf.stars == 0 or _long(psf):
        filled = np.nan_to_num(residual, nan=0.0) if hidden.any() else residual
        kernel = psf.kernel()
        smooth = cv2.filter2D(filled, cv2.CV_32F, kernel, borderType=cv2.BORDER_REFLECT)
        return smooth, float(np.sqrt((kernel.astype(np.float64) ** 2).sum()))
    # A round Gaussian of the same width loses under a hundredth of the signal and is separable.
    return matched_gaussian(residual, psf.fwhm_px / SIGMA_TO_FWHM, hidden)


def _long(psf: MeasuredPsf) -> bool:
    """Whether the profile is so long that a round filter would lose stars."""
    middle = (psf.table.shape[0] - 1) // 2
    reach = min(middle, math.ceil(2 * psf.fwhm_px))
    core = np.maximum(psf.table[middle - reach : middle + reach + 1, middle - reach : middle + reach + 1], 0)
    offsets = np.arange(-reach, reach + 1)
    # Windowed, so that noise in the wings does not count.
    core = core * np.exp(-0.5 * (offsets[:, None] ** 2 + offsets[None, :] ** 2) / (2 * psf.fwhm_px) ** 2)
    total = core.sum()
    xx, yy = (core * offsets[None, :] ** 2).sum() / total, (core * offsets[:, None] ** 2).sum() / total
    xy = (core * offsets[None, :] * offsets[:, None]).sum() / total
    spread = math.hypot((xx - yy) / 2, xy)
    mean = (xx + yy) / 2
    return bool(math.sqrt(max(mean - spread, 0.0) / (mean + spread)) < 0.8)


def stars_for_profile(snr: F64Array) -> int:
    """Return how many stars, the brightest first, tell the profile: 40 bright ones, more where they are faint."""
    return max(40, min(150, int(np.searchsorted(np.cumsum(snr**2), 40 * 100.0**2)))) if len(snr) else 0


def _saturated_cores(scene: Scene) -> tuple[F64Array, F64Array, F64Array]:
    """Return middle and radius of saturated patches of three pixels and more [px]; a smaller one has no core to fill."""
    if not scene.saturated.any():
        return np.empty(0), np.empty(0), np.empty(0)
    grown = cv2.dilate(scene.saturated.astype(np.uint8), np.ones((3, 3), np.uint8))
    _, _, stats, middles = cv2.connectedComponentsWithStats(grown, connectivity=8)
    area = stats[:, cv2.CC_STAT_AREA].astype(np.float64)
    # Bleeding makes a patch long, not the star wide.
    radius = np.minimum(np.sqrt(area / np.pi), stats[:, 2:4].min(axis=1) / 2.0)
    large = area > 15
    large[0] = False
    return middles[large, 0], middles[large, 1], radius[large]


# Up to this share of the light of a star of this signal-to-noise ratio a peak beside it may be what too narrow a profile leaves.
_RING_SHARE, _RING_SNR = 0.03, 150.0
# A star of which more than this share of the peak is left about its middle is none that the profile fits.
_MISFIT = 0.25
# With fewer of the bright ones fitted the picture holds more than stars.
_SANE = 0.8


def search_stars(scene: Scene, psf: MeasuredPsf, threshold: float, trails: tuple[Trail, ...]) -> ProfileFit:
    """Search, fit, take off, search what is left, until nothing more stands out."""
    fit = ProfileFit(scene.residual, scene.noise, scene.bad, psf, gain=scene.gain, noise_adu=scene.background.noise_adu)
    excess = 1.0
    for number in range(_PASSES):
        x, y, flux, snr, factor, scatter = _peaks(fit, scene, threshold * excess)
        if number:
            # Resampled frames and fields full of unseen stars scatter more than their pixels' noise says.
            excess = scatter if scatter > 1.03 else 1.0
            strong = snr >= threshold * excess
            x, y, flux, snr = x[strong], y[strong], flux[strong], snr[strong]
        good = _off_trails(x, y, snr, trails, factor, scene)
        if not fit.psf.ring:
            good &= ~_sharp(fit.left, x, y, snr, fit.psf)
        x, y, flux, core = x[good], y[good], flux[good], np.zeros(int(good.sum()))
        if number == 0:
            x, y, flux, core = _with_cores(x, y, flux, _saturated_cores(scene), fit.psf)
        else:
            crowding = len(fit) * (2 * fit.psf.fwhm_px) ** 2 / fit.left.size
            real = _stands_out(x, y, flux, fit, 0.002 + 0.015 * min(crowding, 1.0))
            x, y, flux, core = x[real], y[real], flux[real], core[real]
            if not len(x):
                break
        fit.add(x, y, flux, core)
        fit.settle(3 if number == 0 else 7)
        _drop_lost(fit, 0.7 * threshold)
        if not len(fit):
            break
        crowded = len(fit) * (2 * fit.psf.fwhm_px) ** 2 > 0.06 * fit.left.size
        # A ring's profile is told at once; in a crowd it clears up with every star that is taken off.
        again = 3 if fit.psf.ring else 6
        if number == 0 or (crowded and number < again):
            _background_again(scene, fit, not crowded)
        if number == 0 or (number < again and (crowded or len(x) > 0.02 * len(fit))):
            # Companions that were found since must not stay in the profile.
            _gather_again(fit)
        if crowded:
            fit.settle(4)
        # Where stars crowd, each that is found uncovers others: noise and profile settle with them.
        enough = len(x) < (0.015 if crowded else 0.01) * len(fit)
        if (enough and number >= (3 if crowded else 1)) or (fit.psf.ring and number == 4):
            break
    fit.settle(9)
    _drop_lost(fit, 0.9 * threshold * excess)
    fit.settle(4)
    fit.variance *= excess**2
    return fit


def _peaks(
    fit: ProfileFit, scene: Scene, threshold: float
) -> tuple[F64Array, F64Array, F64Array, F64Array, float, float]:
    """Return x, y, flux and SNR of the maxima of what is left, the filter's noise factor, and the scatter in units of it."""
    smooth, factor = _matched(fit.left, fit.psf, scene.hidden)
    apart = round(fit.psf.fwhm_px / 2) if fit.psf.ring else 1
    xs, ys = find_maxima(smooth, scene.noise, threshold * factor, scene.hidden, apart)
    height = smooth[ys, xs].astype(np.float64)
    snr = height / (factor * scene.noise[ys, xs])
    # The best flux of a profile p is sum(p d) / sum(p^2); of a Gaussian stand-in that is near enough to start.
    step = max(1, math.isqrt(smooth.size // 40_000))
    sample = smooth[::step, ::step] / (factor * scene.noise[::step, ::step])
    # Where pixels are hidden nothing scatters.
    seen = sample[~scene.hidden[::step, ::step]]
    scatter = robust_spread(seen) if seen.size else 1.0
    return xs.astype(np.float64), ys.astype(np.float64), height / factor**2, snr, factor, scatter


def _sharp(left: F32Array, x: F64Array, y: F64Array, snr: F64Array, psf: MeasuredPsf) -> BoolArray:
    """Tell peaks whose eight neighbours are too dark for the profile: hot pixels and cosmic rays."""
    ring = [sample_table(psf.table, dx, dy) for dx in (-1.0, 0.0, 1.0) for dy in (-1.0, 0.0, 1.0) if dx or dy]
    expected = float(np.mean(ring)) / sample_table(psf.table, 0.0, 0.0)
    ix, iy = x.astype(np.int64), y.astype(np.int64)
    centre = left[iy, ix].astype(np.float64)
    sigma = psf.fwhm_px / SIGMA_TO_FWHM
    noise = 1.2 / np.maximum(snr, 1.0) * math.sqrt(math.pi) * 2 * sigma
    mean = ring_mean(left, ix, iy)
    with np.errstate(invalid="ignore", divide="ignore"):
        ratio = np.where(centre > 0, mean / centre, 1.0)
    return np.asarray(ratio < 0.45 * expected - np.minimum(noise, 0.4 * expected))


def _off_trails(
    x: F64Array, y: F64Array, snr: F64Array, trails: tuple[Trail, ...], factor: float, scene: Scene
) -> BoolArray:
    """Tell peaks that are not the ridge of a trail; a star on it that stands far over the ridge stays."""
    good = np.ones(len(x), dtype=bool)
    for trail in trails:
        ridge = trail.level_adu / (factor * scene.background.noise_adu)
        good &= (trail.distance(x, y) > 0.7 * trail.width_px + 1.5) | (snr > 3 * ridge)
    return good


def _with_cores(
    x: F64Array, y: F64Array, flux: F64Array, cores: tuple[F64Array, F64Array, F64Array], psf: MeasuredPsf
) -> tuple[F64Array, F64Array, F64Array, F64Array]:
    """Put one star in the place of all peaks on a saturated core."""
    core = np.zeros(len(x))
    for cx, cy, radius in zip(*cores):
        on = np.hypot(x - cx, y - cy) < radius + 0.7 * psf.fwhm_px
        most = float(flux[on].max(initial=0.0))
        if most <= 0:
            continue
        x, y, flux, core = x[~on], y[~on], flux[~on], core[~on]
        # The plateau lacks the peak's light; the fit outside it finds how much.
        x, y, flux, core = np.r_[cx, x], np.r_[cy, y], np.r_[2 * most, flux], np.r_[radius, core]
    return x, y, flux, core


def _stands_out(x: F64Array, y: F64Array, flux: F64Array, fit: ProfileFit, floor: float) -> BoolArray:
    """Tell peaks beside fitted stars that are more than what an imperfect profile leaves of them."""
    good = np.ones(len(x), dtype=bool)
    if not len(x) or not len(fit):
        return good
    psf = fit.psf
    stars = cKDTree(np.column_stack([fit.x, fit.y]))
    near = stars.query_ball_point(np.column_stack([x, y]), psf.radius_px)
    top = float(psf.table.max())
    # In a crowd there may well be a star on the other side.
    sparse = not psf.ring and len(fit) * (2 * psf.fwhm_px) ** 2 < 0.3 * fit.left.size
    strong = (fit.snr > _RING_SNR) & sparse
    if strong.any():
        ix, iy = (
            np.clip(np.rint(v).astype(np.int64), 1, n - 2)
            for v, n in ((fit.x, fit.left.shape[1]), (fit.y, fit.left.shape[0]))
        )
        fits = np.abs(ring_mean(fit.left, ix, iy)) < _MISFIT * fit.flux * top
        # Where many bright things are no stars, of burnt-in words, what is left of them says nothing of the profile.
        strong &= fits & (fits[strong].mean() > _SANE)
    for k, members in enumerate(near):
        for m in members:
            dx, dy = x[k] - fit.x[m], y[k] - fit.y[m]
            if dx * dx + dy * dy < (0.55 * psf.fwhm_px) ** 2 and not psf.ring:
                good[k] = False
                break
            # Saturated stars spill and bloom: what is left of them says little.
            share = (0.9 if fit.core[m] > 0 else 0.25) * sample_table(psf.table, dx, dy) / top
            # The profile's own error goes with the profile: under the wings a tenth of it is left, but not of a ring's.
            far = 1.0 if psf.ring else max(0.1, math.exp(-(dx * dx + dy * dy) / (1.5 * psf.fwhm_px) ** 2))
            # Where stars are wider than the profile, as towards the corners of many fields, a ring is left about the bright ones: it
            # stands on both sides of them, which a companion does not.
            if flux[k] < (share + _RING_SHARE * far) * fit.flux[m] and strong[m] and _on_both_sides(
                fit.left, (x[k], y[k]), (fit.x[m], fit.y[m])
            ):  # fmt: skip
                good[k] = False
                break
            share += floor * far
            if flux[k] < share * fit.flux[m]:
                good[k] = False
                break
    return good


def _on_both_sides(left: F32Array, place: tuple[float, float], star: tuple[float, float]) -> bool:
    """Tell whether what is left at a place stands on the other side of a star, too."""
    height, width = left.shape
    levels = []
    for x, y in (place, (2 * star[0] - place[0], 2 * star[1] - place[1])):
        column, row = round(x), round(y)
        if not (1 <= column < width - 1 and 1 <= row < height - 1):
            return False
        near = left[row - 1 : row + 2, column - 1 : column + 2]
        if not np.isfinite(near).all():
            return False
        levels.append(float(near.mean()))
    return levels[1] > 0.4 * levels[0] > 0


def _drop_lost(fit: ProfileFit, threshold: float) -> None:
    """Forget stars that lost their light, or ran into a brighter one."""
    with np.errstate(invalid="ignore", divide="ignore"):
        lost = (fit.flux <= 0) | ~(fit.snr > threshold)
    pairs = cKDTree(np.column_stack([fit.x, fit.y])).query_pairs(0.5 * fit.psf.fwhm_px, output_type="ndarray")
    for a, b in pairs:
        if not lost[a] and not lost[b]:
            lost[a if fit.flux[a] < fit.flux[b] else b] = True
    fit.drop(lost)


def _gather_again(fit: ProfileFit) -> None:
    """Where stars crowd, gather the profile anew from stars without their neighbours."""
    clean = np.flatnonzero((fit.core == 0) & (fit.snr > 15))
    clean = clean[np.argsort(-fit.flux[clean])][:200]
    if not len(clean):
        # Too faint to learn from: the width of what there is.
        width, ring = profile_width(fit.psf.table, fit.psf.fwhm_px)
        if math.isfinite(width):
            fit.exchange(replace(fit.psf, fwhm_px=width, ring=ring))
        return
    places = np.column_stack([fit.x, fit.y])
    whose, others = laid_end_to_end(cKDTree(places).query_ball_point(places[clean], 2.5 * fit.psf.fwhm_px))
    distance = np.hypot(*(places[others] - places[clean[whose]]).T) / fit.psf.fwhm_px
    lent = np.where(others == clean[whose], 0.0, fit.flux[others] * np.exp(-(distance**2)))
    load = np.bincount(whose, weights=lent, minlength=len(clean)) / fit.flux[clean]
    order = clean[np.argsort(load, kind="stable")[: stars_for_profile(fit.snr[clean])]]
    picture, noise, bad, x, y, flux = fit.lone_stamps(order)
    again = gather_psf(fit.psf, picture, noise, bad, x, y, flux, gain=fit.gain, noise_adu=fit.noise_adu, rounds=2)
    fit.exchange(narrowed(again))


def _background_again(scene: Scene, fit: ProfileFit, starless: bool) -> None:
    """Estimate the background from the picture without its stars: better than with their places masked."""
    more = estimate_background(
        fit.left, masked=scene.hidden, box_px=scene.box_px, starless=starless, mosaic=scene.mosaic
    )
    if math.isfinite(more.sky_adu):
        fit.left -= more.level
        level = np.add(scene.background.level, more.level, out=more.level)
        scene.background = Background(level, more.noise, scene.background.sky_adu + more.sky_adu, more.noise_adu)
        fit.noise, fit.noise_adu = more.noise, more.noise_adu
        fit.wake_all()
