"""The history of one pixel of a stack: its value in every exposure, and what rejection made of it."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np

from ulvar.combine import Method, Rejection, combine_stack, judged_together
from ulvar.engine import F32Array, Failed, JobContext
from ulvar.flows.calibrate import CalibrateTask
from ulvar.flows.common import failed_task
from ulvar.flows.lights import read_light
from ulvar.flows.warping import Cut, cut_out, laid_open
from ulvar.frames import ExposureFacts, FrameError, is_mosaic, read_frame
from ulvar.registration import RESAMPLING, PixelMap, Resampling, Transform, resample, stored_map
from ulvar.stacking import Surface

# A row of the stack takes rows of the exposure this far around, for the kernel's reach and its holes.
_AROUND = 12


@dataclass(frozen=True)
class StackedExposure:
    """One exposure as it went into a stack.

    Attributes
    ----------
    facts : ExposureFacts
    transform : PixelMap
        Onto the stack's pixels.
    factor, addend_adu : float
        What brought it to the reference.
    weight : float
    cuts : tuple of Cut
        What was left out under trails.
    plain : bool
        Whether it was taken as it is, without resampling.
    surface : Surface, optional
        What was added in the place of the addend.
    how : Resampling
    calibration : CalibrateTask, optional
        What a raw exposure is calibrated with on the way.
    """

    facts: ExposureFacts
    transform: PixelMap
    factor: float = 1.0
    addend_adu: float = 0.0
    weight: float = 1.0
    cuts: tuple[Cut, ...] = ()
    plain: bool = False
    surface: Surface | None = None
    how: Resampling = RESAMPLING
    calibration: CalibrateTask | None = None

    @classmethod
    def of(cls, facts: ExposureFacts, told: Mapping[str, Any], how: Resampling = RESAMPLING) -> StackedExposure:
        """Take what a stack's result tells of an exposure that went into it (`ulvar.flows.StackResult.frames`).

        Raises
        ------
        KeyError, ValueError
            If an older version told it.
        """
        surface = told.get("surface")
        return cls(
            facts, stored_map(told["matrix"], told["bent"]), told["factor"], told["addend_adu"], told["weight"],
            tuple(Cut.of(cut) for cut in told["trails_cut"]),
            surface=None if surface is None else Surface(tuple(surface["coefficients"]), int(surface["order"])),
            how=how,
        )  # fmt: skip


class Fate(StrEnum):
    """What became of a value."""

    KEPT = "kept"
    LOW = "too low"
    HIGH = "too high"
    MISSING = "missing"
    TRAIL = "under a trail"


@dataclass(frozen=True)
class PixelValue:
    """One exposure's value of a pixel: brought to the reference [ADU], NaN where there is none."""

    file: str
    value_adu: float
    weight: float
    fate: Fate


@dataclass(frozen=True)
class PixelHistory:
    """What every exposure says of one pixel of a stack.

    Attributes
    ----------
    x, y : int
        The pixel of the stack, 0-based.
    values : tuple of PixelValue
        In the order given.
    combined_adu : float
        What they were combined to.
    failed : tuple of Failed
        Exposures that could not be read.
    """

    x: int
    y: int
    values: tuple[PixelValue, ...]
    combined_adu: float
    failed: tuple[Failed, ...] = ()


@dataclass(frozen=True)
class _Task:
    exposure: StackedExposure
    x0: int
    y0: int
    width: int
    height: int
    stack: tuple[int, int]

    @property
    def facts(self) -> ExposureFacts:
        return self.exposure.facts


def pixel_history(
    exposures: Sequence[StackedExposure],
    x: int,
    y: int,
    size: tuple[int, int],
    rejection: Rejection,
    context: JobContext,
) -> PixelHistory:
    """Work out anew what went into one pixel of a stack, from the exposures themselves.

    Parameters
    ----------
    exposures : sequence of StackedExposure
    x, y : int
        The pixel, 0-based.
    size : (int, int)
        Height and width of the stack [px].
    rejection : Rejection
        With the limits that the stack was made with.
    context : JobContext

    Raises
    ------
    ValueError
        If the pixel is outside the stack, or there are no exposures.
    """
    height, width = size
    if not (0 <= x < width and 0 <= y < height):
        raise ValueError(f"the pixel {x}, {y} is outside the stack of {width} x {height} px")
    if not exposures:
        raise ValueError("the stack is made of no exposure")
    # Rejection judges a pixel by those around, too.
    together = judged_together(len(exposures))
    x0 = x // together * together
    # Near stars the rows beside it count, too.
    y0, y1 = max(0, y - 1), min(height, y + 2)
    tasks = [_Task(one, x0, y0, min(together, width - x0), y1 - y0, size) for one in exposures]
    strips: dict[str, tuple[F32Array, bool]] = {}
    failed: list[Failed] = []
    for task, strip in context.each_in_order(_strip, tasks, "Reading the exposures", lost=failed_task):
        if isinstance(strip, Failed):
            failed.append(strip)
        else:
            strips[task.facts.path] = strip[0], bool(strip[1][y - y0, x - x0])
    there = [one for one in exposures if one.facts.path in strips]
    if not there:
        return PixelHistory(x, y, (), math.nan, tuple(failed))
    stack = np.stack([strips[one.facts.path][0] for one in there])
    weights = None if rejection.method is Method.MEDIAN else [one.weight for one in there]
    combined = combine_stack(stack, rejection=rejection, weights=weights, maps=True)
    assert combined.maps is not None
    lows, highs = (int(m[y - y0, x - x0]) for m in (combined.maps.rejected_low, combined.maps.rejected_high))
    column = stack[:, y - y0, x - x0]
    values = [
        PixelValue(one.facts.path, float(v), one.weight, fate)
        for one, v, fate in zip(there, column, _fates(column, lows, highs, [strips[o.facts.path][1] for o in there]))
    ]
    return PixelHistory(x, y, tuple(values), float(combined.data[y - y0, x - x0]), tuple(failed))


def _fates(column: F32Array, lows: int, highs: int, trailed: Sequence[bool]) -> list[Fate]:
    """Return what became of each value: bounds are drawn between values, so that the outermost ones are rejected."""
    order = np.argsort(column, kind="stable")
    order = order[np.isfinite(column[order])]
    fates = [Fate.TRAIL if trail else Fate.MISSING for trail in trailed]
    for rank, i in enumerate(order):
        fates[i] = Fate.LOW if rank < lows else Fate.HIGH if rank >= len(order) - highs else Fate.KEPT
    return fates


def _strip(task: _Task) -> tuple[F32Array, np.ndarray] | Failed:
    """Return a part of the stack as one exposure shows it, and which of its pixels a trail was cut from."""
    one, facts = task.exposure, task.exposure.facts
    shape = task.height, task.width
    x, y = np.meshgrid(task.x0 + np.arange(task.width, dtype=np.float64), task.y0 + np.arange(float(task.height)))
    _, rows = one.transform.inverse()(x, y)
    first, last = 0, facts.height
    # A mosaic is brought to one scale by what all of it shows.
    if np.isfinite(rows).all() and not (is_mosaic(facts.cfa) and not one.plain):
        first = int(min(max(math.floor(rows.min()) - _AROUND, 0), facts.height))
        last = int(max(min(math.ceil(rows.max()) + _AROUND + 1, facts.height), 0))
        if first >= last:
            return np.full(shape, np.nan, dtype=np.float32), np.zeros(shape, dtype=bool)
    try:
        if one.calibration is None:
            frame = read_frame(facts, (first, last))
        else:
            first, last = 0, facts.height
            frame = read_light(facts, one.calibration)
        data = laid_open(frame, mix=not one.plain).data
    except FrameError as error:
        return Failed(error.reason, facts.path)
    whole = data.copy() if one.cuts else data
    cut_out(data, one.cuts, first)
    if one.plain:
        there = slice(task.y0 - first, task.y0 - first + task.height), slice(task.x0, task.x0 + task.width)
        part, uncut = data[there], whole[there]
    else:
        way = Transform.shift(0.0, first).then(one.transform).then(Transform.shift(-task.x0, -task.y0))
        part = resample(data, way, shape, one.how)
        uncut = resample(whole, way, shape, one.how) if one.cuts else part
    scaled = np.asarray(part * np.float32(one.factor))
    if one.surface is None:
        scaled += np.float32(one.addend_adu)
    else:
        added = one.surface.rows(task.y0, task.y0 + task.height, task.stack)
        scaled += added[:, task.x0 : task.x0 + task.width]
    return scaled, ~np.isfinite(part) & np.isfinite(uncut)
