"""A running stack: exposures are aligned and added one by one, and rejection catches up."""

from __future__ import annotations

import math
import shutil
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np

from ulvar.combine import Method, suited
from ulvar.combine.contrast import local_contrast
from ulvar.engine import F32Array, Failed, JobContext, temporary_name
from ulvar.flows.agreement import align_agreeing
from ulvar.flows.align import Aligned, align_item
from ulvar.flows.made import input_of
from ulvar.flows.stack import StackOptions
from ulvar.flows.stackfile import Told, sky_cards, write_stack
from ulvar.flows.starfind import Scored
from ulvar.flows.warping import ScratchRows, Warped, WarpTask, moving_trails, resampled_correlation, warp_item
from ulvar.frames import write_png
from ulvar.registration import Transform
from ulvar.stacking import (
    Frame2D,
    Stacked,
    StackInput,
    levels_for,
    normalisation,
    stack_warped,
    stack_weights,
    stretched_grey,
)
from ulvar.stars import estimate_background

# Rejection among the exposures themselves begins with so many, and is made anew whenever there are a third more.
_ENOUGH, _MORE = 5, 4 / 3
# Until then a value this many deviations off the stack so far does not count.
_FAR_SIGMA, _SLACK = 5.0, 0.5
# The picture for the eye is this wide at most [px].
_SHOWN_PX = 2000


@dataclass(frozen=True)
class Progressed:
    """How a running stack stands.

    Attributes
    ----------
    output : str
    exposures : int
        In the stack.
    exposure_s : float
        In all [s].
    noise_adu : float
        Of the sky, measured.
    fwhm_px : float
        Median of the exposures.
    rejecting : bool
        Whether all exposures were compared with each other at last.
    """

    output: str
    exposures: int
    exposure_s: float
    noise_adu: float
    fwhm_px: float
    rejecting: bool


@dataclass(frozen=True)
class _Member:
    aligned: Aligned
    task: WarpTask
    warped: Warped
    entry: StackInput


class RunningStack:
    """Exposures of one filter on the pixels of the first that others agree with.

    Parameters
    ----------
    output : Path
        The stack, ``.fits``; beside it ``.png`` is its picture. Both are replaced whenever an exposure is added.
    context : JobContext
    options : StackOptions, optional
        Alignment is by stars, framing that of the reference.
    name : str
        Told in the stack's history.
    """

    def __init__(
        self, output: Path, context: JobContext, *, options: StackOptions | None = None, name: str = ""
    ) -> None:
        self.output, self.context, self.name = output, context, name
        self.options = replace(options or StackOptions(), proper=False, drop=None)
        self.members: list[_Member] = []
        self.waiting: list[Scored] = []
        self.reference: Scored | None = None
        self.progressed: Progressed | None = None
        output.parent.mkdir(parents=True, exist_ok=True)
        self._scratch = output.parent / temporary_name(f"{output.stem} scratch")
        self._scratch.mkdir()
        self._next_full = _ENOUGH
        self._full = False
        self._made = 0
        self._light: F32Array | None = None
        self._weight: F32Array | None = None
        self._count: np.ndarray | None = None

    def close(self) -> None:
        """Take away what was kept on the way."""
        shutil.rmtree(self._scratch, ignore_errors=True)

    def __enter__(self) -> RunningStack:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    # ---- exposures

    def add(self, scored: Scored) -> list[Failed]:
        """Add an exposure; returns those that show other stars so far, with the reason.

        Where more of them agree among themselves than with the stack, the stack begins anew with those.

        Raises
        ------
        OSError
            If the place takes no output.
        """
        if self.reference is None:
            self._begin([Aligned(scored, Transform.identity(), 1.0)], scored)
            return []
        found = align_item((scored, self.reference.stars))
        if not isinstance(found, Failed):
            self._take(found)
            self._write()
            return []
        self.waiting.append(scored)
        if len(self.waiting) >= len(self.members):
            agreement = align_agreeing([*(m.aligned.scored for m in self.members), *self.waiting], self.context)
            if len(agreement.aligned) > len(self.members):
                failed = {f.file for f in agreement.failed}
                known = [*(m.aligned.scored for m in self.members), *self.waiting]
                self._begin(agreement.aligned, agreement.reference)
                self.waiting = [one for one in known if one.facts.path in failed]
                return agreement.failed
        return [Failed(found.reason, scored.facts.path)]

    def _begin(self, aligned: Sequence[Aligned], reference: Scored) -> None:
        for member in self.members:
            Path(member.task.scratch).unlink(missing_ok=True)
        self.members, self.waiting, self.reference = [], [], reference
        shape = reference.facts.height, reference.facts.width
        self._light, self._weight = np.zeros(shape, dtype=np.float32), np.zeros(shape, dtype=np.float32)
        self._count = np.zeros(shape, dtype=np.uint16)
        self._next_full, self._full = _ENOUGH, False
        for one in aligned:
            self._take(one)
        self._write()

    def _take(self, one: Aligned) -> None:
        assert self.reference is not None
        facts = one.scored.facts
        shape = self.reference.facts.height, self.reference.facts.width
        trails = moving_trails([*(m.aligned for m in self.members), one]) if self.options.trails else {}
        self._made += 1
        task = WarpTask.of(
            one.scored, one.transform, shape, f"{self._scratch}/{self._made}.f32", trails=trails.get(facts.path, ()),
            how=self.options.resampling,
        )  # fmt: skip
        warped = warp_item(task)
        if isinstance(warped, Failed):
            self.waiting.append(one.scored)
            return
        entry = input_of(one, task.transform, ScratchRows(task.scratch, shape), warped)
        self.members.append(_Member(one, task, warped, entry))
        if len(self.members) >= self._next_full:
            self._compare_all()
        else:
            self._add_last()

    # ---- pixels

    def _weights(self) -> np.ndarray:
        factors = [factor for factor, _ in self._scaling()]
        return stack_weights([m.entry for m in self.members], factors, self.options.weighting)

    def _scaling(self) -> list[tuple[float, float]]:
        return normalisation([m.entry for m in self.members], self._base, self.options.normalise)

    @property
    def _base(self) -> int:
        assert self.reference is not None
        path = self.reference.facts.path
        return next((i for i, m in enumerate(self.members) if m.aligned.scored.facts.path == path), 0)

    def _add_last(self) -> None:
        """Add the newest exposure to the mean; what stands far off the stack so far does not count."""
        assert self._light is not None and self._weight is not None and self._count is not None
        member, (factor, add) = self.members[-1], self._scaling()[-1]
        shares = self._weights()
        # The sum so far holds weights that summed to one before this exposure came.
        old = 1 - float(shares[-1])
        values = member.entry.source.rows(0, self._light.shape[0]) * np.float32(factor) + np.float32(add)
        good = np.isfinite(values)
        if len(self.members) > 2:
            so_far = self._picture()
            noise = member.entry.noise_adu * factor
            ys, xs = np.nonzero(good & (np.abs(values - so_far) > _FAR_SIGMA * noise))
            slack = _SLACK * local_contrast(so_far, np.full(len(ys), noise, np.float32), ys, xs)
            far = np.abs(values[ys, xs] - so_far[ys, xs]) > _FAR_SIGMA * noise + slack
            good[ys[far], xs[far]] = False
        self._light *= np.float32(old)
        self._weight *= np.float32(old)
        self._light += np.where(good, values, np.float32(0)) * np.float32(shares[-1])
        self._weight += good * np.float32(shares[-1])
        self._count += good
        self._full = False

    def _compare_all(self) -> Stacked:
        """Combine all exposures with rejection; sums go on from there."""
        options = self.options
        stacked = stack_warped(
            [m.entry for m in self.members], reference=self._base, rejection=options.rejection, normalise=options.normalise,
            weighting=options.weighting, maps=True, budget_bytes=self.context.budget_bytes, threads=self.context.workers,
            stop=self.context.stop,
        )  # fmt: skip
        assert stacked.maps is not None
        self._weight = np.nan_to_num(stacked.maps.weight).astype(np.float32)
        self._light = np.nan_to_num(stacked.data) * self._weight
        self._count = stacked.kept.astype(np.uint16)
        self._next_full = math.ceil(len(self.members) * _MORE)
        self._full = True
        return stacked

    def _picture(self) -> F32Array:
        assert self._light is not None and self._weight is not None
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(self._weight > 0, self._light / self._weight, np.float32(np.nan)).astype(np.float32)

    def finish(self) -> Progressed | None:
        """Compare all exposures once more and write the stack with its maps; None where there is no exposure."""
        if not self.members:
            return None
        self._write(self._compare_all() if len(self.members) > 1 else None)
        return self.progressed

    # ---- files

    def _write(self, stacked: Stacked | None = None) -> None:
        assert self.reference is not None and self._count is not None
        count = len(self.members)
        if not count:
            return
        weights, scaling = self._weights(), self._scaling()
        limits = suited(self.options.rejection, count)
        options = replace(self.options, maps=stacked is not None and self.options.maps)
        picture = self._picture() if stacked is None else stacked.data
        shown = stacked or Stacked(
            picture, picture, self._count, weights, np.zeros(count), limits if self._full else replace(limits, method=Method.MEAN),
            tuple(scaling),
        )  # fmt: skip
        height, width = picture.shape
        sky = estimate_background(picture)
        placed = sky_cards(self.reference, None, Frame2D(width, height, 0, 0))
        share = float(np.mean([m.warped.gain_share for m in self.members]))
        told = Told(self.reference, [m.aligned for m in self.members], weights, placed, options, "", share)
        correlation = resampled_correlation([m.task for m in self.members], weights)
        write_stack(
            self.output, shown, told, replace=True, name=self.name, noise_adu=float(sky.noise_adu), correlation=correlation
        )  # fmt: skip
        _write_picture(self.output.with_suffix(".png"), picture - np.float32(sky.sky_adu), float(sky.noise_adu))
        widths = [m.aligned.scored.quality.fwhm_px for m in self.members]
        known = [width for width in widths if math.isfinite(width)]
        self.progressed = Progressed(
            str(self.output), count, sum(m.aligned.scored.facts.exposure_s or 0.0 for m in self.members),
            float(sky.noise_adu), float(np.median(known)) if known else math.nan, self._full,
        )  # fmt: skip


def _write_picture(path: Path, over_sky: F32Array, noise_adu: float) -> None:
    """Write a picture for the eye, as wide as a screen at most."""
    height, width = over_sky.shape
    shrink = min(1.0, _SHOWN_PX / width)
    size = max(round(width * shrink), 1), max(round(height * shrink), 1)
    small = cv2.resize(np.nan_to_num(over_sky), size, interpolation=cv2.INTER_AREA)
    lifted = stretched_grey(small, levels_for(small, max(noise_adu, 1e-6)))
    write_png(path, np.rint(lifted * 255).astype(np.uint8))
