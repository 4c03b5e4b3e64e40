"""Exposures of a colour sensor, one colour at a time: stacks on one grid, and planes as exposures of their own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from ulvar.astrometry import Wcs
from ulvar.engine import JobContext, check_disk, place_words
from ulvar.flows.common import KEPT, Outcome, done_before
from ulvar.flows.gridding import pixel_cards
from ulvar.flows.stack import StackOptions, StackResult, stack_exposures
from ulvar.flows.stackfile import COLOUR_CARDS, PLACES
from ulvar.flows.warping import laid_open
from ulvar.flows.wcsfile import WCS_KEYS, wcs_of
from ulvar.frames import (
    Demosaic,
    ExposureFacts,
    FrameError,
    Plane,
    carried_cards,
    colour_plane,
    distinct_stems,
    fingerprint,
    identity,
    is_mosaic,
    plane_mask,
    plane_origin,
    read_frame,
    write_fits,
)
from ulvar.stacking import Colours

PLANES = ("R", "G", "B")


def plane_file(output: Path, colour: str) -> Path:
    """Return the file of one colour's stack, beside the grey one."""
    return output.with_name(f"{output.stem}-{colour}{output.suffix}")


def stack_planes(
    grey: StackResult,
    context: JobContext,
    *,
    options: StackOptions,
    replace_existing: bool = False,
    solution: Wcs | None = None,
    name: str = "",
) -> dict[str, StackResult]:
    """Stack each colour of a colour sensor by itself, on the grid of the grey stack.

    Parameters
    ----------
    grey : StackResult
        With its exposures' ways onto the reference.
    context : JobContext
    options : StackOptions
        Of the grey stack; `StackOptions.colours` says how planes are made.
    replace_existing : bool
    solution : Wcs, optional
        Of the reference.
    name : str
        Of the series.

    Returns
    -------
    dict of str to StackResult
        By ``R``, ``G`` and ``B``; empty where the exposures are grey, or no colours are asked for.
    """
    kept = list(grey.aligned)
    if (
        options.colours is Colours.MIXED
        or options.align == "none"
        or not kept
        or not is_mosaic(kept[0].scored.facts.cfa)
    ):
        return {}
    method = Demosaic(options.colours.value)
    calibrations = {a.scored.facts.path: a.scored.calibration for a in kept if a.scored.calibration is not None}
    made = {}
    for colour in PLANES:
        own = replace(options, plane=Plane(colour, method), proper=False, body=None, reference=grey.reference)
        made[colour] = stack_exposures(
            [a.scored.facts for a in kept], plane_file(Path(grey.output), colour), context, options=own,
            replace=replace_existing, scored=[a.scored for a in kept], aligned=kept, solution=solution, name=name,
            calibrations=calibrations,
        )  # fmt: skip
    return made


@dataclass(frozen=True)
class _Task:
    facts: ExposureFacts
    outputs: tuple[str, ...]
    method: Demosaic
    print: str
    again: bool


def write_planes(
    exposures: Sequence[ExposureFacts], out: Path, context: JobContext, *, method: Demosaic = Demosaic.HALF,
    replace_existing: bool = False,
) -> list[Outcome]:  # fmt: skip
    """Write the colours of a colour sensor's exposures as exposures of filters R, G and B.

    Parameters
    ----------
    exposures : sequence of ExposureFacts
        Calibrated, as a rule: flats are divided colour by colour.
    out : Path
        Folder of ``<name>-R.fits``, ``<name>-G.fits``, ``<name>-B.fits``.
    context : JobContext
    method : Demosaic
        `Demosaic.HALF` holds nothing but what was measured: the choice for photometry.
    replace_existing : bool

    Raises
    ------
    DiskFull
        If the outputs would not fit.
    """
    stems = distinct_stems(f.path for f in exposures)
    tasks, refused = [], {}
    for facts in exposures:
        if not is_mosaic(facts.cfa):
            refused[facts.path] = Outcome(facts.path, False, "it is no exposure of a colour sensor, or does not say so")
            continue
        outputs = tuple(str(out / f"{stems[facts.path]}-{colour}.fits") for colour in PLANES)
        stamp = fingerprint("planes", identity(facts), method.value)
        tasks.append(_Task(facts, outputs, method, stamp, replace_existing))
    share = 0.75 if method is Demosaic.HALF else 3.0
    missing = [t for t in tasks if not all(Path(p).exists() for p in t.outputs)]
    check_disk(out, int(sum(4 * share * t.facts.width * t.facts.height for t in missing)))
    held = max((40 * t.facts.width * t.facts.height for t in tasks), default=0)
    done = {
        task.facts.path: outcome
        for task, outcome in context.each(_planes_item, tasks, "Taking colours apart", item_bytes=held, lost=_lost)
    }
    return [refused.get(f.path) or done[f.path] for f in exposures if f.path in refused or f.path in done]


def _lost(task: _Task, reason: str) -> Outcome:
    return Outcome(task.facts.path, False, reason)


def _planes_item(task: _Task) -> Outcome:
    """Write the colours of one exposure (runs in a worker)."""
    facts = task.facts
    there = [done_before(Path(path), task.print, task.again) for path in task.outputs]
    kept = next((one for one in there if one is not None and not one.ok), None)
    if kept is not None:
        return Outcome(facts.path, False, kept.reason, code=KEPT)
    if all(one is not None for one in there):
        return Outcome(facts.path, True, "", str(Path(task.outputs[0]).parent), skipped=True, values=_told(task))
    try:
        frame = read_frame(facts)
        if min(frame.data.shape) < 2:
            raise FrameError(facts.path, "it is too small to hold a cell of four pixels")
        frame = laid_open(frame, mix=False)
        if not np.isfinite(frame.data).any():
            raise FrameError(facts.path, "none of its pixels has a value")
        for path, colour in zip(task.outputs, PLANES):
            plane = Plane(colour, task.method)
            data = colour_plane(frame.data, facts.cfa, plane)
            cards = [*_cards(facts, plane), ("RECIPEID", task.print, "fingerprint of inputs and settings")]
            like, carried = carried_cards(facts, (name for name, _, _ in cards))
            write_fits(
                Path(path), data, like=like, cards=[*carried, *cards], drop=COLOUR_CARDS, replace=True,
                mask=None if frame.mask is None else plane_mask(frame.mask, facts.cfa, plane),
                history=[f"colour {colour} of {Path(facts.path).name}, {task.method.value}"],
            )  # fmt: skip
    except FrameError as error:
        return Outcome(facts.path, False, error.reason)
    except (OSError, ValueError) as error:
        return Outcome(facts.path, False, place_words(error))
    return Outcome(facts.path, True, "", str(Path(task.outputs[0]).parent), values=_told(task))


def _told(task: _Task) -> dict[str, object]:
    return {"planes": dict(zip(PLANES, task.outputs))}


def _cards(facts: ExposureFacts, plane: Plane) -> list[tuple[str, object, str]]:
    """Return what a plane's header says otherwise than its exposure's."""
    halved = plane.method is Demosaic.HALF
    gain, read = facts.gain_e_per_adu, facts.read_noise_e
    # Both greens are averaged: an ADU of the mean stands for twice the electrons. Interpolated pixels hold no more light
    # than those that were measured.
    greens = 2.0 if plane.colour == "G" else 1.0
    share = greens if halved else plane.share
    cards: list[tuple[str, object, str]] = [
        ("FILTER", plane.colour, "colour of the sensor"),
        ("EGAIN", None if gain is None else gain * share, "[e-/adu]"),
        ("RDNOISE", None if read is None else read * share**0.5, "[e-]"),
    ]
    if halved:
        x0, y0 = plane_origin(facts.cfa, plane)
        cards += pixel_cards(facts, 0.5)
        sky = wcs_of(facts.path)
        matrix = np.array([[0.5, 0.0, -x0 / 2], [0.0, 0.5, -y0 / 2]])
        cards += [(name, None, "") for name in WCS_KEYS]
        cards += [(name, None, "") for name in PLACES] if sky is None else sky.moved(matrix).cards()
    return cards
