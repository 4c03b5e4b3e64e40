"""Reading headers, looking at pixels, sorting exposures."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from ulvar.engine import Failed, JobContext, counted
from ulvar.frames import (
    ExposureFacts,
    FrameError,
    Group,
    TagRule,
    Tolerances,
    assign_sessions,
    find_files,
    group_exposures,
    open_rows,
    scan_images,
    with_user_facts,
)
from ulvar.inspection import (
    Finding,
    PixelLook,
    depth_findings,
    find_ceilings,
    intake_findings,
    look_at,
    look_band,
    notice,
    sort_findings,
    time_findings,
    with_ceilings,
)

_BATCH = 64
_LOOK_BATCH = 8
# Up to here every exposure's pixels are looked at; of larger nights a sample of each group.
_ALL_LOOKED_AT = 2000
_SAMPLE = 60


@dataclass(frozen=True)
class Sorted:
    """The outcome of sorting: exposures in groups, what failed, what was noticed."""

    exposures: tuple[ExposureFacts, ...]
    failed: tuple[Failed, ...]
    groups: tuple[Group, ...]
    findings: tuple[Finding, ...]


def scan_batch(paths: Sequence[str]) -> list[ExposureFacts | Failed]:
    """Scan the headers of a few files; a file that holds several images gives an entry for each."""
    result: list[ExposureFacts | Failed] = []
    for path in paths:
        try:
            result += scan_images(path)
        except FrameError as error:
            result.append(Failed(error.reason, path))
    return result


def scan_paths(
    paths: Iterable[str | Path], given: Mapping[str, str], context: JobContext, rules: Sequence[TagRule] = ()
) -> tuple[list[ExposureFacts], list[Failed], list[str]]:
    """Find and scan files; returns (exposures, failures, files that are no exposures).

    Raises
    ------
    FileNotFoundError
        If a path does not exist.
    ValueError
        If a given fact or a rule's pattern cannot be read.
    """
    asked = [str(p) for p in paths]
    found, other = find_files(asked)
    exposures, failed = scan_files(found, context)
    corrected = [with_user_facts(facts, given) for facts in exposures]
    roots = [p.rstrip("/") for p in asked if Path(p).is_dir()]
    return assign_sessions(corrected, rules, roots), failed, other


def scan_files(files: Sequence[str], context: JobContext) -> tuple[list[ExposureFacts], list[Failed]]:
    """Scan files, in batches so that small headers do not cost a message each."""
    batches = [files[i : i + _BATCH] for i in range(0, len(files), _BATCH)]
    # A few hundred headers are read faster than workers start.
    run = context if len(files) > 2000 else JobContext(progress=context.progress, stop=context.stop)
    by_batch: dict[str, list[ExposureFacts | Failed]] = {}
    crashed: list[str] = []

    def lost(batch: Sequence[str], reason: str) -> list[ExposureFacts | Failed]:
        crashed.extend(batch)
        return [Failed(reason, path) for path in batch]

    for batch, results in run.each(scan_batch, batches, "Reading headers", lost=lost):
        by_batch[batch[0]] = results
    if crashed:
        # Only one of a batch is at fault, as a rule.
        alone = dict(zip(crashed, [[path] for path in crashed]))
        single = {b[0]: r for b, r in run.each(scan_batch, list(alone.values()), "Reading headers", lost=lost)}
        for batch in batches:
            if batch[0] in alone:
                by_batch[batch[0]] = [result for path in batch for result in single[path]]
    # Batches end in any order; the files keep theirs.
    ordered = [result for batch in batches for result in by_batch.get(batch[0], [])]
    exposures = [r for r in ordered if not isinstance(r, Failed)]
    failed = [r for r in ordered if isinstance(r, Failed)]
    return exposures, failed


def look_batch(exposures: Sequence[ExposureFacts]) -> dict[str, PixelLook]:
    """Look at the pixels of a few exposures; what cannot be read is told where it is used."""
    looks = {}
    for facts in exposures:
        try:
            source = open_rows(facts.path)
            looks[facts.path] = look_at(source.rows(*look_band(source.height, source.width)), mosaic=bool(facts.cfa))
        except FrameError:
            continue
    return looks


def look_at_pixels(
    exposures: Sequence[ExposureFacts],
    context: JobContext,
    *,
    known: Mapping[str, PixelLook] | None = None,
    tolerances: Tolerances | None = None,
) -> dict[str, PixelLook]:
    """Return path to look of exposures (of large nights: of an even sample of each group).

    Parameters
    ----------
    exposures : sequence of ExposureFacts
    context : JobContext
    known : mapping, optional
        Looks taken before; they are not taken again.
    tolerances : Tolerances, optional
    """
    looks = dict(known or {})
    wanted = [f for f in exposures if not f.is_master]
    if len(wanted) > _ALL_LOOKED_AT:
        chosen: list[ExposureFacts] = []
        for group in group_exposures(wanted, tolerances):
            step = max(1.0, group.count / _SAMPLE)
            chosen += [group.members[int(i * step)] for i in range(min(group.count, _SAMPLE))]
        wanted = chosen
    todo = [f for f in wanted if f.path not in looks]
    batches = [todo[i : i + _LOOK_BATCH] for i in range(0, len(todo), _LOOK_BATCH)]
    run = context if len(todo) > 30 else JobContext(progress=context.progress, stop=context.stop)
    for _, fresh in run.each(look_batch, batches, "Looking at pixels", lost=lambda batch, reason: {}):
        looks.update(fresh)
    return looks


def sort_exposures(
    exposures: Sequence[ExposureFacts],
    failed: Sequence[Failed],
    other: Sequence[str] = (),
    tolerances: Tolerances | None = None,
    looks: Mapping[str, PixelLook] | None = None,
) -> Sorted:
    """Group exposures and say what is noticed about them.

    With looks at their pixels the roles are checked, and the saturation level is that of the true bit depth.
    """
    seen = looks or {}
    ceilings = find_ceilings(exposures, seen)
    deep = with_ceilings(exposures, ceilings)
    groups = group_exposures(deep, tolerances)
    findings = intake_findings(groups, failed, tolerances, seen) + depth_findings(exposures, ceilings, seen)
    findings += time_findings(exposures)
    if not exposures and not failed:
        text = "There is no FITS, camera raw or TIFF file in it."
        if other:
            text = f"There is no FITS, camera raw or TIFF file among its {counted(len(other), 'file')}, such as {Path(other[0]).name}."
        findings.append(notice("nothing_found", "No exposures", text, tuple(other[:20])))
    return Sorted(tuple(deep), tuple(failed), tuple(groups), tuple(sort_findings(findings)))


# What pixels say against a role weighs more than a name: such frames are in no master.
_CONTRADICTED = {
    "dark_has_stars": "its pixels show stars",
    "flat_no_light": "it saw no light",
    "constant": "all its pixels are alike",
    "no_pixels": "no pixel has a value",
    "mixed_depth": "its bit depth is not that of the others",
}


def contradicted(findings: Iterable[Finding], exposures: Iterable[ExposureFacts]) -> dict[str, str]:
    """Return path to reason of calibration frames that must not be used; a role the user gave is believed."""
    believed = {f.path for f in exposures if f.origins.get("role") == "user"}
    return {
        path: _CONTRADICTED[finding.code]
        for finding in findings
        if finding.code in _CONTRADICTED
        for path in finding.files
        if path not in believed
    }
