"""Plate solution: hypotheses from patterns of four stars, then the whole frame matched with the catalogue and fitted."""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ulvar.astrometry.catalogue import StarCatalogue
from ulvar.astrometry.fitting import LEAST_MATCHED, PlateSolution, fitted
from ulvar.astrometry.index import BAND_SIZES_DEG, SkyIndex, build_index
from ulvar.astrometry.search import Hypothesis, Limits, PackedIndex, Searched, hypotheses
from ulvar.astrometry.wcs import Wcs
from ulvar.engine import F64Array, Failed, places_in_groups


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


_LEAST_STARS = 6
# Of each part of the frame, so many each way, so many stars come before all others.
_PARTS, _OF_A_PART = 8, 6
# Of the time that is left, what a hint may take before other places or scales are searched.
_SHARE = 0.5
# Where nothing is known of the scale [arcsec / px].
ANY_SCALE = 0.1, 400.0


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
    order = _evenly(x, y, shape)
    x, y, snr = x[order], y[order], snr[order]
    stars = np.column_stack([x, y])
    # Patterns are looked up as if pixels were square.
    cx, cy = np.asarray(x - (width - 1) / 2), np.asarray(y - (height - 1) / 2) * hints.aspect
    squared = round(height * hints.aspect), width
    searched = Searched()
    left = hints.seconds
    stages = _stages(hints)
    for number, (place, low, high, asked) in enumerate(stages, 1):
        if place is not None:
            stars_of = sky if isinstance(sky, Sky) else Sky.near(sky, place, shape, hints)
        else:
            stars_of = whole() if whole is not None else sky if isinstance(sky, Sky) else Sky.of(sky, shape, hints)
        if number == 1 and stated is not None:
            told = _as_hypothesis(stated, shape)
            solution = fitted(told, stars, snr, shape, stars_of.cone, hints.epoch, Limits(*ANY_SCALE))
            if isinstance(solution, PlateSolution):
                return replace(solution, confirms=True)
        # What opening a catalogue and compiling take is no time of the search.
        stars_of.packed.warm()
        began = time.monotonic()
        limits = Limits(low, high, place, began + (left if number == len(stages) else _SHARE * left))
        searched.out_of_time = False
        for square in hypotheses(cx, cy, squared, stars_of.packed, limits, searched):
            told = replace(square, cd=square.cd @ np.diag([1.0, hints.aspect]))
            solution = fitted(told, stars, snr, shape, stars_of.cone, hints.epoch, limits)
            if isinstance(solution, PlateSolution):
                return solution if asked else Failed(_outside(solution.wcs, shape, hints))
        left -= time.monotonic() - began
        if asked:
            why = _why_not(len(x), shape, stars_of, hints, limits, searched)
    return Failed(why)


def _evenly(x: F64Array, y: F64Array, shape: tuple[int, int]) -> np.ndarray:
    """Return an order in which no small part of the frame comes first as a whole: what is burnt into a corner is no sky."""
    height, width = shape
    columns, rows = (np.clip(v * _PARTS // size, 0, _PARTS - 1) for v, size in ((x, width), (y, height)))
    return np.argsort(places_in_groups(rows * _PARTS + columns) >= _OF_A_PART, kind="stable")


def _as_hypothesis(wcs: Wcs, shape: tuple[int, int]) -> Hypothesis:
    """Return what a header states as a place to begin at."""
    height, width = shape
    x, y = (width - 1) / 2, (height - 1) / 2
    ra, dec = (float(v) for v in wcs.sky(x, y))
    return Hypothesis(0.0, ra, dec, wcs.cd, 0.2 * min(shape))


def _stages(hints: SolveHints) -> list[tuple[tuple[float, float, float] | None, float, float, bool]]:
    """Return what is searched one after the other, and whether it was asked for.

    Each is a circle (RA, Dec, radius) [deg] or None for the whole sky, and a range of scales.
    """
    stages: list[tuple[tuple[float, float, float] | None, float, float, bool]] = []
    if hints.ra is not None and hints.dec is not None:
        stages.append(((hints.ra, hints.dec, hints.radius_deg), hints.scale_low, hints.scale_high, True))
    stages.append((None, hints.scale_low, hints.scale_high, True))
    if hints.scale_low > ANY_SCALE[0] or hints.scale_high < ANY_SCALE[1]:
        # What lies outside of a firm range is told, and not taken.
        stages.append((None, *ANY_SCALE, not hints.firm_scale))
    return stages


def _outside(wcs: Wcs, shape: tuple[int, int], hints: SolveHints) -> str:
    ra, dec = (float(v) for v in wcs.sky((shape[1] - 1) / 2, (shape[0] - 1) / 2))
    return (
        f"its scale is {wcs.scale_arcsec_px:.3g} arcsec/px (at RA {ra:.2f} Dec {dec:+.2f}), "
        f"which is outside of the {hints.scale_low:.3g} to {hints.scale_high:.3g} asked for"
    )


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
        if near * share < LEAST_MATCHED:
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
