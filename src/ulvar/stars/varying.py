"""The profile of an exposure's stars in each part of the field, and the picture without its stars."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from scipy import ndimage

from ulvar.engine import F32Array, F64Array
from ulvar.frames import robust_spread
from ulvar.stars._kernels_psf import sample_places, subtract_stars
from ulvar.stars.found import Detection
from ulvar.stars.psf import MeasuredPsf, unit_table
from ulvar.stars.table import StarFlag

_UNFIT = int(StarFlag.SATURATED | StarFlag.NONLINEAR | StarFlag.EDGE | StarFlag.BAD_PIXEL)
# Sizes over the field come from so many stars, the brightest, of this signal-to-noise ratio and more; from fewer they do not change.
_MOST, _LEAST, _STRONG = 1500, 30, 60.0
# The profile is worked out for so many places along a side.
_STEPS = 16


class FieldProfiles:
    """Profiles of one exposure over the field.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        The exposure that `found` was found in [ADU]; not modified.
    found : Detection
        With its profile.
    Raises
    ------
    ValueError
        If the detection has no profile.
    """

    def __init__(self, found: Detection) -> None:
        if found.psf is None:
            raise ValueError("no profile was found in it")
        self.found, self.psf = found, found.psf
        self._shape = found.background.level.shape
        self._known: dict[tuple[int, int], MeasuredPsf] = {}
        self._sizes = self._find_sizes()

    def at(self, x: float, y: float) -> MeasuredPsf:
        """Return the profile about a place [px]: that of the exposure, stretched as the stars about the place are."""
        if self._sizes is None:
            return self.psf
        height, width = self._shape
        step = (min(_STEPS - 1, max(0, int(x / width * _STEPS))), min(_STEPS - 1, max(0, int(y / height * _STEPS))))
        if step not in self._known:
            here = [2 * (k + 0.5) / _STEPS - 1 for k in step]
            values = [float((_terms(np.array(here[:1]), np.array(here[1:]), len(c)) @ c)[0]) for c in self._sizes[1]]
            self._known[step] = stretched(self.psf, _square_root(values) @ np.linalg.inv(_square_root(self._sizes[0])))
        return self._known[step]

    def _find_sizes(self) -> tuple[list[float], list[F64Array]] | None:
        """Return what the sizes of stars are on average and how they change over the field; None where they do not."""
        stars = self.found.stars
        fit = np.flatnonzero(((stars.flags & _UNFIT) == 0) & (stars.snr > _STRONG) & np.isfinite(stars.fwhm_fit_px))
        fit = fit[stars.fwhm_fit_px[fit] > 0][:_MOST]
        if len(fit) < _LEAST:
            return None
        u, v = 2 * stars.x[fit] / self._shape[1] - 1, 2 * stars.y[fit] / self._shape[0] - 1
        twice = np.radians(2 * stars.angle_deg[fit])
        long = np.clip(stars.ellipticity[fit], 0, 0.9)
        measured = (np.log(stars.fwhm_fit_px[fit]), long * np.cos(twice), long * np.sin(twice))
        surfaces = [_surface(u, v, values) for values in measured]
        if all(len(c) == 1 for c in surfaces):
            return None
        return [float(np.median(values)) for values in measured], surfaces


def _terms(u: F64Array, v: F64Array, count: int) -> F64Array:
    """Return a level (1), a plane (3) or a surface of second order (6) at places from -1 to 1, shape (places, count)."""
    return np.column_stack([np.ones(len(u)), u, v, u * v, u * u, v * v])[:, :count]


def _surface(u: F64Array, v: F64Array, values: F64Array) -> F64Array:
    """Return the coefficients of the surface that values ask for: of as many terms as the Bayesian information criterion grants."""
    spread = robust_spread(values)
    keep = np.abs(values - np.median(values)) <= 5 * spread + 1e-12
    best, least = np.array([np.median(values[keep])]), np.inf
    for count in (1, 3, 6):
        terms = _terms(u[keep], v[keep], count)
        coefficients, *_ = np.linalg.lstsq(terms, values[keep], rcond=None)
        # By absolute deviations: a few blends have sizes of their own.
        scale = max(float(np.mean(np.abs(values[keep] - terms @ coefficients))), 1e-9)
        told = 2 * int(keep.sum()) * math.log(scale) + count * math.log(int(keep.sum()))
        if told < least - 6:
            best, least = coefficients, told
    return best


def _square_root(values: Sequence[float]) -> F64Array:
    """Return the root of the matrix of second moments of a star of log size and the two parts of its elongation, shape (2, 2)."""
    size, long = math.exp(values[0]), min(math.hypot(values[1], values[2]), 0.9)
    angle = math.atan2(values[2], values[1]) / 2
    turn = np.array([[math.cos(angle), -math.sin(angle)], [math.sin(angle), math.cos(angle)]])
    root = math.sqrt(1 - long)
    return np.asarray(turn @ np.diag([size / root, size * root]) @ turn.T)


def stretched(psf: MeasuredPsf, matrix: F64Array) -> MeasuredPsf:
    """Return a profile whose offsets are carried by a matrix, shape (2, 2), with its light kept."""
    middle = (psf.table.shape[0] - 1) // 2
    offsets = np.arange(psf.table.shape[0]) - middle
    dx, dy = np.meshgrid(offsets, offsets)
    back = np.linalg.inv(matrix)
    places = [back[1, 0] * dx + back[1, 1] * dy + middle, back[0, 0] * dx + back[0, 1] * dy + middle]
    table = ndimage.map_coordinates(psf.table, places, order=3, mode="constant")
    return replace(psf, table=unit_table(table), fwhm_px=psf.fwhm_px * math.sqrt(abs(float(np.linalg.det(matrix)))))


def take_off(picture: F32Array, psf: MeasuredPsf, x: F64Array, y: F64Array, flux: F64Array) -> None:
    """Take stars off a picture, in place, as far as the profile's table goes."""
    subtract_stars(
        picture, psf.table, np.ascontiguousarray(x), np.ascontiguousarray(y), np.ascontiguousarray(flux),
        np.full(len(x), psf.radius_px, dtype=np.int64), 1.0,
    )  # fmt: skip


def profile_values(psf: MeasuredPsf, dx: F64Array, dy: F64Array) -> F64Array:
    """Return the profile at offsets from a star's centre [px], shape (pixels,): the share of its light that a pixel there gets.

    Examples
    --------
    >>> from ulvar.stars.psf import gaussian_psf
    >>> y, x = np.mgrid[-9:10, -9:10].astype(float)
    >>> round(float(profile_values(gaussian_psf(3.0), x.ravel(), y.ravel()).sum()), 3)
    1.0
    """
    out = np.empty(len(dx))
    sample_places(psf.table, np.ascontiguousarray(dx), np.ascontiguousarray(dy), out)
    return out


def fit_reach(psf: MeasuredPsf) -> float:
    """Return within how far of its centre the pixels of a star tell its light [px]."""
    return max(3.0, math.ceil(1.4 * psf.fwhm_px))
