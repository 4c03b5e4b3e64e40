"""Plate solution: hypotheses from patterns of four stars, then the whole frame matched with the catalogue and fitted."""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ulvar.astrometry.catalogue import StarCatalogue
from ulvar.astrometry.index import BAND_SIZES_DEG, SkyIndex, build_index
from ulvar.astrometry.search import Hypothesis, Limits, PackedIndex, Searched, hypotheses
from ulvar.astrometry.wcs import Wcs, fit_radial_wcs, fit_wcs
from ulvar.engine import F64Array, Failed


@dataclass(frozen=True)
class SolveHints:
    """What is known beforehand.

    Attributes
    ----------
    ra, dec : float or None
        Position to start from [deg]; anywhere when None.
    radius_deg : float
        The middle may be this far off; where nothing is found there, the rest of the sky follows.
    scale_low, scale_high : float
        Range of pixel scales [arcsec/px].
    epoch : float
        Julian year of the exposure.
    seconds : float
        The search ends after so long.
    firm_scale : bool
        Whether the scale lies in the range for sure; else others follow, too.
    aspect : float
        Height of a pixel over its width; the scale is that along rows.
    """

    ra: float | None
    dec: float | None
    radius_deg: float
    scale_low: float
    scale_high: float
    epoch: float = 2016.0
    seconds: float = 10.0
    firm_scale: bool = True
    aspect: float = 1.0


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


class Sky:
    """Stars of a part of the sky, or of all of it, with an index of their patterns.

    Parameters
    ----------
    cone : callable
        Given RA, Dec and a radius [deg], returns the catalogue's stars there, the brightest first.
    index : SkyIndex
    """

    def __init__(self, cone: Callable[[float, float, float], StarCatalogue], index: SkyIndex) -> None:
        self.cone = cone
        self.packed = PackedIndex(index)

    @classmethod
    def of(cls, catalogue: StarCatalogue, shape: tuple[int, int], hints: SolveHints) -> Sky:
        """Index a catalogue in memory, in the sizes of patterns that an exposure can hold."""
        return cls(catalogue.cone, build_index(catalogue, sizes_deg=_sizes(shape, hints)))

    @classmethod
    def near(
        cls, catalogue: StarCatalogue, place: tuple[float, float, float], shape: tuple[int, int], hints: SolveHints
    ) -> Sky:
        """Index what an exposure can show whose middle lies within a circle (RA, Dec, radius) [deg]."""
        ra, dec, radius = place
        reach = min(180.0, radius + 0.55 * math.hypot(*shape) * hints.scale_high / 3600)
        return cls(catalogue.cone, build_index(catalogue.cone(ra, dec, reach), sizes_deg=_sizes(shape, hints)))


def _sizes(shape: tuple[int, int], hints: SolveHints) -> Sequence[float]:
    """Return the bands of patterns that an exposure can hold."""
    longest = math.hypot(*shape) * hints.scale_high / 3600
    shortest = 0.1 * min(shape) * hints.scale_low / 3600
    return [size for size in BAND_SIZES_DEG if size < longest and 2 * size > shortest] or BAND_SIZES_DEG[:1]


# A solution must be weighed at this once it is fitted.
_ACCEPTED = math.log(1e11)
_LEAST_STARS = 6
_LEAST_MATCHED = 7
# Of the time that is left, what a hint may take before other places or scales are searched.
_SHARE = 0.5
# Where nothing is known of the scale [arcsec / px].
ANY_SCALE = 0.1, 400.0
# A fit is weighed by so many of the brightest stars of either side.
_WEIGHED, _REFERENCES = 120, 300


def solve_plate(
    x: F64Array,
    y: F64Array,
    snr: F64Array,
    shape: tuple[int, int],
    sky: StarCatalogue | Sky,
    hints: SolveHints,
    *,
    whole: Callable[[], Sky] | None = None,
    stated: Wcs | None = None,
) -> PlateSolution | Failed:
    """Find where on the sky an exposure is.

    Parameters
    ----------
    x, y, snr : float64 array, shape (stars,)
        Detected stars, brightest first [px].
    shape : (int, int)
        Height and width of the exposure [px].
    sky : StarCatalogue or Sky
        Where the hints point. A catalogue is indexed first: what serves many exposures is given as `Sky`.
    hints : SolveHints
    whole : callable, optional
        Returns the sky that is searched when nothing is found where the hints point, or when they point nowhere; by default the
        same.
    stated : Wcs, optional
        What the header says: taken to begin with, and believed only where the catalogue agrees.

    Returns
    -------
    PlateSolution, or Failed with the reason: too few stars, catalogue does not cover or is not deep enough, no match.

    Notes
    -----
    Patterns of four stars are looked up in the index, at any rotation and parity; what they tell is weighed against accident
    (Lang et al. 2010, AJ 139, 1782). Then catalogue and stars are matched from the pattern outwards and fitted with clipping; SIP
    terms are taken when cross-validation says that they predict stars not used in the fit better. What was fitted is weighed once more.
    """
    if len(x) < _LEAST_STARS:
        return Failed(f"too few stars: {len(x)} found, at least {_LEAST_STARS} are needed")
    height, width = shape
    stars = np.column_stack([x, y])
    # Patterns are looked up as if pixels were square.
    cx, cy = np.asarray(x - (width - 1) / 2), np.asarray(y - (height - 1) / 2) * hints.aspect
    squared = round(height * hints.aspect), width
    searched = Searched()
    left = hints.seconds
    stages = _stages(hints)
    for number, (place, low, high) in enumerate(stages, 1):
        if place is not None:
            stars_of = sky if isinstance(sky, Sky) else Sky.near(sky, place, shape, hints)
        else:
            stars_of = whole() if whole is not None else sky if isinstance(sky, Sky) else Sky.of(sky, shape, hints)
        if number == 1 and stated is not None:
            told = _as_hypothesis(stated, shape)
            solution = _fitted(told, stars, snr, shape, stars_of, hints.epoch, Limits(*ANY_SCALE))
            if isinstance(solution, PlateSolution):
                return replace(solution, confirms=True)
        # What opening a catalogue and compiling take is no time of the search.
        stars_of.packed.warm()
        began = time.monotonic()
        limits = Limits(low, high, place, began + (left if number == len(stages) else _SHARE * left))
        searched.out_of_time = False
        for square in hypotheses(cx, cy, squared, stars_of.packed, limits, searched):
            told = replace(square, cd=square.cd @ np.diag([1.0, hints.aspect]))
            solution = _fitted(told, stars, snr, shape, stars_of, hints.epoch, limits)
            if isinstance(solution, PlateSolution):
                return solution
        left -= time.monotonic() - began
    return Failed(_why_not(len(x), shape, stars_of, hints, limits, searched))


def _as_hypothesis(wcs: Wcs, shape: tuple[int, int]) -> Hypothesis:
    """Return what a header states as a place to begin at."""
    height, width = shape
    x, y = (width - 1) / 2, (height - 1) / 2
    ra, dec = (float(v) for v in wcs.sky(x, y))
    return Hypothesis(0.0, ra, dec, wcs.cd, 0.2 * min(shape))


def _stages(hints: SolveHints) -> list[tuple[tuple[float, float, float] | None, float, float]]:
    """Return what is searched one after the other: a circle (RA, Dec, radius) [deg] or the whole sky, and a range of scales."""
    stages: list[tuple[tuple[float, float, float] | None, float, float]] = []
    if hints.ra is not None and hints.dec is not None:
        stages.append(((hints.ra, hints.dec, hints.radius_deg), hints.scale_low, hints.scale_high))
    stages.append((None, hints.scale_low, hints.scale_high))
    if not hints.firm_scale:
        stages.append((None, *ANY_SCALE))
    return stages


def _why_not(
    found: int, shape: tuple[int, int], sky: Sky, hints: SolveHints, limits: Limits, searched: Searched
) -> str:
    """Say why there is no solution, and what would help."""
    scales = f"scales {limits.scale_low:.3g} to {limits.scale_high:.3g} arcsec/px"
    if not len(sky.packed.index.stars):
        return f"the catalogue has no pattern of stars of the size of the exposure ({scales})"
    if hints.ra is not None and hints.dec is not None:
        reach = 0.5 * math.hypot(*shape) * math.sqrt(hints.scale_low * hints.scale_high) / 3600
        near = len(sky.cone(hints.ra, hints.dec, hints.radius_deg + reach))
        if near < _LEAST_STARS:
            return f"the catalogue does not cover the place asked for, and elsewhere there is no match ({scales})"
        share = min(1.0, (reach / (hints.radius_deg + reach)) ** 2)
        if near * share < _LEAST_MATCHED:
            return (
                f"no match: the catalogue has about {near * share:.0f} stars in a field of this size there, "
                f"which is not deep enough ({scales})"
            )
    if searched.out_of_time:
        return (
            f"no match in {hints.seconds:g} s: patterns of the {searched.stars} brightest of {found} stars were looked up "
            f"with {scales}; a narrower range of scales, a place, or more time helps"
        )
    return f"no match: patterns of the {searched.stars} brightest of {found} stars were looked up with {scales}"


def _fitted(
    told: Hypothesis, stars: F64Array, snr: F64Array, shape: tuple[int, int], sky: Sky, epoch: float, limits: Limits
) -> PlateSolution | Failed:
    """Match the frame with the catalogue from the middle of a hypothesis outwards; fit TAN, or SIP if it predicts better."""
    from scipy.spatial import cKDTree

    height, width = shape
    centre = ((width - 1) / 2, (height - 1) / 2)
    wcs = Wcs(told.ra, told.dec, *centre, told.cd)
    around = sky.cone(told.ra, told.dec, 1.1 * math.degrees(math.atan(math.radians(_half_diagonal_deg(shape, wcs)))))
    # Many more stars than the exposure shows would match anything.
    around = around.select(np.arange(min(len(around), 4 * len(stars) + 300))).at_epoch(epoch)
    if len(around) < _LEAST_MATCHED:
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
        if len(keep) < _LEAST_MATCHED and reach >= corner:
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
    if len(keep) < _LEAST_MATCHED + 2 * (model.free - _PLAIN.free):
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
    x, y, ra, dec, weights = x[some], y[some], ra[some], dec[some], weights[some]
    folds = np.arange(len(x)) % 5
    best, best_error, cut = _PLAIN, math.inf, math.inf
    for model in _MODELS:
        if model is not _PLAIN and len(x) < 3 * model.free + 5:
            continue
        squares = np.empty(len(x))
        for fold in range(5):
            use, test = folds != fold, folds == fold
            wcs = model.fit(x[use], y[use], ra[use], dec[use], centre, start, weights[use])
            px, py = wcs.pixel(ra[test], dec[test])
            squares[test] = ((px - x[test]) ** 2 + (py - y[test]) ** 2) * weights[test]
        if model is _PLAIN:
            # A wrong pair tells nothing of a model: it counts as four deviations at most.
            cut = 16 * float(np.median(squares)) / (2 * math.log(2))
        error = math.sqrt(float(np.minimum(np.nan_to_num(squares, nan=math.inf), cut).mean()))
        if error < 0.97 * best_error:
            best, best_error = model, error
    return best
