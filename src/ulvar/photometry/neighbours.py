"""Other stars about those that are measured: how far their light reaches, and what lies in annulus and aperture."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import BoolArray, F64Array, I64Array, laid_end_to_end
from ulvar.stars import StarTable

# Wings of a star fall like those of a Moffat profile of this exponent.
_BETA = 3.0
# Light of a neighbour under this part of the sky's noise moves no sky level [sigma]; no circle is wider than this [FWHM].
_FAINT, _WIDEST = 0.3, 6.0
# A detection so near to a place is the star itself [FWHM], but never nearer than this [px].
_OWN, _OWN_PX = 0.7, 1.0
# A neighbour with less than this of the star's light does no harm.
_HARMLESS = 0.005


@dataclass(frozen=True)
class Neighbours:
    """Circles about the stars of an exposure, within which their light stands over the sky.

    Attributes
    ----------
    x, y, reach_px : float64 array, shape (stars,)
        [px]
    own_px : float
        A star so near to a place is the one that is measured there [px].
    """

    x: F64Array
    y: F64Array
    reach_px: F64Array
    own_px: float

    @classmethod
    def of(cls, stars: StarTable, fwhm_px: float, noise_adu: float) -> Neighbours:
        """Return the circles of detected stars.

        Parameters
        ----------
        stars : StarTable
        fwhm_px : float
            Of the exposure [px].
        noise_adu : float
            Of a pixel of the sky [ADU].
        """
        own = _own_px(fwhm_px)
        if not (math.isfinite(fwhm_px) and noise_adu > 0):
            return cls(stars.x, stars.y, np.full(len(stars), 4.0), own)
        width = _moffat_px(fwhm_px)
        # The middle of a Moffat profile holds (beta - 1) / (pi width^2) of its light.
        crest = np.maximum(stars.flux * (_BETA - 1) / (math.pi * width**2), 0.0)
        over = np.maximum(crest / (_FAINT * noise_adu), 1.0)
        reach = width * np.sqrt(over ** (1 / _BETA) - 1)
        return cls(stars.x, stars.y, np.clip(reach, 0.5 * fwhm_px, _WIDEST * fwhm_px), own)

    def about(self, x: F64Array, y: F64Array, outer_px: float) -> tuple[I64Array, F64Array]:
        """Return which circles touch the surroundings of places.

        Parameters
        ----------
        x, y : float64 array, shape (places,)
        outer_px : float
            How far the surroundings go [px].

        Returns
        -------
        starts : int64 array, shape (places + 1,)
            The circles of place k are those from ``starts[k]`` to ``starts[k + 1]``.
        circles : float64 array, shape (circles, 3)
            x, y and radius [px].
        """
        from scipy.spatial import cKDTree

        starts = np.zeros(len(x) + 1, dtype=np.int64)
        there = np.flatnonzero(np.isfinite(x) & np.isfinite(y))
        if not len(self.x) or not len(there):
            return starts, np.empty((0, 3))
        tree = cKDTree(np.column_stack([self.x, self.y]))
        places = np.column_stack([x[there], y[there]])
        owner, which = laid_end_to_end(tree.query_ball_point(places, outer_px + float(self.reach_px.max())))
        owner = there[owner]
        away = np.hypot(self.x[which] - x[owner], self.y[which] - y[owner])
        kept = (away > self.own_px) & (away < outer_px + self.reach_px[which])
        which, owner = which[kept], owner[kept]
        np.cumsum(np.bincount(owner, minlength=len(x)), out=starts[1:])
        return starts, np.column_stack([self.x[which], self.y[which], self.reach_px[which]])


def blended(
    x: F64Array, y: F64Array, flux: F64Array, stars: StarTable, *, radius_px: float, fwhm_px: float, own: bool = True
) -> BoolArray:
    """Tell the stars with another inside the aperture that lends them light.

    Parameters
    ----------
    x, y, flux : float64 array, shape (places,)
        What was measured [px, px, ADU].
    stars : StarTable
        All that was found.
    radius_px, fwhm_px : float
        [px]
    own : bool
        Whether what was found at a place is what is measured there. It is not where a body passes over stars that were found before.
    """
    from scipy.spatial import cKDTree

    result = np.zeros(len(x), dtype=bool)
    there = np.flatnonzero(np.isfinite(x) & np.isfinite(y))
    if not len(stars) or not len(there):
        return result
    known = math.isfinite(fwhm_px)
    width = fwhm_px if known else 3.0
    nearest, inside = _own_px(fwhm_px) if own else 0.0, radius_px + 0.5 * (width if known else 0.0)
    tree = cKDTree(np.column_stack([stars.x, stars.y]))
    places = np.column_stack([x[there], y[there]])
    owner, which = laid_end_to_end(tree.query_ball_point(places, radius_px + _WIDEST * width))
    owner = there[owner]
    away = np.hypot(stars.x[which] - x[owner], stars.y[which] - y[owner])
    lent = np.maximum(stars.flux[which], 0.0) * np.where(away < inside, 1.0, _wing_share(away, radius_px, width))
    lent[away < nearest] = 0.0
    least = _HARMLESS * np.maximum(np.nan_to_num(flux), 0.0)
    one_does = np.bincount(owner[(away < inside) & (lent > least[owner])], minlength=len(x)) > 0
    return np.asarray(one_does | (np.bincount(owner, weights=lent, minlength=len(x)) > 2 * least))


def _own_px(fwhm_px: float) -> float:
    """Return how near to a place a detection is the star that is measured there [px]."""
    return max(_OWN * fwhm_px, _OWN_PX) if math.isfinite(fwhm_px) else 1.5


def _moffat_px(fwhm_px: float) -> float:
    """Return the width parameter of the Moffat profile of a FWHM [px]."""
    return fwhm_px / (2 * math.sqrt(2 ** (1 / _BETA) - 1))


def _wing_share(away: F64Array, radius_px: float, fwhm_px: float) -> F64Array:
    """Return the share of a star's light that falls into an aperture so far from it, by the wings of a Moffat profile."""
    width = _moffat_px(fwhm_px)
    level = (_BETA - 1) / (math.pi * width**2) * (1 + (away / width) ** 2) ** -_BETA
    return np.asarray(np.minimum(level * math.pi * radius_px**2, 1.0))
