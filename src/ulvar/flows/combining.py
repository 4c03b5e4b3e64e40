"""Resampling exposures of one field onto a grid, and combining them there."""

from __future__ import annotations

import shutil
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ulvar.engine import Failed, JobContext, temporary_name
from ulvar.flows.align import Aligned
from ulvar.flows.common import failed_task
from ulvar.flows.drops import drops_of
from ulvar.flows.made import Made, input_of
from ulvar.flows.proper import coadd_of
from ulvar.flows.starfind import Scored
from ulvar.flows.warping import (
    ScratchRows,
    Warped,
    WarpTask,
    resampled_correlation,
    warp_item,
    warping_bytes,
)
from ulvar.stacking import Frame2D, Normalise, stack_warped
from ulvar.stars import Trail, estimate_background

if TYPE_CHECKING:
    from ulvar.flows.stack import StackOptions


def combine_field(
    aligned: Sequence[Aligned],
    reference: Scored,
    grid: Frame2D,
    output: Path,
    settings: StackOptions,
    context: JobContext,
    cut: Mapping[str, tuple[Trail, ...]],
) -> Made:
    """Resample aligned exposures onto a grid and combine them, with what is to be made beside the stack.

    Parameters
    ----------
    aligned : sequence of Aligned
    reference : Scored
        What levels and brightness are brought to.
    grid : Frame2D
    output : Path
        Scratch files lie in a folder beside it meanwhile.
    settings : StackOptions
    context : JobContext
    cut : mapping of str to tuple of Trail
        The trails under which nothing is taken, by path.
    """
    out_shape = (grid.height, grid.width)
    output.parent.mkdir(parents=True, exist_ok=True)
    scratch = str(output.parent / temporary_name(output.name, mark="scratch"))
    Path(scratch).mkdir()
    failed: list[Failed] = []
    try:
        tasks = [
            WarpTask.of(
                a.scored, grid.shifted(a.transform), out_shape, f"{scratch}/{i}.f32", plain=_is_plain(settings, grid),
                trails=cut.get(a.scored.facts.path, ()), levels=settings.normalise is Normalise.LOCAL,
                how=settings.resampling, plane=settings.plane,
            )
            for i, a in enumerate(aligned)
        ]  # fmt: skip
        bad: set[str] = set()
        warped: dict[str, Warped] = {}
        for task, made in context.each_in_order(
            warp_item, tasks, "Resampling", item_bytes=max(map(warping_bytes, tasks)), lost=failed_task
        ):
            if isinstance(made, Failed):
                failed.append(made)
                bad.add(task.facts.path)
            else:
                warped[task.facts.path] = made
        pairs = [(a, t) for a, t in zip(aligned, tasks) if a.scored.facts.path not in bad]
        if not pairs:
            return Made(None, [], failed)
        inputs = [input_of(a, t.transform, ScratchRows(t.scratch, out_shape), warped[t.facts.path]) for a, t in pairs]
        index = next((i for i, (a, _) in enumerate(pairs) if a.scored.facts.path == reference.facts.path), 0)
        stacked = stack_warped(
            inputs, reference=index, rejection=settings.rejection, normalise=settings.normalise,
            weighting=settings.weighting, maps=settings.maps, budget_bytes=context.budget_bytes, threads=context.workers,
            progress=context.progress, stop=context.stop,
        )  # fmt: skip
        background = estimate_background(stacked.data)
        kept, cuts = [a for a, _ in pairs], {path: one.cuts for path, one in warped.items()}
        coadd = None
        if settings.proper:
            moved = [Aligned(a.scored, t.transform, a.flux_ratio) for a, t in pairs]
            coadd = coadd_of(inputs, moved, stacked, float(background.sky_adu), context)
        dropped = None
        if settings.drop is not None:
            dropped = drops_of([t for _, t in pairs], stacked, cuts, settings.drop, scratch, context)
        share = float(np.mean([warped[a.scored.facts.path].gain_share for a in kept]))
        correlation = resampled_correlation([t for _, t in pairs], stacked.weights)
        return Made(stacked, kept, failed, cuts, float(background.noise_adu), coadd, dropped, correlation, share)
    finally:
        shutil.rmtree(scratch, ignore_errors=True)


def _is_plain(settings: StackOptions, grid: Frame2D) -> bool:
    """Whether pixels are taken as they are: they are to be neither aligned nor turned."""
    return settings.align == "none" and grid.upright and (grid.x0, grid.y0) == (0, 0)
