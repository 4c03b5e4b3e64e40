"""Calibrating lights with masters that fit them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path

from ulvar.calibration import Calibrator, Candidate, Match, make_calibrator, match_lights, read_master
from ulvar.engine import Finding, JobContext, OutputExists, check_disk, sort_findings
from ulvar.frames import (
    ExposureFacts,
    FrameError,
    Group,
    Role,
    Tolerances,
    group_exposures,
    read_frame,
    scan_file,
    write_fits,
)
from ulvar.inspection import match_findings
from ulvar.night.flows.common import Outcome, done_before, fingerprint, identity

SUFFIX = "-cal.fits"


@dataclass(frozen=True)
class CalibrateTask:
    """One light to calibrate."""

    facts: ExposureFacts
    output: str
    dark: str
    bias: str
    flat: str
    print: str
    replace: bool


@lru_cache(maxsize=3)
def _calibrator(dark: str, bias: str, flat: str, print_: str) -> Calibrator:
    # Kept between the items of one worker; the fingerprint changes when a master does.
    return make_calibrator(
        dark=read_master(dark) if dark else None,
        bias=read_master(bias) if bias else None,
        flat=read_master(flat) if flat else None,
    )


def calibrate_item(task: CalibrateTask) -> Outcome:
    """Calibrate and write one light (runs in a worker)."""
    values = {"bias": task.bias, "dark": task.dark, "flat": task.flat}
    path = Path(task.output)
    done = done_before(path, task.print, task.replace)
    if done is not None:
        return Outcome(task.facts.path, done.ok, done.reason, task.output if done.ok else "", done.skipped, values)
    try:
        masters = fingerprint(*[Path(p).stat().st_mtime_ns if p else 0 for p in (task.dark, task.bias, task.flat)])
        calibrate = _calibrator(task.dark, task.bias, task.flat, masters)
        frame = calibrate(read_frame(task.facts))
        history = [f"calibrated: {step}" for step in calibrate.steps]
        history += [f"{kind} {Path(name).name}" for kind, name in values.items() if name]
        cards = [
            ("RECIPEID", task.print, "fingerprint of inputs and settings"),
            ("EGAIN", task.facts.gain_e_per_adu, "[e-/adu]"),
            ("RDNOISE", task.facts.read_noise_e, "[e-]"),
            ("BUNIT", "adu", ""),
        ]
        write_fits(
            path, frame.data, like=task.facts.path, cards=cards, history=history, mask=frame.mask,
            drop=("SATURATE",), replace=task.replace,
        )  # fmt: skip
    except FrameError as error:
        return Outcome(task.facts.path, False, error.reason, "", False, values)
    except (OutputExists, OSError, ValueError) as error:
        return Outcome(task.facts.path, False, str(error), "", False, values)
    return Outcome(task.facts.path, True, "", task.output, False, values)


def load_masters(folder: Path) -> tuple[list[tuple[Candidate, str]], list[str]]:
    """Return (master, path) for the masters in a folder, and the names of files that are none."""
    found, other = [], []
    for path in sorted(folder.glob("*.fit*")):
        try:
            facts = scan_file(str(path))
        except FrameError:
            other.append(path.name)
            continue
        if facts.role in (Role.LIGHT, Role.UNKNOWN):
            other.append(path.name)
            continue
        found.append((Candidate(facts.role, facts, facts.count, path.name), str(path)))
    return found, other


def match_groups(
    lights: Sequence[ExposureFacts], masters: Sequence[tuple[Candidate, str]], limits: Tolerances
) -> list[tuple[Group, Match]]:
    """Match every group of lights with the masters."""
    candidates = [candidate for candidate, _ in masters]
    groups = [g for g in group_exposures(lights, limits) if g.role is Role.LIGHT]
    return [(group, match_lights(group.typical, candidates, limits)) for group in groups]


def calibrate_lights(
    lights: Sequence[ExposureFacts],
    masters: Sequence[tuple[Candidate, str]],
    out: Path,
    context: JobContext,
    *,
    tolerances: Tolerances | None = None,
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
    partial : bool
        Calibrate with what fits even where a kind has nothing safe (asked for by the user).
    replace_existing : bool

    Raises
    ------
    DiskFull
        If the outputs would not fit.
    """
    limits = tolerances or Tolerances()
    paths = {id(candidate): path for candidate, path in masters}
    matches = match_groups(lights, masters, limits)
    outcomes: list[Outcome] = []
    tasks: list[CalibrateTask] = []
    seen: dict[str, str] = {}
    for group, match in matches:
        for facts in group.members:
            if not (match.safe or (partial and any(c.usable for c in (match.bias, match.dark, match.flat)))):
                reason = "; ".join(match.blockers) or "there is no master for it"
                outcomes.append(Outcome(facts.path, False, reason, "", False, {"bias": "", "dark": "", "flat": ""}))
                continue
            tasks.append(_task(facts, match, paths, out, seen, replace_existing))
    if tasks:
        check_disk(out, sum(4 * t.facts.width * t.facts.height for t in tasks if not Path(t.output).exists()))
    for _, outcome in context.each(calibrate_item, tasks, "Calibrating"):
        outcomes.append(outcome)
    order = {facts.path: i for i, facts in enumerate(lights)}
    outcomes.sort(key=lambda o: order[o.file])
    return outcomes, sort_findings(match_findings(matches))


def _task(
    facts: ExposureFacts, match: Match, paths: dict[int, str], out: Path, seen: dict[str, str], again: bool
) -> CalibrateTask:
    chosen = {
        choice.kind: paths[id(choice.candidate)]
        for choice in (match.bias, match.dark, match.flat)
        if choice.candidate is not None
    }
    name = facts.stem + SUFFIX
    # Two lights of one name from two folders must not share a product.
    number = 2
    while name in seen and seen[name] != facts.path:
        name = f"{facts.stem}-{number}{SUFFIX}"
        number += 1
    seen[name] = facts.path
    stamp = [[p, Path(p).stat().st_size, Path(p).stat().st_mtime_ns] for p in chosen.values()]
    return CalibrateTask(
        facts=facts, output=str(out / name), dark=chosen.get(Role.DARK, ""), bias=chosen.get(Role.BIAS, ""),
        flat=chosen.get(Role.FLAT, ""), print=fingerprint("calibrate", identity(facts), stamp), replace=again,
    )  # fmt: skip


def calibrated_facts(raw: ExposureFacts, output: str) -> ExposureFacts:
    """Return the raw exposure's facts for its calibrated copy, the user's corrections included."""
    status = Path(output).stat()
    return replace(
        raw,
        path=output,
        saturation_adu=None,
        bitpix=-32,
        hdu=0,
        size_bytes=status.st_size,
        mtime_ns=status.st_mtime_ns,
    )
