"""Calibrating lights with masters that fit them."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

from ulvar.calibration import (
    CalibrateOptions,
    Calibrator,
    Candidate,
    Match,
    MatchOptions,
    dark_current,
    make_calibrator,
    master_numbers,
    match_lights,
    read_master,
)
from ulvar.calibration.prepare import Preparation
from ulvar.engine import F32Array, Failed, JobContext, check_disk, files_in, place_words
from ulvar.flows.common import NO_MATCH, Outcome, done_before
from ulvar.flows.library import Library
from ulvar.frames import (
    ExposureFacts,
    FrameError,
    Group,
    Role,
    Tolerances,
    carried_cards,
    difference_noise,
    distinct_stems,
    fingerprint,
    group_exposures,
    header_of,
    identity,
    median,
    read_frame,
    scan_file,
    write_fits,
)
from ulvar.inspection import Finding, match_findings, sort_findings

SUFFIX = "-cal.fits"
# A worker holds two masters and the defects between frames, and of each frame the raw pixels, the result, a mask, and a
# plane or two in passing [bytes a pixel].
_CALIBRATING_BYTES_PX = 27
# Cards that are true of the raw pixels only.
OF_THE_RAW_FRAME = (
    "SATURATE", "SATLEVEL", "SATURAT", "MAXLIN", "LINLIMIT", "NONLIN", "BIASSEC", "TRIMSEC", "DATASEC",
)  # fmt: skip


@dataclass(frozen=True)
class CalibrateTask:
    """One light to calibrate; without an `output` it is calibrated on the way to something else."""

    facts: ExposureFacts
    dark: str
    bias: str
    flat: str
    scale: float
    options: CalibrateOptions
    defect_list: str
    dark_current_adu: float
    print: str
    output: str = ""
    again: bool = False


@lru_cache(maxsize=3)
def _calibrator(
    dark: str, bias: str, flat: str, scale: float, options: CalibrateOptions, listed: str, size: tuple, print_: str
) -> Calibrator:
    # Kept between the items of one worker; the fingerprint changes when a master does.
    width, height, camera, binning, mosaic = size
    known = None
    if listed:
        facts = ExposureFacts("", camera=camera, binning=binning, width=width, height=height)
        known = Library(Path(listed)).defects(facts)
    return make_calibrator(
        dark=read_master(dark) if dark else None,
        bias=read_master(bias) if bias else None,
        flat=read_master(flat) if flat else None,
        options=options,
        scale=scale,
        known_defects=known,
        mosaic=mosaic,
    )


def _values_of(task: CalibrateTask) -> dict[str, object]:
    return {"bias": task.bias, "dark": task.dark, "flat": task.flat, "scale": task.scale}


def _lost(task: CalibrateTask, reason: str) -> Outcome:
    return Outcome(task.facts.path, False, reason, values=_values_of(task))


def calibrate_item(task: CalibrateTask) -> Outcome:
    """Calibrate and write one light (runs in a worker)."""
    values = _values_of(task)
    path = Path(task.output)
    done = done_before(path, task.print, task.again)
    if done is not None:
        if done.ok:
            values |= _numbers(header_of(task.output))
        return replace(done, file=task.facts.path, output=task.output if done.ok else "", values=values)
    try:
        frame = read_frame(task.facts)
        calibrate = calibrator_for(task)
        noise_before = pixel_noise(frame.data)
        if not math.isfinite(noise_before):
            raise FrameError(task.facts.path, "none of its pixels has a value")
        after = calibrate(frame)
        noise, level = pixel_noise(after.data), _level(after.data)
        expected = expected_noise(frame.facts, calibrate, level, task.dark_current_adu)
        cards = [
            ("RECIPEID", task.print, "fingerprint of inputs and settings"),
            ("EGAIN", task.facts.gain_e_per_adu, "[e-/adu]"),
            ("RDNOISE", task.facts.read_noise_e, "[e-]"),
            ("BUNIT", "adu", ""),
            ("PEDESTAL", after.facts.pedestal_adu or None, "[adu] constant added"),
            ("FLATNOIS", after.facts.flat_noise, "noise of a pixel of the flat, relative"),
            ("NOISERAW", round(noise_before, 4), "[adu] noise of a pixel before"),
            ("NOISECAL", round(noise, 4), "[adu] noise of a pixel after"),
            ("NOISEEXP", None if expected is None else round(expected, 4), "[adu] photons, dark and read noise"),
            ("SKYLEVEL", round(level, 3), "[adu] median"),
        ]
        history = [f"calibrated: {step}" for step in after.steps]
        history += [f"{kind} {Path(str(name)).name}" for kind, name in values.items() if name and kind != "scale"]
        like, carried = carried_cards(task.facts, (name for name, _, _ in cards))
        write_fits(
            path, after.data, like=like, cards=[*carried, *cards], history=history,
            mask=after.mask, drop=OF_THE_RAW_FRAME, replace=task.again,
        )  # fmt: skip
        values |= {
            "noise_before": noise_before, "noise_after": noise, "noise_expected": expected, "sky_adu": level,
            "pedestal_adu": after.facts.pedestal_adu, "flat_noise": after.facts.flat_noise,
            "width": after.data.shape[1], "height": after.data.shape[0],
            "steps": list(after.steps),
        }  # fmt: skip
    except FrameError as error:
        # A master that cannot be read is named; the exposure itself stands beside the reason.
        reason = error.reason if error.path == task.facts.path else str(error)
        return Outcome(task.facts.path, False, reason, values=values)
    except (OSError, ValueError) as error:
        return Outcome(task.facts.path, False, place_words(error), values=values)
    return Outcome(task.facts.path, True, "", task.output, values=values)


def calibrator_for(task: CalibrateTask) -> Calibrator:
    """Return the calibrator of a task, kept for the next light of its group."""
    masters = fingerprint(*[Path(p).stat().st_mtime_ns if p else 0 for p in (task.dark, task.bias, task.flat)])
    facts = task.facts
    width, height = task.options.preparation.shape(facts.width, facts.height)
    size = (width, height, facts.camera, facts.binning, bool(facts.cfa))
    return _calibrator(
        task.dark, task.bias, task.flat, task.scale, task.options, task.defect_list, size, masters
    )  # fmt: skip


def _numbers(header: Mapping[str, Any]) -> dict[str, object]:
    names = {
        "noise_before": "NOISERAW", "noise_after": "NOISECAL", "noise_expected": "NOISEEXP", "sky_adu": "SKYLEVEL",
        "pedestal_adu": "PEDESTAL", "flat_noise": "FLATNOIS", "width": "NAXIS1", "height": "NAXIS2",
    }  # fmt: skip
    return {name: header.get(key) for name, key in names.items()}


def _sample(data: F32Array) -> F32Array:
    height, width = data.shape
    return data[
        height // 4 : max(height // 4 + 1, 3 * height // 4) : 3, width // 4 : max(width // 4 + 1, 3 * width // 4)
    ]


def pixel_noise(data: F32Array) -> float:
    """Return the noise of a pixel in the middle of a frame [ADU] (see `difference_noise`)."""
    return difference_noise(_sample(data))


def _level(data: F32Array) -> float:
    return median(_sample(data))


def expected_noise(
    facts: ExposureFacts, calibrator: Calibrator, level_adu: float, dark_current_adu: float
) -> float | None:
    """Return the noise that photons, dark current, reading and the masters make in a calibrated pixel [ADU].

    Parameters
    ----------
    facts : ExposureFacts
        With gain and read noise; None comes back when one is unknown.
    calibrator : Calibrator
        Its zero master's own noise adds to that of the light.
    level_adu : float
        Calibrated sky [ADU].
    dark_current_adu : float
        Level of the dark over that of the bias [ADU].
    """
    gain, read = facts.gain_e_per_adu, facts.read_noise_e
    if not gain or read is None:
        return None
    # Where the flat is above 1 more light was gathered, and noise shrinks with the division.
    response = 1.0
    if calibrator.inverse_flat is not None:
        response = 1.0 / max(1e-3, _level(calibrator.inverse_flat))
    variance = (max(level_adu, 0.0) * response + max(dark_current_adu, 0.0)) / gain + (read / gain) ** 2 + 1 / 12
    if calibrator.zero is not None and math.isfinite(calibrator.zero.noise_adu):
        variance += calibrator.zero.noise_adu**2
    variance /= response**2
    if calibrator.flat is not None and math.isfinite(calibrator.flat.noise_adu):
        variance += (level_adu * calibrator.flat.noise_adu) ** 2
    return math.sqrt(variance)


def load_masters(folder: Path) -> tuple[list[tuple[Candidate, str]], list[Failed]]:
    """Return (master, path) for the masters in a folder, and the files that cannot be used as one, with the reason."""
    found, other = [], []
    for path in files_in(folder, "*.fit*"):
        try:
            facts = scan_file(str(path))
            if facts.role in (Role.LIGHT, Role.UNKNOWN):
                raise FrameError(str(path), "it does not say which kind of master it is")
            level = master_numbers(str(path)).get("MLEVEL")
        except FrameError as error:
            other.append(Failed(error.reason, str(path)))
            continue
        found.append((Candidate(facts.role, facts, facts.count, path.name, level), str(path)))
    return found, other


def match_groups(
    lights: Sequence[ExposureFacts],
    masters: Sequence[tuple[Candidate, str]],
    limits: Tolerances | None = None,
    *,
    options: MatchOptions | None = None,
    preparation: Preparation | None = None,
) -> list[tuple[Group, Match]]:
    """Match every group of lights with the masters; a light has the size that its preparation leaves."""
    rules = options or MatchOptions(limits or Tolerances())
    candidates = [candidate for candidate, _ in masters]
    grouped = group_exposures(lights, rules.tolerances, name_sessions=rules.name_sessions)
    groups = [g for g in grouped if g.role is Role.LIGHT]
    matched = []
    for group in groups:
        typical = prepared(group.typical, preparation) if preparation else group.typical
        matched.append((group, match_lights(typical, candidates, options=rules, key=group.key)))
    return matched


def prepared(facts: ExposureFacts, preparation: Preparation) -> ExposureFacts:
    """Return facts with the size that trimming leaves."""
    width, height = preparation.shape(facts.width, facts.height)
    return replace(facts, width=width, height=height)


def calibrate_lights(
    lights: Sequence[ExposureFacts],
    masters: Sequence[tuple[Candidate, str]],
    out: Path,
    context: JobContext,
    *,
    tolerances: Tolerances | None = None,
    matching: MatchOptions | None = None,
    options: CalibrateOptions | None = None,
    defect_library: str = "",
    suffix: str = SUFFIX,
    partial: bool = False,
    replace_existing: bool = False,
) -> tuple[list[Outcome], list[Finding]]:
    """Calibrate lights; those without a safe match are reported, not calibrated.

    Parameters
    ----------
    lights : sequence of ExposureFacts
    masters : sequence of (Candidate, path)
    out : Path
    context : JobContext
    tolerances : Tolerances, optional
        Short for matching options with these tolerances only.
    matching : MatchOptions, optional
    options : CalibrateOptions, optional
        The steps.
    defect_library : str
        Folder of the library whose defect lists are used; empty for none.
    suffix : str
        Put behind the light's own name, ``.fits`` included.
    partial : bool
        Calibrate with what fits even where a kind has nothing safe (asked for by the user).
    replace_existing : bool

    Raises
    ------
    DiskFull
        If the outputs would not fit.
    """
    plan = plan_calibration(
        lights, masters, matching=matching or MatchOptions(tolerances or Tolerances()), options=options,
        defect_library=defect_library, partial=partial,
    )  # fmt: skip
    stems = distinct_stems(facts.path for facts in lights)
    tasks = [replace(t, output=str(out / (stems[t.facts.path] + suffix)), again=replace_existing) for t in plan.tasks]
    outcomes = list(plan.refused)
    if tasks:
        check_disk(out, sum(4 * t.facts.width * t.facts.height for t in tasks if not Path(t.output).exists()))
    held = max((_CALIBRATING_BYTES_PX * t.facts.width * t.facts.height for t in tasks), default=0)
    for _, outcome in context.each(calibrate_item, tasks, "Calibrating", item_bytes=held, lost=_lost):
        outcomes.append(outcome)
    order = {facts.path: i for i, facts in enumerate(lights)}
    outcomes.sort(key=lambda o: order[o.file])
    return outcomes, plan.findings


@dataclass(frozen=True)
class CalibrationPlan:
    """Which masters each light is calibrated with, the lights that have none, and what is to be said of it."""

    tasks: tuple[CalibrateTask, ...]
    refused: tuple[Outcome, ...]
    findings: list[Finding]


def plan_calibration(
    lights: Sequence[ExposureFacts],
    masters: Sequence[tuple[Candidate, str]],
    *,
    matching: MatchOptions | None = None,
    options: CalibrateOptions | None = None,
    defect_library: str = "",
    partial: bool = False,
) -> CalibrationPlan:
    """Match lights with masters, wherever they will be written, if at all; parameters as of `calibrate_lights`."""
    steps = options or CalibrateOptions()
    paths = {id(candidate): path for candidate, path in masters}
    candidates = [candidate for candidate, _ in masters]
    matches = match_groups(lights, masters, options=matching, preparation=steps.preparation)
    refused: list[Outcome] = []
    tasks: list[CalibrateTask] = []
    for group, match in matches:
        usable = any(c.usable for c in (match.bias, match.dark, match.flat))
        for facts in group.members:
            if not (match.safe or (partial and usable)):
                reason = "; ".join(match.blockers) or "there is no master for it"
                none = {"bias": "", "dark": "", "flat": ""}
                refused.append(Outcome(facts.path, False, reason, code=NO_MATCH, values=none))
                continue
            current = match.dark.scale * dark_current(match.dark.candidate, candidates)
            tasks.append(_task(facts, match, paths, steps, defect_library, current))
    return CalibrationPlan(tuple(tasks), tuple(refused), sort_findings(match_findings(matches)))


def _task(
    facts: ExposureFacts, match: Match, paths: dict[int, str], options: CalibrateOptions, defect_library: str,
    dark_current_adu: float,
) -> CalibrateTask:  # fmt: skip
    chosen = {
        choice.kind: paths[id(choice.candidate)]
        for choice in (match.bias, match.dark, match.flat)
        if choice.candidate is not None
    }
    stamp: list[object] = [[p, Path(p).stat().st_size, Path(p).stat().st_mtime_ns] for p in chosen.values()]
    if defect_library:
        listed = Library(Path(defect_library)).defect_file(facts)
        stamp.append(listed.stat().st_mtime_ns if listed.exists() else 0)
    return CalibrateTask(
        facts=facts, dark=chosen.get(Role.DARK, ""), bias=chosen.get(Role.BIAS, ""),
        flat=chosen.get(Role.FLAT, ""), scale=match.dark.scale, options=options, defect_list=defect_library,
        dark_current_adu=dark_current_adu,
        print=fingerprint("calibrate", identity(facts), stamp, options.key(), match.dark.scale),
    )  # fmt: skip
