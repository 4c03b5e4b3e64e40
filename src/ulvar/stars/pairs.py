"""Two stars measured together: places, fluxes and their errors, of wide pairs and of those that run into one."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from ulvar.engine import F32Array, F64Array, Failed, MaskArray
from ulvar.stars.placing import (
    Fitted,
    Patch,
    Pixels,
    Place,
    covariance_of,
    first_shape,
    patch_about,
    peak_near,
    profile_near,
    settled,
    smoothed,
    take_neighbours_off,
    weighed,
)
from ulvar.stars.single import StarFit, measure_star
from ulvar.stars.table import StarTable

if TYPE_CHECKING:
    from ulvar.stars.psf import MeasuredPsf

# Stars further apart are measured each by itself [FWHM]; a shape that is fitted to them they share still further.
_ALONE, _FAR = 12.0, 60.0
# Less light over its error is no star of a pair.
_FAINTEST = 3.0
# A second star must better the fit by so much of chi-squared: by chance its three numbers do so once in a million times.
_BETTER = 32.0
# Where the two share a profile that is fitted to themselves and overlap, each is misplaced by about so much [FWHM, per
# axis]: no real profile is a Moffat profile (measured on profiles of two Gaussians, see docs/positions.md).
_MISFIT, _OVERLAP = 0.0045, 4.0


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


def measure_pair(
    data: F32Array,
    first: Place,
    second: Place,
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
    gain = float(gain_e_per_adu) if gain_e_per_adu is not None and gain_e_per_adu > 0 else 0.0
    full = np.inf if saturation_adu is None else saturation_adu
    height, width = data.shape
    if any(not (0 <= x <= width - 1 and 0 <= y <= height - 1) for x, y in (first, second)):
        return Failed("a star of the pair lies outside the picture")
    psf = None if stars is None else profile_near(data, stars, (first, second), fwhm_px, mask, gain)
    if math.dist(first, second) > (_FAR if psf is None else _ALONE) * fwhm_px:
        return _apart(data, first, second, fwhm_px, stars, mask, gain_e_per_adu, saturation_adu)
    patch = patch_about(data, (first, second), fwhm_px, mask, gain, full)
    if isinstance(patch, Failed):
        return patch
    if psf is not None and stars is not None:
        take_neighbours_off(patch, psf, stars, (first, second), fwhm_px)
    starts = _starts(patch, first, second, fwhm_px)
    # All on the same pixels with the same weights, so that the least misfit tells the best.
    pixels = Pixels.about(patch, starts[0], fwhm_px)
    tried = [settled(pixels, psf, start, first_shape(fwhm_px, psf), fwhm_px) for start in starts]
    best = min((one for one in tried if one is not None), key=lambda one: one.chi2, default=None)
    for _ in range(2):
        if best is not None:
            best = settled(weighed(patch, best, psf, fwhm_px), psf, best.places, best.shape, fwhm_px)
    if best is None:
        return Failed("no two stars are found there")
    if (best.places[2:] - best.places[:2]) @ np.subtract(second, first) < 0:
        # Which of two merged stars is which, the direction tells in which they were named.
        best = replace(
            best, places=np.roll(best.places, 2), linear=np.concatenate([best.linear[1::-1], best.linear[2:]])
        )
    return _judged(patch, best, fwhm_px, psf)


def _apart(
    data: F32Array, first: Place, second: Place, fwhm: float, stars: StarTable | None, mask: MaskArray | None,
    gain: float | None, full: float | None,
) -> PairFit | Failed:  # fmt: skip
    """Measure each of two stars that have nothing to do with each other by itself."""
    each = [
        measure_star(
            data,
            place,
            fwhm_px=fwhm,
            stars=stars,
            mask=mask,
            gain_e_per_adu=gain,
            saturation_adu=full,
            faintest=_FAINTEST,
        )
        for place in (first, second)
    ]
    for which, fit in zip(("first", "second"), each):
        if isinstance(fit, Failed):
            return Failed(f"the {which} star: {fit.reason}")
    a, b = (fit for fit in each if isinstance(fit, StarFit))
    covariance = np.zeros((6, 6))
    for fit, at in ((a, [0, 1, 4]), (b, [2, 3, 5])):
        covariance[np.ix_(at, at)] = fit.covariance
    return PairFit(
        np.array([a.x, b.x]), np.array([a.y, b.y]), np.array([a.flux, b.flux]), covariance, (a.chi2 + b.chi2) / 2,
        (a.fwhm_px + b.fwhm_px) / 2, a.saturated or b.saturated, a.own_profile and b.own_profile,
    )  # fmt: skip


def _starts(patch: Patch, first: Place, second: Place, fwhm: float) -> list[F64Array]:
    """Return places (x1, y1, x2, y2) to begin at: as they were named, drawn to the peaks near by, and either side of a peak they share."""
    named = [(first[0] - patch.left, first[1] - patch.low), (second[0] - patch.left, second[1] - patch.low)]
    smooth = smoothed(patch, fwhm)
    peaks = [peak_near(smooth, place, 1.2 * fwhm) for place in named]
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


def _judged(patch: Patch, best: Fitted, fwhm: float, psf: MeasuredPsf | None) -> PairFit | Failed:
    """Return the pair with its errors, or why it is none."""
    covariance = covariance_of(best, psf)
    if covariance is None:
        return Failed("the two stars cannot be told apart")
    reduced = best.chi2 / max(best.free, 1)
    # A misfit is uncertainty, too.
    covariance = covariance * max(1.0, reduced)
    apart = math.dist(best.places[:2], best.places[2:])
    if psf is None and apart < _OVERLAP * fwhm:
        covariance = covariance + np.diag([(_MISFIT * fwhm) ** 2] * 4 + [0.0, 0.0])
    flux, errors = best.linear[:2], np.sqrt(np.diag(covariance))
    if not np.isfinite(errors).all() or (flux < _FAINTEST * errors[4:]).any():
        which = "first" if flux[0] < _FAINTEST * errors[4] else "second"
        return Failed(f"there is no {which} star that stands out of the noise")
    if apart < 3 * fwhm:
        brighter = 2 * int(flux[1] > flux[0])
        middle = (flux[:, None] * best.places.reshape(2, 2)).sum(axis=0) / flux.sum()
        alone = [
            one.chi2
            for place in (best.places[brighter : brighter + 2], middle)
            if (one := settled(best.pixels, psf, place, best.shape, fwhm)) is not None
        ]
        if alone and min(alone) - best.chi2 < _BETTER * max(1.0, reduced):
            return Failed("one star fits as well as two")
    ys, xs = np.mgrid[: patch.value.shape[0], : patch.value.shape[1]]
    near = np.minimum(*(np.hypot(xs - best.places[i], ys - best.places[i + 1]) for i in (0, 2))) < fwhm
    return PairFit(
        best.places[0::2] + patch.left, best.places[1::2] + patch.low, flux, covariance, reduced,
        fwhm if psf is None else psf.fwhm_px, bool((patch.saturated & near).any()), psf is not None,
    )  # fmt: skip
