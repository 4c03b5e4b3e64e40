"""Building every master that the frames allow."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from ulvar.calibration import (
    Candidate,
    MatchOptions,
    bias_is_unsafe,
    build_master,
    match_flat,
    read_master,
    write_master,
)
from ulvar.calibration.prepare import Preparation
from ulvar.combine import Rejection
from ulvar.engine import Failed, JobContext, check_disk, counted, place_words, true_minus
from ulvar.flows.common import Outcome, done_before
from ulvar.frames import (
    GIVEN,
    ExposureFacts,
    FrameError,
    Group,
    Role,
    Tolerances,
    fingerprint,
    group_exposures,
    header_of,
    identity,
)
from ulvar.inspection import Finding, Mend, notice, sort_findings

KINDS = (Role.BIAS, Role.DARK, Role.DARK_FLAT, Role.FLAT)


@dataclass(frozen=True)
class MasterOptions:
    """How masters are made.

    Attributes
    ----------
    matching : MatchOptions
        Tolerances of grouping and of what is taken off flats.
    rejection : Rejection
    preparation : Preparation
    compare : bool
        Whether frames are compared before they are combined, and odd ones left out.
    excluded : mapping of str to str
        Path to reason, of frames whose pixels contradict their role.
    flat_pins : mapping of str to str
        Key of a group of flats to the key of what is taken off it, chosen by hand.
    """

    matching: MatchOptions = field(default_factory=MatchOptions)
    rejection: Rejection = field(default_factory=lambda: Rejection(few=True))
    preparation: Preparation = field(default_factory=Preparation)
    compare: bool = True
    excluded: Mapping[str, str] = field(default_factory=dict)
    flat_pins: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class MasterTask:
    """One master to build."""

    group: Group
    output: str
    options: MasterOptions
    subtract: str | None
    subtract_note: str
    budget_bytes: int
    again: bool

    @property
    def print(self) -> str:
        """Fingerprint of inputs and settings."""
        r = self.options.rejection
        return fingerprint(
            "master",
            self.group.role.value,
            [identity(m, GIVEN) for m in self.group.members],
            [r.method.value, r.low, r.high, r.few],
            self.subtract_note,
            self.options.preparation.key(),
            self.options.compare,
        )


def _values_of(task: MasterTask) -> dict[str, Any]:
    """Return what is told of a master whatever becomes of it."""
    group = task.group
    return {
        "kind": group.role.value,
        "filter": group.filter,
        "exposure_s": group.exposure_s,
        "gain": group.gain,
        "offset": group.offset,
        "temperature_c": group.temperature_c,
        "binning": group.binning,
        "width": group.width,
        "height": group.height,
        "key": group.key,
        "session": group.session,
        "subtracted": task.subtract_note,
    }


def master_item(task: MasterTask) -> Outcome:
    """Build and write one master (runs in a worker)."""
    path = Path(task.output)
    values = _values_of(task)
    group = task.group
    done = done_before(path, task.print, task.again)
    if done is not None:
        if done.ok:
            header = header_of(task.output)
            values |= {
                "count": int(header.get("NCOMBINE", 0)),
                "rejected_fraction": float(header.get("MREJECT", 0.0)),
                "noise_adu": header.get("MNOISE"),
                "level_adu": header.get("MLEVEL"),
            }
        return replace(done, file=task.output, output=task.output if done.ok else "", values=values)
    try:
        subtract = read_master(task.subtract).data if task.subtract else None
        master = build_master(
            group.role,
            group.members,
            rejection=task.options.rejection,
            subtract=subtract,
            preparation=task.options.preparation,
            compare=task.options.compare,
            budget_bytes=task.budget_bytes,
        )
        if isinstance(master, Failed):
            return Outcome(task.output, False, master.reason, values=values)
        write_master(path, master, fingerprint=task.print, replace_existing=task.again)
    except (FrameError, OSError, ValueError) as error:
        return Outcome(task.output, False, place_words(error), values=values)
    values.update(
        count=master.count,
        rejected_fraction=master.rejected_fraction,
        noise_adu=None if master.noise_adu != master.noise_adu else master.noise_adu,
        level_adu=master.level_adu,
        left_out=[[f.file, f.reason, f.code] for f in master.left_out],
        drift_adu=master.drift_adu,
        caution=master.caution,
        levels_adu=list(master.levels_adu),
        inputs=list(master.inputs),
        rejected_fractions=list(master.rejected_fractions),
    )
    return Outcome(task.output, True, "", task.output, values=values)


def master_name(group: Group) -> str:
    """Return the file name of a group's master: ``master-dark-240s-gain100-m15C-bnbq.fits``.

    Of the group's key, minus signs are written as m, and the part that stands for what is seldom different in
    letters, which nobody reads as a number.
    """
    *parts, rest = group.key.replace("--", "-m").replace("dark_flat", "dark-flat").split("-")
    letters = rest.translate(str.maketrans("0123456789abcdef", "bcdfghjkmnpqrstv"))
    return "master-" + "-".join([*parts, letters]).replace(" ", "_").replace("/", "_") + ".fits"


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
    options: MasterOptions | None = None,
    tolerances: Tolerances | None = None,
    others: Sequence[tuple[Candidate, str]] = (),
    replace_existing: bool = False,
) -> tuple[list[Outcome], list[Finding]]:
    """Build the masters of all calibration groups into a folder; flats come after what they need.

    Parameters
    ----------
    exposures : sequence of ExposureFacts
        Masters among them are not combined again.
    out : Path
    context : JobContext
    options : MasterOptions, optional
    tolerances : Tolerances, optional
        Short for options with these tolerances only.
    others : sequence of (Candidate, path)
        Masters made before, which may be taken off flats.
    replace_existing : bool

    Raises
    ------
    DiskFull
        If the masters would not fit.
    """
    rules = options or MasterOptions(MatchOptions(tolerances or Tolerances()))
    limits = rules.matching.tolerances
    usable = [f for f in exposures if f.path not in rules.excluded]
    groups = [
        g
        for g in group_exposures(usable, limits, name_sessions=rules.matching.name_sessions)
        if g.role in KINDS and not g.is_master
    ]
    names = _names(groups)
    first = [g for g in groups if g.role is not Role.FLAT]
    flats = [g for g in groups if g.role is Role.FLAT]
    check_disk(out, sum(4 * g.width * g.height for g in groups if not (out / names[id(g)]).exists()))
    # As many masters are made at once as there are workers; each holds its bands, its result and what it reads.
    budget = max(64 * 1024**2, context.budget_bytes // max(1, 2 * context.workers))
    outcomes: list[Outcome] = []
    findings = _excluded_findings(exposures, rules.excluded)

    def task(group: Group, subtract: str | None = None, note: str = "") -> MasterTask:
        return MasterTask(group, str(out / names[id(group)]), rules, subtract, note, budget, replace_existing)

    built: list[tuple[Candidate, str]] = []
    for job, outcome in context.each(master_item, [task(g) for g in first], "Making masters", lost=_lost):
        outcomes.append(outcome)
        if outcome.ok:
            built.append((_candidate(job.group, outcome), outcome.output))
    # Results come in any order; choices must not depend on it.
    built.sort(key=lambda entry: entry[1])
    available = [*built, *others]
    findings += _bias_findings(flats, available)
    jobs = []
    for group in flats:
        pin = rules.flat_pins.get(group.key, "")
        choice = match_flat(group.typical, [c for c, _ in available], options=rules.matching, pin=pin)
        if choice.candidate is None:
            if choice.pinned:
                jobs.append(task(group, None, "nothing, by hand"))
                continue
            findings.append(_not_subtracted(group, choice.reason))
            reason = f"no dark flat or bias to subtract: {choice.reason}"
            values = {"kind": "flat", "filter": group.filter, "exposure_s": group.exposure_s, "key": group.key}
            outcomes.append(Outcome(str(out / names[id(group)]), False, reason, values=values))
            continue
        path = next(p for candidate, p in available if candidate is choice.candidate)
        jobs.append(task(group, path, f"{choice.candidate.key} {fingerprint(Path(path).stat().st_size)}"))
    for _, outcome in context.each(master_item, jobs, "Making flats", lost=_lost):
        outcomes.append(outcome)
    outcomes.sort(key=lambda o: o.file)
    for outcome in outcomes:
        findings += set_findings(outcome.values)
    return outcomes, sort_findings(findings)


def _lost(task: MasterTask, reason: str) -> Outcome:
    return Outcome(task.output, False, reason, values=_values_of(task))


def _candidate(group: Group, outcome: Outcome) -> Candidate:
    return Candidate(group.role, group.typical, outcome.values["count"], group.key, outcome.values.get("level_adu"))


def _excluded_findings(exposures: Sequence[ExposureFacts], excluded: Mapping[str, str]) -> list[Finding]:
    reasons: dict[str, list[str]] = {}
    for facts in exposures:
        if facts.path in excluded and facts.role in KINDS:
            reasons.setdefault(excluded[facts.path], []).append(facts.path)
    return [
        notice(
            "not_used",
            f"{counted(len(files), 'frame', 'is', 'are')} in no master",
            f"{files[0].rpartition('/')[2]}{' and others' if len(files) > 1 else ''}: {reason}. Give them their role "
            "at Intake if that is wrong.",
            tuple(files),
        )
        for reason, files in reasons.items()
    ]


def _bias_findings(flats: Sequence[Group], available: Sequence[tuple[Candidate, str]]) -> list[Finding]:
    for group in flats:
        why = bias_is_unsafe(group.typical, [c for c, _ in available])
        if why:
            return [
                notice(
                    "dark_below_bias",
                    "This sensor's bias is no part of its darks",
                    f"{why.capitalize()}: flats take dark flats of their own exposure, darks are not scaled, the bias "
                    "is not used.",
                )
            ]
    return []


def _not_subtracted(group: Group, reason: str) -> Finding:
    return notice(
        "flat_not_subtracted",
        f"Flats {group.filter}: nothing to subtract",
        f"There is no dark flat or bias for {group.count} flats of {group.exposure_s or 0:g} s"
        f" ({reason}); no master flat is made of them.",
        group.files,
    )


_ODD = {
    "light_leak": ("Light leak", "light_leak"),
    "level": ("Another level", "odd_level"),
    "pattern": ("Another pattern", "odd_pattern"),
}


def set_findings(values: Mapping[str, Any]) -> list[Finding]:
    """Return what was noticed about the frames of one master: odd ones, drift, few frames, trails."""
    label = " ".join(
        w
        for w in (
            str(values["kind"]).replace("_", " "),
            values.get("filter") or "",
            "" if values.get("exposure_s") is None else f"{values['exposure_s']:g} s",
        )
        if w
    )
    found: list[Finding] = []
    by_code: dict[str, list[tuple[str, str]]] = {}
    for file, reason, code in values.get("left_out", []):
        by_code.setdefault(code if code in _ODD else "", []).append((file, reason))
    for code, entries in by_code.items():
        files = tuple(file for file, _ in entries)
        if code:
            word, name = _ODD[code]
            found.append(
                notice(
                    name,
                    f"{word} in {len(files)} of the {label} frames",
                    f"{files[0].rpartition('/')[2]}: {entries[0][1]}. Left out of the master.",
                    files,
                    {"series": values.get("levels_adu", [])},
                    Mend.leave_out(files),
                )
            )
            continue
        found += [
            notice("frame_left_out", f"{Path(file).name} left out of a master", f"{reason}.", (file,))
            for file, reason in entries
        ]
    drift = values.get("drift_adu") or 0.0
    if drift:
        word = true_minus(f"{drift:+.1f}")
        found.append(
            notice(
                "level_drift",
                f"The {label} frames drift",
                f"Their level runs by {word} ADU from the first to the last: the sensor was not at rest yet, or light "
                "got in. The master has the middle level.",
                tuple(values.get("inputs", [])),
                {"series": values.get("levels_adu", [])},
            )
        )
    if values.get("caution"):
        found.append(
            notice(
                "few_frames",
                f"Only {counted(values['count'], f'{label} frame')}",
                f"{values['caution']}.".capitalize(),
                tuple(values.get("inputs", [])),
            )
        )
    return found + _trails(label, values)


def _trails(label: str, values: Mapping[str, Any]) -> list[Finding]:
    """Frames of which far more was rejected than of their fellows: stars or trails in sky flats, cosmic-ray showers."""
    fractions = values.get("rejected_fractions") or []
    if len(fractions) < 4:
        return []
    usual = sorted(fractions)[len(fractions) // 2]
    files = tuple(p for p, f in zip(values["inputs"], fractions) if f > max(0.002, 8 * usual))
    if not files:
        return []
    most = max(fractions)
    what = "stars or trails" if values["kind"] == "flat" else "cosmic rays or a disturbance"
    return [
        notice(
            "much_rejected",
            f"Much rejected in {len(files)} of the {label} frames",
            f"{files[0].rpartition('/')[2]}: up to {100 * most:.1f} % of its pixels, {100 * usual:.2f} % is usual: {what}. "
            "The master is made without them.",
            files,
            {"series": list(fractions)},
            Mend.leave_out(files),
        )
    ]
