"""The reconstruction on the stack's grid that goes with a stack: exposures' own pixels, dropped onto it, outliers left out."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ulvar.combine import Method, Rejection
from ulvar.combine.contrast import local_contrast
from ulvar.engine import Failed, JobContext
from ulvar.flows.common import failed_task
from ulvar.flows.lights import read_light
from ulvar.flows.stackfile import Told
from ulvar.flows.warping import Cut, ScratchRows, WarpTask, cut_out, laid_open, warping_bytes, write_scratch
from ulvar.frames import CELL_SITES, ExposureFacts, FrameError, difference_noise, robust_spread, write_fits
from ulvar.registration import resample
from ulvar.stacking import Stacked
from ulvar.stacking.drops import DropInput, Dropped, reconstruct

# Within this much of the contrast of the pixels around a value is no outlier: the stack is softer than exposures are,
# and where stars are sharp it lies below them by half of their height.
_SLACK_SOFT, _SLACK_SHARP = 1.0, 0.5


def drops_file(output: Path) -> Path:
    """Return the file of the reconstruction that goes with a stack."""
    return output.with_name(f"{output.stem}-drops.fits")


@dataclass(frozen=True)
class _Task:
    """One exposure whose outliers are to be found."""

    warp: WarpTask
    cuts: tuple[Cut, ...]
    factor: float
    addend_adu: float
    weight: float
    rejection: Rejection
    out: str
    # Pictures that it is held against, as files of the grid's pixels.
    against: tuple[str, ...]

    @property
    def facts(self) -> ExposureFacts:
        return self.warp.facts

    @property
    def shape(self) -> tuple[int, int]:
        return self.facts.height, self.facts.width


def drops_of(
    tasks: Sequence[WarpTask], stacked: Stacked, cuts: Mapping[str, tuple[Cut, ...]], drop: float, scratch: str,
    context: JobContext,
) -> Dropped | Failed:  # fmt: skip
    """Return the reconstruction of exposures on their stack's grid, or why there is none.

    Outliers are found by holding each exposure against pictures of the same sky, as those would look through its pixels
    (Fruchter & Hook 2002, PASP 114, 144, section 5): the stack, which holds no outliers but is soft where stars are sharp, and
    a first reconstruction, which is sharp but holds them. A value that is one stands off both.

    Parameters
    ----------
    tasks : sequence of WarpTask
        As the exposures were resampled for the stack.
    stacked : Stacked
    cuts : mapping of str to tuple of Cut
        What was left out under trails, by path.
    drop : float
        Side of a drop over that of a pixel.
    scratch : str
        A folder for what is made on the way.
    context : JobContext
    """
    if any(surface is not None for surface in stacked.surfaces):
        return Failed(
            "levels were matched by surfaces, which only resampled exposures can be: match level and scale", ""
        )
    if any(task.plain for task in tasks):
        return Failed("exposures that are not aligned have one place within a pixel", "")
    soft, sharp = f"{scratch}/soft.f32", f"{scratch}/sharp.f32"
    items = [
        _Task(
            task, cuts.get(task.facts.path, ()), factor, add, float(weight), stacked.rejection, f"{scratch}/{i}.drop.f32",
            (soft, sharp),
        )
        for i, (task, (factor, add), weight) in enumerate(zip(tasks, stacked.scaling, stacked.weights))
    ]  # fmt: skip
    held = max(22 * t.facts.width * t.facts.height + warping_bytes(t) for t in tasks) + 8 * stacked.data.size
    for _, opened in context.each(_open_item, items, "Reading pixels", item_bytes=held, lost=failed_task):
        if isinstance(opened, Failed):
            return opened
    noises = dict.fromkeys((item.out for item in items), 1.0)
    if stacked.rejection.method is not Method.MEAN:
        first = _reconstructed(items, noises, 1.0, context)
        for path, plane in ((soft, stacked.data), (sharp, first.data)):
            write_scratch(plane, path)
    for item, noise in context.each(_clean_item, items, "Finding outliers", item_bytes=held, lost=failed_task):
        if isinstance(noise, Failed):
            return noise
        noises[item.out] = noise
    return _reconstructed(items, noises, drop, context)


def _reconstructed(items: Sequence[_Task], noises: Mapping[str, float], drop: float, context: JobContext) -> Dropped:
    inputs = [
        DropInput(
            ScratchRows(one.out, one.shape), one.warp.transform, one.factor, one.addend_adu, one.weight, noises[one.out]
        )
        for one in items
    ]
    facts, way = items[0].facts, items[0].warp.transform
    scale = way.at_middle(facts.width, facts.height).scale
    return reconstruct(
        inputs, items[0].warp.shape, drop=drop, scale=scale, budget_bytes=context.budget_bytes, progress=context.progress,
        stop=context.stop,
    )  # fmt: skip


def _open_item(task: _Task) -> Failed | None:
    """Write an exposure's own good pixels, or those of one colour (runs in a worker)."""
    facts, plane = task.facts, task.warp.plane
    try:
        data = laid_open(read_light(facts, task.warp.calibration), mix=plane is None).data
    except FrameError as error:
        return Failed(error.reason, facts.path)
    cut_out(data, task.cuts)
    if plane is not None:
        for site, colour in zip(CELL_SITES, facts.cfa):
            if colour != plane.colour:
                data[site] = np.nan
    write_scratch(data, task.out)
    return None


def _clean_item(task: _Task) -> float | Failed:
    """Take outliers out of an exposure's pixels; returns the noise of a pixel [ADU] (runs in a worker)."""
    data = np.fromfile(task.out, dtype=np.float32).reshape(task.shape)
    if task.rejection.method is Method.MEAN:
        return difference_noise(data)
    way = task.warp.transform
    # The light of a picture in a pixel of the exposure is what that gathers, brought to the reference.
    own = data * np.float32(task.factor) + np.float32(
        task.addend_adu * way.at_middle(task.facts.width, task.facts.height).scale ** 2
    )
    limits = [limit or 4.0 for limit in (task.rejection.low, task.rejection.high)]
    noises, outliers = [], np.ones(data.shape, dtype=bool)
    for path, slack in zip(task.against, (_SLACK_SOFT, _SLACK_SHARP)):
        picture = np.asarray(np.memmap(path, dtype=np.float32, mode="r", shape=task.warp.shape))
        seen = resample(picture, way.inverse(), data.shape)
        apart = own - seen
        noise = robust_spread(apart, about=0.0)
        noises.append(noise)
        out = np.isfinite(apart) & ((apart < -limits[0] * noise) | (apart > limits[1] * noise))
        ys, xs = np.nonzero(out)
        contrast = local_contrast(seen, np.full(len(ys), noise, np.float32), ys, xs)
        beyond = np.float32(noise) * np.where(apart[ys, xs] < 0, *limits)
        out[ys, xs] = np.abs(apart[ys, xs]) > np.float32(slack) * contrast + beyond
        outliers &= out
    data[outliers] = np.nan
    write_scratch(data, task.out)
    return noises[0] / task.factor if task.factor else math.nan


def write_drops(output: Path, made: Dropped, drop: float, told: Told) -> None:
    """Write a reconstruction, as `write_stack` a stack, with its weight and noise as maps."""
    cards = [
        *told.cards(), ("DROPSIZE", drop, "side of a drop over that of a pixel"),
        ("NOISECOR", round(made.correlation, 4), "noise of areas over that of pixels"),
    ]  # fmt: skip
    history = ["variable-pixel reconstruction (Fruchter and Hook 2002, PASP 114, 144)"]
    if made.problem:
        history.append(made.problem)
    maps = {"WEIGHT MAP": made.weight, "NOISE MAP": made.noise}
    write_fits(output, made.data, history=history, replace=True, maps=maps, **told.header(cards))
