"""Resampling one exposure onto a stack's grid, into a file of rows."""

from __future__ import annotations

import errno
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.engine import F32Array, F64Array, Failed, with_place
from ulvar.flows.align import Aligned
from ulvar.flows.calibrate import CalibrateTask
from ulvar.flows.lights import held_bytes, read_light
from ulvar.flows.starfind import Scored
from ulvar.frames import (
    Demosaic,
    ExposureFacts,
    Frame,
    FrameError,
    MaskBit,
    Plane,
    colour_plane,
    plane_origin,
)
from ulvar.registration import RESAMPLING, PixelMap, Resampling, Transform, resample
from ulvar.stacking import level_places
from ulvar.stars import Trail, estimate_background, even_frame, trail_reach, under_trail

_HIDDEN = np.uint16(MaskBit.NO_DATA | MaskBit.HOT | MaskBit.COLD | MaskBit.COLUMN | MaskBit.COSMIC)


# The ends of a trail are known to about this [px].
_BEYOND_PX = 16.0
# Two lines on the sky are one: at most so far apart in angle [deg] and across [px], over so much of the shorter.
_SAME_DEG, _SAME_PX, _SAME_SHARE = 1.5, 5.0, 0.3
# A line that so many of the other exposures show is on the sky: a spike, a galaxy seen from its edge.
_STAYING = 0.25


@dataclass(frozen=True)
class WarpTask:
    """Which exposure goes where, without what lies under its trails; a plain one is taken as it is."""

    facts: ExposureFacts
    transform: PixelMap
    shape: tuple[int, int]
    scratch: str
    plain: bool = False
    trails: tuple[Trail, ...] = ()
    noise_adu: float = math.nan
    # Whether levels over the frame are wanted, too.
    levels: bool = False
    how: Resampling = RESAMPLING
    # One colour alone of a colour sensor's exposure.
    plane: Plane | None = None
    # What a raw exposure is calibrated with on the way.
    calibration: CalibrateTask | None = None

    @classmethod
    def of(cls, scored: Scored, way: PixelMap, shape: tuple[int, int], scratch: str, **more: Any) -> WarpTask:
        """Return the task of an exposure whose stars are known; `more` are further attributes."""
        return cls(
            scored.facts,
            way,
            shape,
            scratch,
            noise_adu=scored.quality.noise_adu,
            calibration=scored.calibration,
            **more,
        )


def warping_bytes(task: WarpTask) -> int:
    """Return what resampling an exposure takes [bytes]: the frame with its mask, its rows on the way, and what it becomes."""
    pixels = task.facts.width * task.facts.height
    return 18 * pixels + 4 * task.shape[0] * task.shape[1] + held_bytes(task.facts, task.calibration)


def write_scratch(data: F32Array, path: str) -> None:
    """Write pixels into a file of a scratch folder, for `ScratchRows`.

    Raises
    ------
    OSError
        If the place takes no output: it names the folder of the stack, not the scratch folder in it, which nobody knows.
    """
    try:
        data.tofile(path)
    except OSError as error:
        raise with_place(error, Path(path).parent.parent) from error


class ScratchRows:
    """Rows of a float32 scratch file."""

    def __init__(self, path: str, shape: tuple[int, int]) -> None:
        self.height, self.width = shape
        self._path = path

    def rows(self, y0: int, y1: int) -> F32Array:
        """Return rows as a new array."""
        data = np.empty((y1 - y0, self.width), dtype=np.float32)
        self.rows_into(y0, y1, data)
        return data

    def rows_into(self, y0: int, y1: int, out: F32Array) -> None:
        """Write rows ``y0 <= y < y1`` into `out`, whose memory is in one piece."""
        # Read, not mapped: of hundreds of exposures mapped pages would fill the memory that is not asked for.
        with Path(self._path).open("rb", buffering=0) as file:
            file.seek(4 * y0 * self.width)
            wanted = out.data.cast("B")
            while wanted:
                count = file.readinto(wanted)
                if not count:
                    raise OSError(errno.EIO, "a scratch file is shorter than it was written", self._path)
                wanted = wanted[count:]


@dataclass(frozen=True)
class Cut:
    """What was left out under a trail: so far to each side, and beyond its ends [px]."""

    trail: Trail
    reach_px: float
    beyond_px: float

    @property
    def told(self) -> list[float]:
        """As a stored row has it: the ends, then how far to each side and beyond [px]."""
        t = self.trail
        return [round(v, 3) for v in (t.x0, t.y0, t.x1, t.y1, self.reach_px, self.beyond_px)]

    @classmethod
    def of(cls, told: Sequence[float]) -> Cut:
        """Take a stored row."""
        x0, y0, x1, y1, reach, beyond = told
        return cls(Trail(x0, y0, x1, y1, reach, math.nan, math.nan), reach, beyond)


@dataclass(frozen=True)
class Warped:
    """What was made of an exposure beside its pixels.

    Attributes
    ----------
    cuts : tuple of Cut
        What was left out under trails.
    levels : float32 array, optional
        At `level_places` of the grid, where they were wanted [ADU].
    gain_share : float
        The gain of mixed colours, or of a colour, over that of the sensor; 1 where all pixels are of a kind.
    sky_adu, noise_adu : float
        Of a colour alone, as it was resampled; NaN where the exposure's own are right.
    """

    cuts: tuple[Cut, ...] = ()
    levels: F32Array | None = None
    gain_share: float = 1.0
    sky_adu: float = math.nan
    noise_adu: float = math.nan


def warp_item(task: WarpTask) -> Warped | Failed:
    """Resample one exposure into its scratch file (runs in a worker)."""
    try:
        frame = read_light(task.facts, task.calibration)
    except FrameError as error:
        return Failed(error.reason, task.facts.path)
    gain = frame.facts.gain_e_per_adu
    even = frame if task.plane is not None and not task.trails else laid_open(frame, mix=not task.plain)
    data, mixed_gain = even.data, even.facts.gain_e_per_adu
    # All are measured before any is cut: trails cross.
    cuts = tuple(
        Cut(trail, trail_reach(data, trail, task.noise_adu), max(_BEYOND_PX, 0.03 * trail.length_px))
        for trail in task.trails
    )
    if task.plane is not None:
        # Colours brought to one scale serve to see trails; what is stacked is the colour as it was measured.
        data = laid_open(frame, mix=False).data
    cut_out(data, cuts)
    if task.plane is not None:
        warped = _of_one_colour(data, task.facts.cfa, task.plane, task)
    elif task.plain:
        if data.shape != task.shape:
            return Failed(f"its size {data.shape[1]} x {data.shape[0]} px is not the reference's", task.facts.path)
        warped = data
    else:
        warped = resample(data, task.transform, task.shape, task.how)
    write_scratch(warped, task.scratch)
    levels = _levels(warped) if task.levels else None
    if task.plane is not None:
        sky = estimate_background(warped)
        return Warped(cuts, levels, task.plane.share, float(sky.sky_adu), float(sky.noise_adu))
    return Warped(cuts, levels, mixed_gain / gain if gain and mixed_gain else 1.0)


def _of_one_colour(data: F32Array, cfa: str, plane: Plane, task: WarpTask) -> F32Array:
    """Return one colour of a mosaic on the grid, on the scale of the sensor's pixels."""
    found, way = colour_plane(data, cfa, plane), task.transform
    if plane.method is Demosaic.HALF:
        x0, y0 = plane_origin(cfa, plane)
        # A pixel of the plane stands for the four of its cell.
        found *= np.float32(4)
        way = Transform(np.array([[2.0, 0.0, x0], [0.0, 2.0, y0]])).then(task.transform)
    return resample(found, way, task.shape, task.how)


# Noise that is resampled to see how much neighbours share: pixels each way, and exposures that are looked at.
_PATCH, _LOOKED_AT, _BLOCK, _LEAST_BLOCKS = 416, 5, 8, 6


def resampled_correlation(tasks: Sequence[WarpTask], weights: F64Array) -> float:
    """Return by how much the noise of areas of a stack exceeds that of independent pixels.

    White noise is resampled as the exposures were, and that of means over 8 x 8 pixels held against that of pixels.

    Parameters
    ----------
    tasks : sequence of WarpTask
    weights : float64 array, shape (tasks,)
    """
    chosen = np.argsort(-weights, kind="stable")[:_LOOKED_AT]
    areas, pixels = 0.0, 0.0
    rng = np.random.default_rng(1)
    for task, weight in ((tasks[i], weights[i]) for i in chosen):
        if task.plain:
            return 1.0
        noise = _noise_resampled(rng.standard_normal((_PATCH, _PATCH)).astype(np.float32), task)
        count = len(noise) // _BLOCK
        # Pixels so much larger than the exposure's hardly share any.
        if count < _LEAST_BLOCKS:
            return 1.0
        blocks = noise.reshape(count, _BLOCK, count, _BLOCK)
        areas += weight**2 * float(np.nanvar(np.nanmean(blocks, axis=(1, 3)))) * _BLOCK**2
        pixels += weight**2 * float(np.nanvar(noise))
    return math.sqrt(areas / pixels) if pixels > 0 else 1.0


def _noise_resampled(noise: F32Array, task: WarpTask) -> F32Array:
    """Return noise around the middle of an exposure on the grid, as far as it is whole."""
    middle = (task.facts.width - 1) / 2, (task.facts.height - 1) / 2
    # Whole cells of a mosaic.
    corner = [round(m - _PATCH / 2) // 2 * 2 for m in middle]
    local = task.transform.affine_at(*middle)
    inner = int(0.6 * _PATCH * local.scale) // _BLOCK * _BLOCK
    x, y = (float(v) for v in local(*(np.asarray(m) for m in middle)))
    way = Transform.shift(*corner).then(local).then(Transform.shift(inner / 2 - round(x), inner / 2 - round(y)))
    moved = replace(task, transform=way, shape=(inner, inner), facts=replace(task.facts, width=_PATCH, height=_PATCH))
    if task.plane is not None:
        return _of_one_colour(noise, task.facts.cfa, task.plane, moved)
    return resample(noise, way, (inner, inner), task.how)


def _levels(data: F32Array) -> F32Array:
    """Return the background at `level_places`, NaN where there is no data."""
    rows, columns = level_places(data.shape)
    # Cells about as far apart as the places: larger ones would not follow a gradient to the edges of a small frame.
    box = int(min(max(max(data.shape) // len(columns), 32), 128))
    level = estimate_background(data, box_px=box).level[np.ix_(rows, columns)].copy()
    level[~np.isfinite(data[np.ix_(rows, columns)])] = np.nan
    return np.asarray(level, dtype=np.float32)


def laid_open(frame: Frame, *, mix: bool) -> Frame:
    """Return a frame with its pixels as they are resampled, NaN where they are not good.

    Parameters
    ----------
    frame : Frame
        Freshly read: its pixels may be changed in place.
    mix : bool
        Whether pixels will mix. Then a mosaic is none any more: its colours are brought to one scale first.
    """
    if mix:
        frame = even_frame(frame)
    if frame.mask is not None:
        frame.data[(frame.mask & _HIDDEN) != 0] = np.nan
    return frame


def cut_out(data: F32Array, cuts: Sequence[Cut], first_row: int = 0) -> None:
    """Set to NaN, in place, what is left out under trails; the data begin at a row of the exposure."""
    for cut in cuts:
        trail = replace(cut.trail, y0=cut.trail.y0 - first_row, y1=cut.trail.y1 - first_row)
        data[under_trail(data.shape, trail, cut.reach_px, beyond_px=cut.beyond_px)] = np.nan


def moving_trails(aligned: Sequence[Aligned]) -> dict[str, tuple[Trail, ...]]:
    """Return the trails of each exposure, by its path, but for lines that stay where they are on the sky.

    Parameters
    ----------
    aligned : sequence of Aligned
        With the trails that were found in each, and its way onto the reference.
    """
    lines = []
    for one in aligned:
        for trail in one.scored.trails:
            x, y = one.transform(np.array([trail.x0, trail.x1]), np.array([trail.y0, trail.y1]))
            lines.append((one.scored.facts.path, trail, np.column_stack([x, y])))
    most = max(1.0, _STAYING * (len(aligned) - 1))
    moving: dict[str, list[Trail]] = {}
    for path, trail, ends in lines:
        others = {other for other, second, line in lines if other != path and _one_line(ends, line, trail, second)}
        if len(others) < most:
            moving.setdefault(path, []).append(trail)
    return {path: tuple(found) for path, found in moving.items()}


def _one_line(first: np.ndarray, second: np.ndarray, one: Trail, other: Trail) -> bool:
    """Whether two pieces of lines, each given by its ends (2, 2), lie on each other."""
    if np.hypot(*(first[1] - first[0])) < np.hypot(*(second[1] - second[0])):
        first, second = second, first
    way = (first[1] - first[0]) / max(float(np.hypot(*(first[1] - first[0]))), 1e-9)
    along, across = (second - first[0]) @ way, (second - first[0]) @ np.array([-way[1], way[0]])
    length = float(np.hypot(*(second[1] - second[0])))
    angle = math.degrees(math.atan2(abs(across[1] - across[0]), abs(along[1] - along[0])))
    reach = max(_SAME_PX, one.width_px, other.width_px)
    shared = min(along.max(), float(np.hypot(*(first[1] - first[0])))) - max(along.min(), 0.0)
    return angle <= _SAME_DEG and bool(np.abs(across).mean() <= reach) and shared >= _SAME_SHARE * length
