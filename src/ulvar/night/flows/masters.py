"""Building every master that the frames allow."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ulvar.calibration import Candidate, build_master, match_flat, read_master, write_master
from ulvar.combine import Rejection
from ulvar.engine import Failed, Finding, JobContext, OutputExists, Severity, sort_findings
from ulvar.frames import ExposureFacts, FrameError, Group, Role, Tolerances, group_exposures
from ulvar.night.flows.common import Outcome, done_before, fingerprint, identity

KINDS = (Role.BIAS, Role.DARK, Role.DARK_FLAT, Role.FLAT)


@dataclass(frozen=True)
class MasterTask:
    """One master to build."""

    group: Group
    output: str
    rejection: Rejection
    subtract: str | None
    subtract_note: str
    budget_bytes: int
    replace: bool

    @property
    def print(self) -> str:
        """Fingerprint of inputs and settings."""
        return fingerprint(
            "master", self.group.role.value, [identity(m) for m in self.group.members],
            [self.rejection.method.value, self.rejection.low, self.rejection.high], self.subtract_note,
        )  # fmt: skip


def master_item(task: MasterTask) -> Outcome:
    """Build and write one master (runs in a worker)."""
    group = task.group
    path = Path(task.output)
    values: dict[str, Any] = {
        "kind": group.role.value, "filter": group.filter, "exposure_s": group.exposure_s, "gain": group.gain,
        "offset": group.offset, "temperature_c": group.temperature_c, "binning": group.binning,
        "width": group.width, "height": group.height,
    }  # fmt: skip
    stop = done_before(path, task.print, task.replace)
    if stop is not None:
        if stop.ok:
            from ulvar.frames import header_of

            header = header_of(task.output)
            values["count"] = int(header.get("NCOMBINE", 0))
            values["rejected_fraction"] = float(header.get("MREJECT", 0.0))
            values["noise_adu"] = header.get("MNOISE")
        return Outcome(task.output, stop.ok, stop.reason, task.output if stop.ok else "", stop.skipped, values)
    try:
        subtract = read_master(task.subtract).data if task.subtract else None
        master = build_master(
            group.role,
            group.members,
            rejection=task.rejection,
            subtract=subtract,
            budget_bytes=task.budget_bytes,
        )
        if isinstance(master, Failed):
            return Outcome(task.output, False, master.reason, "", False, values)
        write_master(path, master, fingerprint=task.print, replace_existing=task.replace)
    except (FrameError, OutputExists, OSError) as error:
        return Outcome(task.output, False, str(error), "", False, values)
    values.update(
        count=master.count, rejected_fraction=master.rejected_fraction,
        noise_adu=None if master.noise_adu != master.noise_adu else master.noise_adu, level_adu=master.level_adu,
        left_out=[[f.file, f.reason] for f in master.left_out],
    )  # fmt: skip
    return Outcome(task.output, True, "", task.output, False, values)


def master_name(group: Group) -> str:
    """Return the file name of a group's master."""
    return "master-" + group.key.replace(" ", "_").replace("/", "_") + ".fits"


def _names(groups: Sequence[Group]) -> dict[int, str]:
    """Return distinct names: groups that differ only in size or camera get a number."""
    used: dict[str, int] = {}
    names = {}
    for group in groups:
        name = master_name(group)
        used[name] = used.get(name, 0) + 1
        names[id(group)] = name if used[name] == 1 else name.replace(".fits", f"-{used[name]}.fits")
    return names


def make_masters(
    exposures: Sequence[ExposureFacts],
    out: Path,
    context: JobContext,
    *,
    tolerances: Tolerances | None = None,
    rejection: Rejection | None = None,
    replace: bool = False,
) -> tuple[list[Outcome], list[Finding]]:
    """Build the masters of all calibration groups into a folder; flats come after what they need."""
    limits = tolerances or Tolerances()
    method = rejection or Rejection()
    groups = [g for g in group_exposures(exposures, limits) if g.role in KINDS and not g.is_master]
    names = _names(groups)
    first = [g for g in groups if g.role is not Role.FLAT]
    flats = [g for g in groups if g.role is Role.FLAT]
    budget = max(64 * 1024**2, context.budget_bytes // max(1, 2 * context.workers))
    outcomes: list[Outcome] = []
    findings: list[Finding] = []

    def task(group: Group, subtract: str | None = None, note: str = "") -> MasterTask:
        return MasterTask(group, str(out / names[id(group)]), method, subtract, note, budget, replace)

    built: list[tuple[Candidate, str]] = []
    for job, outcome in context.each(master_item, [task(g) for g in first], "Making masters"):
        outcomes.append(outcome)
        if outcome.ok:
            group = job.group
            built.append((Candidate(group.role, group.typical, outcome.values["count"], group.key), outcome.output))
    # Results come in any order; choices must not depend on it.
    built.sort(key=lambda entry: entry[1])
    jobs = []
    for group in flats:
        choice = match_flat(group.typical, [candidate for candidate, _ in built], limits)
        if choice.candidate is None:
            findings.append(
                Finding(
                    Severity.CHECK,
                    "flat_not_subtracted",
                    f"Flats {group.filter}: nothing to subtract",
                    f"There is no dark flat or bias for {group.count} flats of {group.exposure_s or 0:g} s"
                    f" ({choice.reason}); no master flat is made of them.",
                    group.files,
                    station="masters",
                )  # fmt: skip
            )
            outcomes.append(
                Outcome(
                    str(out / names[id(group)]),
                    False,
                    f"no dark flat or bias to subtract: {choice.reason}",
                    "",
                    False,
                    {"kind": "flat", "filter": group.filter, "exposure_s": group.exposure_s},
                )  # fmt: skip
            )
            continue
        path = next(p for candidate, p in built if candidate is choice.candidate)
        jobs.append(task(group, path, f"{choice.candidate.key} {fingerprint(Path(path).stat().st_size)}"))
    for _, outcome in context.each(master_item, jobs, "Making flats"):
        outcomes.append(outcome)
    for outcome in outcomes:
        for file, reason in outcome.values.get("left_out", []):
            findings.append(
                Finding(
                    Severity.CHECK,
                    "frame_left_out",
                    f"{Path(file).name} left out of a master",
                    f"{reason}.",
                    (file,),
                    station="masters",
                )  # fmt: skip
            )
    outcomes.sort(key=lambda o: o.file)
    return outcomes, sort_findings(findings)
