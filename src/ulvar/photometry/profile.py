"""Fluxes by the exposure's own star profile, each star fitted together with its neighbours."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from ulvar.engine import F32Array, F64Array, I64Array, MaskArray
from ulvar.frames import MaskBit
from ulvar.photometry.aperture import BAD_BITS, measure_apertures

if TYPE_CHECKING:
    from ulvar.stars import Detection

_BAD = BAD_BITS | int(MaskBit.SATURATED)
# A detection so near to a listed place is that star [FWHM].
_OWN = 0.7
# Weights follow the fitted light, and the sky what the fit leaves; so many rounds.
_ROUNDS = 4
# Errors of so many stars are worked out at a time.
_AT_ONCE = 256
# Stars with less of their light on good pixels are not measured.
_LEAST_LIGHT = 0.3


@dataclass(frozen=True)
class ProfileResult:
    """Fluxes of one exposure; arrays of shape (stars,), NaN where a star could not be fitted.

    Attributes
    ----------
    flux, flux_error : float64 array
        [ADU]; the error is NaN when the gain is unknown.
    sky : float64 array
        Of the annulus with all stars taken off [ADU].
    """

    flux: F64Array
    flux_error: F64Array
    sky: F64Array


def measure_profiles(
    data: F32Array,
    x: F64Array,
    y: F64Array,
    found: Detection,
    *,
    inner_px: float,
    outer_px: float,
    mask: MaskArray | None = None,
    gain_e_per_adu: float | None = None,
) -> ProfileResult:
    """Measure stars at given places by the profile of the exposure's stars.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        Calibrated exposure [ADU]; not modified.
    x, y : float64 array, shape (stars,)
        Places, which are kept [px]; a star may be too faint to be found.
    found : Detection
        The stars of this exposure and their profile.
    inner_px, outer_px : float
        Annulus for the sky [px].
    mask : uint16 array, optional
        `MaskBit` plane; masked and saturated pixels do not count.
    gain_e_per_adu : float, optional
        [e-/ADU]

    Raises
    ------
    ValueError
        If the detection has no profile.

    Notes
    -----
    Listed stars, and found ones that are not among them, are taken off the exposure; what is left tells the sky in the annulus (clipped
    median). The light of the listed stars and of all that are near enough to share pixels with them, or with those, is fitted at once to
    the pixels about their middles: weighted least squares, linear in the fluxes, at fixed places (Stetson 1987, PASP 99, 191, without the
    places). Weights follow the fitted light. Stars further off stay as they were found. The error holds photons, pixels, neighbours and
    the sky's level; not what the profile itself is uncertain by.
    """
    there = np.isfinite(x) & np.isfinite(y)
    there &= (x > -0.5) & (y > -0.5) & (x < data.shape[1] - 0.5) & (y < data.shape[0] - 0.5)
    flux, error, sky = (np.full(len(x), math.nan) for _ in range(3))
    if there.any():
        joint = _JointFit(data, x[there], y[there], found, mask, gain_e_per_adu, inner_px, outer_px)
        flux[there], error[there] = joint.solve()
        sky[there] = joint.sky
    if gain_e_per_adu is None or not gain_e_per_adu > 0:
        error[:] = math.nan
    return ProfileResult(flux, error, sky)


class _JointFit:
    """Listed stars and those about them, fitted together.

    The first `listed` of the stars are those that were asked for.
    """

    def __init__(
        self, data: F32Array, x: F64Array, y: F64Array, found: Detection, mask: MaskArray | None, gain: float | None,
        inner_px: float, outer_px: float,
    ) -> None:  # fmt: skip
        from scipy.spatial import cKDTree

        from ulvar.stars import FieldProfiles, fit_reach, take_off

        profiles = FieldProfiles(found)
        psf, stars = profiles.psf, found.stars
        self.listed, self.mask = len(x), mask
        self.gain = float(gain) if gain is not None and gain > 0 else 0.0
        self.reach = fit_reach(psf)
        self.ring = min(inner_px, 1.5 * psf.fwhm_px + 2), outer_px
        places = cKDTree(np.column_stack([x, y]))
        other = np.column_stack([stars.x, stars.y]).reshape(-1, 2)
        away = places.query(other)[0] if len(stars) else np.empty(0)
        # A found star that is listed is there once; two listed stars may share one.
        beside = away > _OWN * psf.fwhm_px
        near = beside & (away < 2 * self.reach + 2 * psf.fwhm_px)
        self.x, self.y = np.r_[x, stars.x[near]], np.r_[y, stars.y[near]]
        # The picture without the stars that are not fitted.
        self.picture = np.array(data, dtype=np.float32)
        take_off(self.picture, psf, stars.x[beside & ~near], stars.y[beside & ~near], stars.flux[beside & ~near])
        self.bad = ~np.isfinite(data)
        if mask is not None:
            self.bad |= (mask & np.uint16(_BAD)) != 0
        self.psfs = [profiles.at(a, b) for a, b in zip(self.x, self.y)]
        self._choose_pixels(psf.fwhm_px)
        self.noise2 = np.maximum(found.background.noise[self.py, self.px].astype(np.float64), 1e-9) ** 2
        self.nearest = places.query(np.column_stack([self.px, self.py]).reshape(-1, 2))[1]
        # Where stars lie so close that their sky is one, the first sky is that of the star finder.
        self.sky = found.background.level[_inside(y, data.shape[0]), _inside(x, data.shape[1])].astype(np.float64)
        self.sky_error = np.zeros(self.listed)

    def _choose_pixels(self, fwhm_px: float) -> None:
        """Take the good pixels about all stars: as far as they tell their light."""
        height, width = self.bad.shape
        used = np.zeros((height, width), dtype=bool)
        wide = math.ceil(self.reach)
        steps_y, steps_x = np.mgrid[-wide : wide + 1, -wide : wide + 1]
        for k, (x, y) in enumerate(zip(self.x, self.y)):
            reach = self.reach if k < self.listed else max(2.0, fwhm_px)
            rows, columns = steps_y + round(y), steps_x + round(x)
            near = (np.hypot(columns - x, rows - y) <= reach) & (rows >= 0) & (columns >= 0)
            near &= (rows < height) & (columns < width)
            used[rows[near], columns[near]] = True
        used &= ~self.bad
        self.py, self.px = np.nonzero(used)
        self.number = np.full((height, width), -1, dtype=np.int64)
        self.number[self.py, self.px] = np.arange(len(self.px))

    def _design(self) -> Any:
        """Return the share of each star's light in each pixel, sparse, shape (pixels, stars)."""
        from scipy.sparse import csc_matrix

        from ulvar.stars import profile_values

        height, width = self.bad.shape
        rows, values, starts = [], [], [0]
        for x, y, psf in zip(self.x, self.y, self.psfs):
            far = psf.radius_px
            row, column = round(y), round(x)
            rows_of = slice(max(0, row - far), min(height, row + far + 1))
            columns_of = slice(max(0, column - far), min(width, column + far + 1))
            which = self.number[rows_of, columns_of]
            which = which[which >= 0]
            share = profile_values(psf, self.px[which] - x, self.py[which] - y)
            rows.append(which)
            values.append(share)
            starts.append(starts[-1] + len(which))
        return csc_matrix((np.concatenate(values), np.concatenate(rows), starts), shape=(len(self.px), len(self.x)))

    def solve(self) -> tuple[F64Array, F64Array]:
        """Return fluxes of the listed stars and their errors [ADU], NaN where the pixels tell nothing."""
        from scipy.sparse import diags, identity
        from scipy.sparse.linalg import splu

        if not len(self.px):
            return np.full(self.listed, math.nan), np.full(self.listed, math.nan)
        design = self._design()
        # Of a star that hardly has a pixel nothing is known; it must not spoil the others.
        blind = np.asarray(design.sum(axis=0)).ravel() < _LEAST_LIGHT
        held = diags(np.where(blind, 1e12, 0.0)) if blind.any() else None
        value = self.picture[self.py, self.px].astype(np.float64)
        variance, flux = self.noise2.copy(), np.zeros(len(self.x))
        factor: Any = None
        weighted = design
        for number in range(_ROUNDS):
            if number:
                self._look_at_sky(flux)
            weighted = diags(1 / variance) @ design
            normal = (design.T @ weighted).tocsc()
            # Two stars at one place cannot be told apart: a trace of a prior keeps the rest solvable.
            normal = normal + identity(len(flux), format="csc") * (1e-9 * normal.diagonal().max())
            factor = splu(normal if held is None else (normal + held).tocsc())
            flux = factor.solve(np.asarray(weighted.T @ (value - self.sky[self.nearest])))
            if self.gain:
                variance = self.noise2 + np.maximum(design @ flux, 0.0) / self.gain
        error = self._errors(factor, weighted)
        gone = blind[: self.listed]
        return np.where(gone, math.nan, flux[: self.listed]), np.where(gone, math.nan, error)

    def _look_at_sky(self, flux: F64Array) -> None:
        """Take the sky about listed stars from what their fit leaves."""
        from ulvar.stars import take_off

        left = self.picture.copy()
        by_profile: dict[int, list[int]] = {}
        for k, psf in enumerate(self.psfs):
            by_profile.setdefault(id(psf), []).append(k)
        for which in by_profile.values():
            take_off(left, self.psfs[which[0]], self.x[which], self.y[which], flux[which])
        ring = measure_apertures(
            left, self.x[: self.listed], self.y[: self.listed], radius_px=1.0, inner_px=self.ring[0], outer_px=self.ring[1],
            mask=self.mask,
        )  # fmt: skip
        known = np.isfinite(ring.sky)
        self.sky = np.where(known, ring.sky, self.sky)
        self.sky_error = np.where(known, ring.sky_error, self.sky_error)

    def _errors(self, factor: Any, weighted: Any) -> F64Array:
        error = np.empty(self.listed)
        # What all fluxes change by where the whole sky is higher by one.
        tilt = factor.solve(np.asarray(weighted.sum(axis=0)).ravel())[: self.listed]
        for first in range(0, self.listed, _AT_ONCE):
            some = np.arange(first, min(self.listed, first + _AT_ONCE))
            unit = np.zeros((len(self.x), len(some)))
            unit[some, np.arange(len(some))] = 1.0
            error[some] = factor.solve(unit)[some, np.arange(len(some))]
        return np.asarray(np.sqrt(np.maximum(error, 0.0) + (tilt * self.sky_error) ** 2))


def _inside(places: F64Array, size: int) -> I64Array:
    return np.clip(np.rint(places), 0, size - 1).astype(np.int64)
