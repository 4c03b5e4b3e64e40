"""Bringing exposures onto one of them: by star patterns, or by plate solutions."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ulvar.engine import Failed, JobContext
from ulvar.flows.plate import wcs_of
from ulvar.flows.starfind import Scored
from ulvar.registration import Transform, fit_transform, match_stars
from ulvar.stars import StarFlag, StarTable


@dataclass(frozen=True)
class Aligned:
    """One exposure's way onto the reference."""

    scored: Scored
    transform: Transform
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
    if isinstance(found, Failed):
        return Failed(found.reason, scored.facts.path)
    return Aligned(scored, found, _flux_ratio(found, scored.stars, reference))


def _flux_ratio(transform: Transform, stars: StarTable, reference: StarTable) -> float:
    """Median brightness of common unsaturated stars over the reference's: the relative transparency."""
    if transform.pairs is None or not len(transform.pairs):
        return math.nan
    mine, theirs = transform.pairs[:, 0], transform.pairs[:, 1]
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
    for (one, _), result in context.each(
        align_item, tasks, "Aligning", lost=lambda t, why: Failed(why, t[0].facts.path)
    ):
        if isinstance(result, Failed):
            failed.append(result)
        else:
            done[one.facts.path] = result
    return [done[s.facts.path] for s in scored if s.facts.path in done], failed


def align_by_sky(scored: Sequence[Scored], reference: Scored) -> tuple[list[Aligned], list[Failed]]:
    """Align exposures by their plate solutions."""
    base = wcs_of(reference.facts.path)
    if base is None:
        name = Path(reference.facts.path).name
        return [], [Failed(f"the reference {name} has no plate solution: solve it first", s.facts.path) for s in scored]
    done, failed = [], []
    for one in scored:
        wcs = wcs_of(one.facts.path)
        if wcs is None:
            failed.append(Failed("it has no plate solution", one.facts.path))
            continue
        gx, gy = np.meshgrid(np.linspace(0, one.facts.width - 1, 9), np.linspace(0, one.facts.height - 1, 9))
        source = np.column_stack([gx.ravel(), gy.ravel()])
        tx, ty = base.pixel(*wcs.sky(source[:, 0], source[:, 1]))
        target = np.column_stack([tx, ty])
        matrix = fit_transform(source, target)
        residual = target - (source @ matrix[:, :2].T + matrix[:, 2])
        done.append(Aligned(one, Transform(matrix, float(np.sqrt((residual**2).mean()))), math.nan))
    return done, failed
