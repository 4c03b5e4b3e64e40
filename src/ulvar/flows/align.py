"""Bringing exposures onto one of them: by star patterns, or by plate solutions."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ulvar.astrometry import Wcs
from ulvar.engine import F64Array, Failed, JobContext
from ulvar.flows.starfind import Scored
from ulvar.flows.wcsfile import wcs_of
from ulvar.registration import Fit, PixelMap, match_pointed, match_stars, pair_stars
from ulvar.registration.pointed import Pair
from ulvar.registration.transform import UNFITTED
from ulvar.stars import StarFlag, StarTable


@dataclass(frozen=True)
class Aligned:
    """One exposure's way onto the reference."""

    scored: Scored
    transform: PixelMap
    flux_ratio: float


def positions(stars: StarTable) -> np.ndarray:
    """Return (n, 2) positions of stars that are not saturated away from their true centre."""
    return np.column_stack([stars.x, stars.y])


def align_item(task: tuple[Scored, StarTable]) -> Aligned | Failed:
    """Match one exposure's stars with the reference's (runs in a worker)."""
    scored, reference = task
    found = match_stars(
        positions(scored.stars), positions(reference), source_snr=scored.stars.snr, target_snr=reference.snr
    )
    return _outcome(scored, found, reference)


def align_pointed(scored: Scored, reference: StarTable, pairs: Sequence[Pair]) -> Aligned | Failed:
    """Match one exposure's stars with the reference's with the help of stars that were pointed out.

    Parameters
    ----------
    scored : Scored
    reference : StarTable
    pairs : sequence of ((x, y), (x, y))
        Places in the exposure, and where the reference has the same stars [px, 0-based].
    """
    found = match_pointed(
        positions(scored.stars), positions(reference), pairs, source_snr=scored.stars.snr, target_snr=reference.snr
    )
    return _outcome(scored, found, reference)


def _outcome(scored: Scored, found: PixelMap | Failed, reference: StarTable) -> Aligned | Failed:
    """Return what became of matching an exposure's stars; a failure names the exposure."""
    if isinstance(found, Failed):
        return Failed(found.reason, scored.facts.path)
    return Aligned(scored, found, _flux_ratio(found, scored.stars, reference))


def _flux_ratio(transform: PixelMap, stars: StarTable, reference: StarTable) -> float:
    """Median brightness of common unsaturated stars over the reference's: the relative transparency."""
    pairs = transform.fit.pairs
    if pairs is None or not len(pairs):
        return math.nan
    mine, theirs = pairs[:, 0], pairs[:, 1]
    clean = ((stars.flags[mine] | reference.flags[theirs]) & StarFlag.SATURATED) == 0
    strong = clean & (stars.snr[mine] > 15)
    use = strong if strong.sum() >= 5 else clean
    if not use.any():
        return math.nan
    return float(np.median(stars.flux[mine[use]] / reference.flux[theirs[use]]))


def known_score(scored: Scored) -> float:
    """Return an exposure's score; one that has none counts least."""
    return scored.quality.score if math.isfinite(scored.quality.score) else 0.0


def pick_reference(scored: Sequence[Scored]) -> int:
    """Return the exposure with the best score (the earliest of equals)."""
    return int(np.argmax([known_score(s) for s in scored]))


def align_all(
    scored: Sequence[Scored], reference: StarTable, context: JobContext
) -> tuple[list[Aligned], list[Failed]]:
    """Align exposures on a reference's stars."""
    done: dict[str, Aligned] = {}
    failed: list[Failed] = []
    tasks = [(s, reference) for s in scored]
    for (one, _), result in context.each_in_order(
        align_item, tasks, "Aligning", lost=lambda t, why: Failed(why, t[0].facts.path)
    ):
        if isinstance(result, Failed):
            failed.append(result)
        else:
            done[one.facts.path] = result
    return [done[s.facts.path] for s in scored if s.facts.path in done], failed


def align_by_sky(
    scored: Sequence[Scored], reference: Scored, solutions: Mapping[str, Wcs] | None = None
) -> tuple[list[Aligned], list[Failed]]:
    """Align exposures by their plate solutions: those that are given by their paths, else those of headers and ``.wcs`` files."""
    known = solutions or {}
    base = known.get(reference.facts.path) or wcs_of(reference.facts.path)
    if base is None:
        name = Path(reference.facts.path).name
        return [], [Failed(f"the reference {name} has no plate solution: solve it first", s.facts.path) for s in scored]
    done, failed = [], []
    for one in scored:
        wcs = known.get(one.facts.path) or wcs_of(one.facts.path)
        if wcs is None:
            failed.append(Failed("it has no plate solution", one.facts.path))
            continue
        done.append(_through_sky(one, wcs, reference, base))
    return done, failed


@dataclass(frozen=True)
class SkyMap(PixelMap):
    """The way from one solved exposure's pixels to another's, distortion included."""

    source: Wcs
    target: Wcs
    fit: Fit = UNFITTED
    kind: str = "plate solutions"

    def __call__(self, x: F64Array, y: F64Array) -> tuple[F64Array, F64Array]:
        """Map positions [px]."""
        return self.target.pixel(*self.source.sky(x, y))

    def inverse(self) -> SkyMap:
        """Return the map back."""
        return SkyMap(self.target, self.source, self.fit)


# Two solutions put a star within so many pixels of itself.
_SOLVED_PX = 2.0


def _through_sky(one: Scored, wcs: Wcs, reference: Scored, base: Wcs) -> Aligned:
    """Take both solutions' word for the way; stars in common tell how well they agree, and the brightness."""
    way = SkyMap(wcs, base)
    fit = pair_stars(way, positions(one.stars), positions(reference.stars), _SOLVED_PX)
    way = SkyMap(wcs, base, fit)
    return Aligned(one, way, _flux_ratio(way, one.stars, reference.stars))
