"""Reading headers and sorting exposures."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from ulvar.engine import Failed, Finding, JobContext, Severity, sort_findings
from ulvar.frames import (
    ExposureFacts,
    FrameError,
    Group,
    Tolerances,
    find_files,
    group_exposures,
    scan_file,
    with_user_facts,
)
from ulvar.inspection import intake_findings

_BATCH = 64


@dataclass(frozen=True)
class Sorted:
    """The outcome of sorting: exposures in groups, what failed, what was noticed."""

    exposures: tuple[ExposureFacts, ...]
    failed: tuple[Failed, ...]
    groups: tuple[Group, ...]
    findings: tuple[Finding, ...]


def scan_batch(paths: Sequence[str]) -> list[ExposureFacts | Failed]:
    """Scan the headers of a few files."""
    result: list[ExposureFacts | Failed] = []
    for path in paths:
        try:
            facts = scan_file(path)
            if facts.planes > 1:
                raise FrameError(path, f"it is a cube of {facts.planes} planes; only single images are read so far")
            result.append(facts)
        except FrameError as error:
            result.append(Failed(error.reason, path))
        except Exception as error:  # a header no one foresaw must not stop the scan
            result.append(Failed(f"its header could not be understood ({type(error).__name__}: {error})", path))
    return result


def scan_paths(
    paths: Iterable[str | Path], given: Mapping[str, str], context: JobContext
) -> tuple[list[ExposureFacts], list[Failed], list[str]]:
    """Find and scan files; returns (exposures, failures, files that are not FITS).

    Raises
    ------
    FileNotFoundError
        If a path does not exist.
    ValueError
        If a given fact cannot be read.
    """
    fits, other = find_files(paths)
    exposures, failed = scan_files(fits, context)
    return [with_user_facts(facts, given) for facts in exposures], failed, other


def scan_files(fits: Sequence[str], context: JobContext) -> tuple[list[ExposureFacts], list[Failed]]:
    """Scan FITS files, in batches so that small headers do not cost a message each."""
    batches = [fits[i : i + _BATCH] for i in range(0, len(fits), _BATCH)]
    # A few hundred headers are read faster than workers start.
    run = context if len(fits) > 2000 else JobContext(progress=context.progress, stop=context.stop)
    exposures: list[ExposureFacts] = []
    failed: list[Failed] = []
    for _, results in run.each(scan_batch, batches, "Reading headers"):
        for result in results:
            if isinstance(result, Failed):
                failed.append(result)
            else:
                exposures.append(result)
    order = {path: i for i, path in enumerate(fits)}
    exposures.sort(key=lambda f: order[f.path])
    failed.sort(key=lambda f: order.get(f.file, 0))
    return exposures, failed


def sort_exposures(
    exposures: Sequence[ExposureFacts],
    failed: Sequence[Failed],
    other: Sequence[str] = (),
    tolerances: Tolerances | None = None,
) -> Sorted:
    """Group exposures and say what is noticed about them."""
    groups = group_exposures(exposures, tolerances)
    findings = intake_findings(groups, failed, tolerances)
    if not exposures and not failed:
        text = "There is no FITS file in it."
        if other:
            text = f"There is no FITS file among its {len(other)} files, such as {Path(other[0]).name}."
        findings.append(Finding(Severity.BLOCKS, "nothing_found", "No exposures", text, tuple(other[:20])))
    return Sorted(tuple(exposures), tuple(failed), tuple(groups), tuple(sort_findings(findings)))
