"""From a place that may be right to a plate solution: the frame matched with the catalogue outwards, fitted, and weighed."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from ulvar.astrometry.catalogue import StarCatalogue
from ulvar.astrometry.search import Hypothesis, Limits
from ulvar.astrometry.sphere import tangent_plane
from ulvar.astrometry.wcs import Wcs
from ulvar.astrometry.wcsfit import fit_radial_wcs, fit_wcs, polynomial_columns, radial_columns
from ulvar.engine import F64Array, Failed

# A solution must be weighed at this once it is fitted, and so many stars must agree.
_ACCEPTED = math.log(1e11)
LEAST_MATCHED = 7
# A fit is weighed by so many of the brightest stars of either side.
_WEIGHED, _REFERENCES = 120, 300


@dataclass(frozen=True)
class PlateSolution:
    """A plate solution and how good it is.

    Attributes
    ----------
    wcs : Wcs
    matched : int
        Stars that the fit kept.
    rms_arcsec : float
        Root mean square residual per axis of those stars [arcsec].
    order : int
        1 for TAN, 2 or more with SIP of that order.
    x, y, dx, dy : float64 array, shape (matched,)
        Star positions and residuals, catalogue minus measured [px].
    log_odds : float
        Of the solution against accident, natural logarithm.
    confirms : bool
        Whether it is the one that was stated, fitted anew.
    """

    wcs: Wcs
    matched: int
    rms_arcsec: float
    order: int
    x: F64Array
    y: F64Array
    dx: F64Array
    dy: F64Array
    log_odds: float
    confirms: bool = False


def fitted(
    told: Hypothesis, stars: F64Array, snr: F64Array, shape: tuple[int, int],
    cone: Callable[[float, float, float], StarCatalogue], epoch: float, limits: Limits,
) -> PlateSolution | Failed:  # fmt: skip
    """Match the frame with the catalogue from the middle of a hypothesis outwards; fit TAN, or SIP if it predicts better.

    Parameters
    ----------
    told : Hypothesis
    stars : float64 array, shape (stars, 2)
        The brightest first [px].
    snr : float64 array, shape (stars,)
    shape : (int, int)
        Height and width of the exposure [px].
    cone : callable
        Given RA, Dec and a radius [deg], returns the catalogue's stars there, the brightest first.
    epoch : float
        Julian year.
    limits : Limits
    """
    from scipy.spatial import cKDTree

    height, width = shape
    centre = ((width - 1) / 2, (height - 1) / 2)
    wcs = Wcs(told.ra, told.dec, *centre, told.cd)
    around = cone(told.ra, told.dec, 1.1 * math.degrees(math.atan(math.radians(_half_diagonal_deg(shape, wcs)))))
    # Many more stars than the exposure shows would match anything.
    around = around.select(np.arange(min(len(around), 4 * len(stars) + 300))).at_epoch(epoch)
    if len(around) < LEAST_MATCHED:
        return Failed("the catalogue does not cover the whole exposure")
    tree = cKDTree(stars)
    away = np.hypot(stars[:, 0] - centre[0], stars[:, 1] - centre[1])
    reach, corner = max(2.0 * told.spread_px, 0.25 * float(away.max())), 0.5 * math.hypot(width, height)
    tolerance, model, settled = 4.0, _PLAIN, 0
    keep = partner = np.empty(0, dtype=np.int64)
    while settled < 3:
        px, py = wcs.pixel(around.ra, around.dec)
        inside = np.flatnonzero(
            np.isfinite(px) & (np.hypot(px - centre[0], py - centre[1]) <= reach)
            & (px > -5) & (py > -5) & (px < width + 5) & (py < height + 5)
        )  # fmt: skip
        keep, partner = _pairs(tree, stars, px, py, inside, tolerance)
        if len(keep) < LEAST_MATCHED and reach >= corner:
            return Failed("too few stars agree with the catalogue")
        if len(keep) >= 4:
            sx, sy, weights = stars[keep, 0], stars[keep, 1], _weights(snr[keep])
            start = wcs.ra0, wcs.dec0
            model = _best_model(sx, sy, around.ra[partner], around.dec[partner], centre, start, weights)
            wcs, good = _clipped_fit(sx, sy, around.ra[partner], around.dec[partner], centre, start, model, weights)
            keep, partner = keep[good], partner[good]
        if reach < corner:
            # What is fitted foretells a little further.
            reach *= 1.35
        else:
            settled += 1
            tolerance = _next_tolerance(wcs, stars[keep], around.select(partner))
    px, py = wcs.pixel(around.ra[partner], around.dec[partner])
    dx, dy = px - stars[keep, 0], py - stars[keep, 1]
    rms_px = math.sqrt(float((dx**2 + dy**2).mean()) / 2)
    if len(keep) < LEAST_MATCHED + 2 * (model.free - _PLAIN.free):
        return Failed("too few stars agree with the catalogue")
    scale = wcs.scale_arcsec_px
    along = 3600 * math.hypot(*wcs.cd[:, 0])
    if not 0.99 * limits.scale_low <= along <= 1.01 * limits.scale_high:
        return Failed("its scale is out of the range asked for")
    odds = weighed(wcs, stars, shape, around, max(1.0, 3 * rms_px))
    if odds < _ACCEPTED:
        return Failed("too few stars agree with the catalogue")
    return PlateSolution(
        wcs, len(keep), rms_px * scale, model.order, stars[keep, 0], stars[keep, 1], dx, dy, odds
    )  # fmt: skip


def _half_diagonal_deg(shape: tuple[int, int], wcs: Wcs) -> float:
    return math.hypot(*shape) / 2 * wcs.scale_arcsec_px / 3600


def _pairs(
    tree: Any, stars: F64Array, px: F64Array, py: F64Array, inside: np.ndarray, tolerance: float
) -> tuple[np.ndarray, np.ndarray]:
    """Return stars and the catalogue's stars that are each other's nearest within a tolerance [px]."""
    from scipy.spatial import cKDTree

    if not len(inside):
        return np.empty(0, dtype=np.int64), np.empty(0, dtype=np.int64)
    places = np.column_stack([px[inside], py[inside]])
    away, star = tree.query(places, distance_upper_bound=tolerance)
    _, back = cKDTree(places).query(stars, distance_upper_bound=tolerance)
    near = np.flatnonzero(np.isfinite(away))
    near = near[back[star[near]] == near]
    keep = star[near]
    sort = np.argsort(keep)
    return keep[sort], inside[near][sort]


def _next_tolerance(wcs: Wcs, stars: F64Array, matched: StarCatalogue) -> float:
    px, py = wcs.pixel(matched.ra, matched.dec)
    usual = float(np.median(np.hypot(px - stars[:, 0], py - stars[:, 1]))) / 1.1774
    return min(4.0, max(1.5, 5 * usual))


def weighed(wcs: Wcs, stars: F64Array, shape: tuple[int, int], around: StarCatalogue, spread_px: float) -> float:
    """Return the log odds of a solution against accident.

    Parameters
    ----------
    wcs : Wcs
    stars : float64 array, shape (stars, 2)
        The brightest first [px].
    shape : (int, int)
        Height and width of the exposure [px].
    around : StarCatalogue
        Of the place, the brightest first.
    spread_px : float
        How far from their places stars are expected.
    """
    from ulvar.astrometry import _kernels_search

    height, width = shape
    px, py = wcs.pixel(around.ra, around.dec)
    inside = np.flatnonzero(np.isfinite(px) & (px >= -0.5) & (py >= -0.5) & (px < width - 0.5) & (py < height - 0.5))
    inside = inside[:_REFERENCES]
    if not len(inside):
        return 0.0
    count = min(len(stars), _WEIGHED)
    return float(
        _kernels_search.log_odds(
            np.ascontiguousarray(stars[:count, 0]), np.ascontiguousarray(stars[:count, 1]), np.full(count, spread_px),
            np.zeros(count, dtype=np.bool_), px[inside], py[inside], len(inside), float(width * height),
            np.empty(len(inside), dtype=np.bool_), np.empty(count, dtype=np.int64),
        )
    )  # fmt: skip


def _weights(snr: F64Array) -> F64Array:
    # Centroid variance goes as 1/SNR^2, with a floor for the catalogue's own errors.
    variance = 1 / np.maximum(snr, 1) ** 2 + 1 / 60**2
    return np.asarray(1 / variance)


@dataclass(frozen=True)
class _Model:
    """How a field may be bent: by polynomials of an order, or by a lens's one radial term."""

    order: int
    radial: bool = False

    @property
    def free(self) -> int:
        """Free numbers of each axis."""
        return 4 if self.radial else (self.order + 1) * (self.order + 2) // 2

    def fit(
        self, x: F64Array, y: F64Array, ra: F64Array, dec: F64Array, centre: tuple[float, float], start: tuple[float, float],
        weights: F64Array,
    ) -> Wcs:  # fmt: skip
        if self.radial:
            return fit_radial_wcs(x, y, ra, dec, centre=centre, start=start, weights=weights)
        return fit_wcs(x, y, ra, dec, centre=centre, start=start, order=self.order, weights=weights)

    def left_out(
        self, u: F64Array, v: F64Array, told: F64Array, w: F64Array, folds: np.ndarray, linear: F64Array
    ) -> F64Array:  # fmt: skip
        """Return how far stars are from where the fit of other folds' stars has them, times their `w`.

        Parameters
        ----------
        u, v : float64 array, shape (n,)
            Pixels from the centre, the largest 1.
        told : float64 array, shape (n, 2)
            Standard coordinates [deg], about the centre's place. One tangent point serves all fits.
        w : float64 array, shape (n,)
            Roots of weights.
        folds : int array, shape (n,)
        linear : float64 array, shape (2, 2)
            The linear part [deg]: along it a lens bends.

        Returns
        -------
        float64 array, shape (n, 2)
        """
        if not self.radial:
            return _left_out(polynomial_columns(u, v, self.order) * w[:, None], told * w[:, None], folds)
        both = np.concatenate([w, w])
        rest = _left_out(
            radial_columns(u, v, linear) * both[:, None],
            (told.T.ravel() * both)[:, None],
            np.concatenate([folds, folds]),
        )
        return rest.reshape(2, -1).T


_ENOUGH_TO_CHOOSE = 400
# From the simplest on; a richer one must foretell stars that were left out of its fit better.
_PLAIN = _Model(1)
_MODELS = (_PLAIN, _Model(3, radial=True), _Model(2), _Model(3), _Model(4), _Model(5))


def _clipped_fit(
    x: F64Array, y: F64Array, ra: F64Array, dec: F64Array, centre: tuple[float, float], start: tuple[float, float],
    model: _Model, weights: F64Array,
) -> tuple[Wcs, np.ndarray]:  # fmt: skip
    good = np.ones(len(x), dtype=bool)
    wcs = model.fit(x, y, ra, dec, centre, start, weights)
    for _ in range(5):
        px, py = wcs.pixel(ra, dec)
        distance = np.hypot(px - x, py - y) * np.sqrt(weights)
        sigma = float(np.median(distance[good])) / 1.1774
        new = distance < 3.5 * max(sigma, 1e-9)
        if new.sum() < max(5, 3 + model.free) or (new == good).all():
            break
        good = new
        wcs = model.fit(x[good], y[good], ra[good], dec[good], centre, start, weights[good])
    return wcs, np.flatnonzero(good)


def _best_model(
    x: F64Array, y: F64Array, ra: F64Array, dec: F64Array, centre: tuple[float, float], start: tuple[float, float],
    weights: F64Array,
) -> _Model:  # fmt: skip
    """Choose by five-fold cross-validation; a richer model must predict 3 % better."""
    # More stars make no other choice, only a later one.
    some = np.arange(0, len(x), max(1, len(x) // _ENOUGH_TO_CHOOSE))
    x, y, ra, dec, w = x[some], y[some], ra[some], dec[some], np.sqrt(weights[some])
    folds = np.arange(len(x)) % 5
    u, v = x - centre[0], y - centre[1]
    unit = max(float(np.abs(u).max()), float(np.abs(v).max()), 1.0)
    u, v = u / unit, v / unit
    told = np.column_stack(tangent_plane(ra, dec, *start))
    # The plain fit of all stars tells how far a deviation is in pixels.
    plain = np.linalg.lstsq(polynomial_columns(u, v, 1) * w[:, None], told * w[:, None], rcond=None)[0]
    linear = np.asarray(plain[1:].T, dtype=np.float64)
    to_pixels = np.linalg.inv(linear / unit).T
    best, best_error, cut = _PLAIN, math.inf, math.inf
    for model in _MODELS:
        if len(x) < 3 * model.free + 5:
            break
        away = model.left_out(u, v, told, w, folds, linear) @ to_pixels
        squares = (away**2).sum(axis=1)
        if model is _PLAIN:
            # A wrong pair tells nothing of a model: it counts as four deviations at most.
            cut = 16 * float(np.median(squares)) / (2 * math.log(2))
        error = math.sqrt(float(np.minimum(np.nan_to_num(squares, nan=math.inf), cut).mean()))
        if error < 0.97 * best_error:
            best, best_error = model, error
    return best


def _left_out(design: F64Array, told: F64Array, folds: np.ndarray) -> F64Array:
    """Return by how much each row differs from what the fit of the rows of all other folds foretells.

    One factorization serves all folds: those of a fold are off the fit of all by (1 - H) times as much, with H their block of the
    matrix that makes fitted values of values (Hastie, Tibshirani & Friedman, Elements of Statistical Learning, section 7.10).
    """
    q = np.linalg.qr(design)[0]
    rest = told - q @ (q.T @ told)
    for fold in range(5):
        mine = q[folds == fold]
        off = rest[folds == fold]
        try:
            rest[folds == fold] += mine @ np.linalg.solve(np.eye(q.shape[1]) - mine.T @ mine, mine.T @ off)
        except np.linalg.LinAlgError:
            # Without them there is no fit.
            rest[folds == fold] = math.nan
    return rest
