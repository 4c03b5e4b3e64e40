"""Where on the sky an exposure could be: its patterns of four stars looked up in an index."""

from __future__ import annotations

import math
import time
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from ulvar.astrometry.index import SkyIndex
from ulvar.astrometry.sphere import unit_vectors
from ulvar.engine import F64Array

# What a hypothesis must be weighed at to be followed, and at most so many stars are weighed.
_WORTH_FITTING = math.log(1e9)
_TESTED = 100
# Stars that must agree beside the four of the pattern.
_AGREEING = 3
# Places of stars are known to a pixel, the catalogue's motions and neighbours included.
_PIXEL_ERROR = 1.0
# A code may be off by what a bent field makes of it: little is tried first; then among how many of the brightest stars.
_ROUNDS = ((0.003, 24), (0.010, 24), (0.003, 48), (0.010, 48), (0.003, 90))
# So many stars are at hand with a pattern before any is looked up.
_LEAST_STARS = 4
# Between two looks at the clock passes about so long [s].
_A_CALL_S = 0.1
_RESULTS = 16


@dataclass(frozen=True)
class Hypothesis:
    """A place that the index tells.

    Attributes
    ----------
    log_odds : float
        Against accident.
    ra, dec : float
        Middle of the exposure [deg].
    cd : float64 array, shape (2, 2)
        Pixels to standard coordinates about it [deg / px].
    spread_px : float
        Size of the pattern: how far around it the place is known.
    """

    log_odds: float
    ra: float
    dec: float
    cd: F64Array
    spread_px: float


@dataclass
class Searched:
    """How far a search got.

    Attributes
    ----------
    stars : int
        Of the exposure, whose patterns were looked up.
    out_of_time : bool
    """

    stars: int = 0
    out_of_time: bool = False


@dataclass(frozen=True)
class Limits:
    """What a search keeps to.

    Attributes
    ----------
    scale_low, scale_high : float
        Pixel scales [arcsec / px].
    at : (float, float, float), optional
        The middle lies in this circle: RA, Dec, radius [deg].
    until : float
        Moment at which it ends, of `time.monotonic` [s].
    """

    scale_low: float
    scale_high: float
    at: tuple[float, float, float] | None = None
    until: float = math.inf


class PackedIndex:
    """An index as the kernels take it: the bands one behind the other."""

    def __init__(self, index: SkyIndex) -> None:
        self.index = index
        bands = index.bands
        lengths = index.lengths
        self.lengths = (float(lengths.min()), float(lengths.max())) if len(lengths) else (0.0, 0.0)
        self.sizes = np.radians([band.size_deg for band in bands])
        self.zone_at = np.cumsum([0, *(len(band.zones) for band in bands)]).astype(np.int64)
        self.zones = np.concatenate([band.zones for band in bands])
        self.row_at = np.cumsum([0, *(len(band.star) for band in bands)]).astype(np.int64)
        self.star = np.concatenate([band.star for band in bands])
        self.right = np.concatenate([band.right for band in bands])

    def warm(self) -> None:
        """Have the kernels ready: what compiling takes is no time of a search."""
        self.look_up(np.zeros(1), np.zeros(1), (1, 1), 0, (0, 0), 0.0, Limits(1.0, 1.0))

    def look_up(
        self, x: F64Array, y: F64Array, shape: tuple[int, int], newest: int, pairs: tuple[int, int], slack: float, limits: Limits
    ) -> list[Hypothesis]:  # fmt: skip
        """Return what the patterns of a star and earlier ones tell, the best first."""
        from ulvar.astrometry import _kernels_search

        results = np.empty((_RESULTS, 8))
        index = self.index
        height, width = shape
        toward, cosine = np.zeros(3), -2.0
        if limits.at is not None:
            toward = unit_vectors(np.array([limits.at[0]]), np.array([limits.at[1]]))[0]
            cosine = math.cos(math.radians(min(limits.at[2], 180.0)))
        found = _kernels_search.look_up(
            x, y, newest, *pairs, min(len(x), _TESTED), float(width), float(height), 0.5 * math.hypot(width, height), slack,
            _PIXEL_ERROR, math.radians(limits.scale_low / 3600), math.radians(limits.scale_high / 3600), *self.lengths, toward, cosine,
            index.vec, index.stars, index.codes, index.lengths, index.starts, index.bins, self.sizes, self.zone_at, self.zones, self.row_at,
            self.star, self.right, _WORTH_FITTING, _AGREEING, results,
        )  # fmt: skip
        told = results[:found][np.argsort(-results[:found, 0], kind="stable")]
        return [_hypothesis(row) for row in told]


def _hypothesis(row: F64Array) -> Hypothesis:
    odds, mirrored, re, im, vx, vy, vz, spread = (float(v) for v in row)
    # xi + i eta = a (x + i y), of a mirrored exposure a (x - i y).
    cd = np.degrees([[re, im], [im, -re]] if mirrored else [[re, -im], [im, re]])
    return Hypothesis(odds, math.degrees(math.atan2(vy, vx)) % 360, math.degrees(math.asin(vz)), cd, spread)


def hypotheses(
    x: F64Array, y: F64Array, shape: tuple[int, int], index: PackedIndex, limits: Limits, searched: Searched
) -> Iterator[Hypothesis]:
    """Yield places that are worth a fit, found among the brightest stars first.

    Parameters
    ----------
    x, y : float64 array, shape (stars,)
        About the middle of the exposure [px], the brightest first.
    shape : (int, int)
        Height and width of the exposure [px].
    index : PackedIndex
    limits : Limits
    searched : Searched
        Told how far it got.
    """
    if not len(index.index.stars):
        return
    done: dict[float, int] = {}
    step = 1 << 20
    for slack, most in _ROUNDS:
        for newest in range(max(_LEAST_STARS - 1, done.get(slack, 0)), min(most, len(x))):
            first = 0
            while first < newest:
                began = time.monotonic()
                if began > limits.until:
                    searched.out_of_time = True
                    return
                pairs = first, min(first + step, newest)
                yield from index.look_up(x, y, shape, newest, pairs, slack, limits)
                first = pairs[1]
                # Pairs of a later star are many, and the clock is looked at between calls.
                took = time.monotonic() - began
                if took > 2 * _A_CALL_S:
                    step = max(1, (pairs[1] - pairs[0]) // 4)
                elif took < 0.5 * _A_CALL_S:
                    step *= 2
            searched.stars = max(searched.stars, newest + 1)
        done[slack] = most
