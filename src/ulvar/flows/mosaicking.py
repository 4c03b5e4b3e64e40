"""Mosaics: pointings matched where they overlap, laid beside each other all at once, combined part by part."""

from __future__ import annotations

import itertools
import math
import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ulvar.astrometry import separation_deg
from ulvar.engine import Failed, JobContext, temporary_name
from ulvar.flows.agreement import Agreement
from ulvar.flows.align import Aligned, align_item, pick_reference, positions
from ulvar.flows.common import failed_task
from ulvar.flows.made import Made, input_of
from ulvar.flows.starfind import Scored
from ulvar.flows.warping import (
    ScratchRows,
    Warped,
    WarpTask,
    moving_trails,
    resampled_correlation,
    warp_item,
    warping_bytes,
)
from ulvar.frames import ExposureFacts
from ulvar.registration import PixelMap, Transform
from ulvar.registration.adjusting import Link, adjust_mosaic
from ulvar.stacking import Frame2D
from ulvar.stacking.framing import edge_places
from ulvar.stacking.mosaic import MosaicInput, Window, stack_mosaic
from ulvar.stars import estimate_background

if TYPE_CHECKING:
    from ulvar.flows.stack import StackOptions

# Up to so many exposures each is held against each; of more, those that the headers or the order place beside each other.
_ALL_PAIRS = 30
# Pointings whose middles are so many diagonals apart at most may overlap.
_NEAR = 1.05
# Of more exposures whose places nobody tells each is held against so many of those before it.
_BEFORE = 4
_ARCSEC = 206264.806


@dataclass(frozen=True)
class _Pair:
    first: Scored
    second: Scored

    @property
    def facts(self) -> ExposureFacts:
        return self.first.facts


def _match_item(pair: _Pair) -> Aligned | Failed:
    return align_item((pair.first, pair.second.stars))


def _pairs(scored: Sequence[Scored]) -> list[tuple[int, int]]:
    """Return pairs of exposures that may overlap."""
    every = list(itertools.combinations(range(len(scored)), 2))
    if len(scored) <= _ALL_PAIRS:
        return every
    facts = [one.facts for one in scored]
    if all(f.ra_deg is not None and f.dec_deg is not None and f.scale_arcsec_px for f in facts):
        reach = [math.hypot(f.width, f.height) * (f.scale_arcsec_px or 0) / 3600 for f in facts]
        ra, dec = (np.array([getattr(f, name) for f in facts]) for name in ("ra_deg", "dec_deg"))
        first, second = np.array(every).T
        apart = separation_deg(ra[first], dec[first], ra[second], dec[second])
        return [(i, j) for (i, j), away in zip(every, apart) if away <= _NEAR * (reach[i] + reach[j]) / 2]
    order = sorted(range(len(scored)), key=lambda k: (str(scored[k].facts.start_utc or ""), scored[k].facts.path))
    return [(order[n], order[m]) for n in range(len(order)) for m in range(max(0, n - _BEFORE), n)]


def align_mosaic(scored: Sequence[Scored], context: JobContext, wanted: Scored | None = None) -> Agreement:
    """Lay pointings beside each other by the stars of their overlaps, adjusted together.

    Parameters
    ----------
    scored : sequence of Scored
    context : JobContext
    wanted : Scored, optional
        The exposure that sets the plane; by default that nearest to the middle.
    """
    best = scored[pick_reference(scored)]
    if len(scored) == 1:
        return Agreement(best, [Aligned(best, Transform.identity(), 1.0)], [])
    pairs = _pairs(scored)
    tasks = [_Pair(scored[i], scored[j]) for i, j in pairs]
    found: dict[tuple[int, int], Aligned] = {}
    index = {one.facts.path: k for k, one in enumerate(scored)}
    for task, made in context.each_in_order(_match_item, tasks, "Matching overlaps", lost=failed_task):
        if not isinstance(made, Failed):
            found[index[task.first.facts.path], index[task.second.facts.path]] = made
    links = [link for (i, j), one in found.items() if (link := _link(i, j, one, scored)) is not None]
    if not links:
        return Agreement(best, [], [Failed("no two exposures show the same stars", s.facts.path) for s in scored])
    scales = [s.facts.scale_arcsec_px for s in scored if s.facts.scale_arcsec_px]
    focal = _ARCSEC / float(np.median(scales)) if scales else None
    reference = None if wanted is None else index[wanted.facts.path]
    sizes = [(s.facts.height, s.facts.width) for s in scored]
    adjusted = adjust_mosaic(sizes, links, focal_px=focal, reference=reference)
    ratios = _ratios({pair: one.flux_ratio for pair, one in found.items()}, list(adjusted.maps), adjusted.reference)
    aligned = [Aligned(scored[k], adjusted.maps[k], ratios[k]) for k in sorted(adjusted.maps)]
    failed = [
        Failed("it shares no stars with the rest of the mosaic", one.facts.path)
        for k, one in enumerate(scored)
        if k not in adjusted.maps
    ]
    groups = tuple(tuple(scored[k].facts.path for k in one) for one in adjusted.apart)
    return Agreement(scored[adjusted.reference], aligned, failed, groups)


def _link(i: int, j: int, one: Aligned, scored: Sequence[Scored]) -> Link | None:
    pairs = one.transform.fit.pairs
    if pairs is None or len(pairs) < 3:
        return None
    places, others = positions(scored[i].stars)[pairs[:, 0]], positions(scored[j].stars)[pairs[:, 1]]
    middle = one.transform.at_middle(scored[i].facts.width, scored[i].facts.height)
    return Link(i, j, places, others, middle.mirrored)


def _ratios(told: dict[tuple[int, int], float], members: Sequence[int], base: int) -> dict[int, float]:
    """Return how bright each exposure's stars are over the reference's, by all overlaps at once."""
    at = {k: n for n, k in enumerate(members)}
    known = [(i, j, math.log(r)) for (i, j), r in told.items() if i in at and j in at and math.isfinite(r) and r > 0]
    rows, right = np.zeros((len(known) + 1 + len(members), len(members))), np.zeros(len(known) + 1 + len(members))
    for n, (i, j, value) in enumerate(known):
        rows[n, at[i]], rows[n, at[j]], right[n] = 1.0, -1.0, value
    rows[len(known), at[base]] = 1e3
    # Of an exposure of which nothing is known it is one.
    rows[len(known) + 1 :] = 1e-3 * np.eye(len(members))
    solved = np.linalg.lstsq(rows, right, rcond=None)[0]
    return {k: math.exp(float(solved[at[k]])) for k in members}


def _window(way: PixelMap, facts: ExposureFacts, grid: Frame2D) -> Window | None:
    """Return the upright part of the grid that an exposure covers."""
    u, v = way(*edge_places(facts.width, facts.height, beyond=0.5))
    found = Window(math.floor(u.min()), math.floor(v.min()), math.ceil(u.max()) + 1, math.ceil(v.max()) + 1)
    return found.common(Window(0, 0, grid.width, grid.height))


def mosaic_windows(aligned: Sequence[Aligned], grid: Frame2D) -> list[Window | None]:
    """Return the upright part of the grid that each exposure covers; None where that is nothing."""
    return [_window(grid.shifted(a.transform), a.scored.facts, grid) for a in aligned]


def combine_mosaic(
    aligned: Sequence[Aligned],
    reference: Scored,
    grid: Frame2D,
    output: Path,
    settings: StackOptions,
    context: JobContext,
) -> Made:
    """Resample exposures onto their parts of the grid, match levels in overlaps, and combine."""
    ways = [grid.shifted(a.transform) for a in aligned]
    windows = mosaic_windows(aligned, grid)
    inside = [k for k, window in enumerate(windows) if window is not None]
    outside = [
        Failed("it lies outside the part that is shown", a.scored.facts.path)
        for k, a in enumerate(aligned)
        if k not in inside
    ]
    output.parent.mkdir(parents=True, exist_ok=True)
    scratch = output.parent / temporary_name(output.name, mark="scratch")
    scratch.mkdir()
    try:
        cut = moving_trails(aligned) if settings.trails else {}
        tasks = []
        for k in inside:
            one, window = aligned[k], windows[k]
            assert window is not None
            way = ways[k].then(Transform.shift(-window.x0, -window.y0))
            tasks.append(
                WarpTask.of(
                    one.scored, way, window.shape, f"{scratch}/{k}.f32", trails=cut.get(one.scored.facts.path, ()),
                    how=settings.resampling, plane=settings.plane,
                )
            )  # fmt: skip
        done: dict[str, Warped] = {}
        failed = list(outside)
        held = max((warping_bytes(t) for t in tasks), default=0)
        for task, made in context.each_in_order(warp_item, tasks, "Resampling", item_bytes=held, lost=failed_task):
            if isinstance(made, Failed):
                failed.append(made)
            else:
                done[task.facts.path] = made
        kept = [(k, t) for k, t in zip(inside, tasks) if t.facts.path in done]
        if not kept:
            return Made(None, [], failed)
        inputs = []
        for k, task in kept:
            window = windows[k]
            assert window is not None
            entry = input_of(aligned[k], task.transform, ScratchRows(task.scratch, task.shape), done[task.facts.path])
            inputs.append(MosaicInput(entry, window, ways[k], (task.facts.height, task.facts.width)))
        base = next((n for n, (k, _) in enumerate(kept) if aligned[k].scored is reference), 0)
        stacked = stack_mosaic(
            inputs, (grid.height, grid.width), reference=base, rejection=settings.rejection, weighting=settings.weighting,
            feather_px=settings.feather_px, maps=settings.maps, budget_bytes=context.budget_bytes, threads=context.workers,
            progress=context.progress, stop=context.stop,
        )  # fmt: skip
        background = estimate_background(stacked.data)
        share = float(np.mean([done[t.facts.path].gain_share for _, t in kept]))
        cuts = {t.facts.path: done[t.facts.path].cuts for _, t in kept}
        return Made(
            stacked, [aligned[k] for k, _ in kept], failed, cuts, float(background.noise_adu), gain_share=share,
            correlation=resampled_correlation([t for _, t in kept], stacked.weights),
        )  # fmt: skip
    finally:
        shutil.rmtree(scratch, ignore_errors=True)
