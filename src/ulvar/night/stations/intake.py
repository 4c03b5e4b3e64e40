"""Intake: what is there, and is it what it is called?"""

from __future__ import annotations

from pathlib import Path

from ulvar.engine import JobContext, counted
from ulvar.flows import look_at_pixels, scan_files, sort_exposures
from ulvar.frames import file_of, find_files
from ulvar.inspection import Finding, Severity, find_ceilings, notice
from ulvar.night.project import Night
from ulvar.night.rebuilding import rebuilt_finding, remember_raw
from ulvar.night.stations.shared import StationResult, finish
from ulvar.night.working import one_at_a_time


def files_on_disk(night: Night) -> tuple[list[str], list[str]]:
    """Return (files that may be exposures, other files) under the night's raw paths, the night itself excepted."""
    found: list[str] = []
    other: list[str] = []
    inside = str(night.folder.resolve())
    for raw in night.raw_paths:
        try:
            here, rest = find_files([raw])
        except FileNotFoundError:
            continue
        found += [p for p in here if not p.startswith(inside + "/")]
        other += rest
    # A file may lie below two of the folders that were opened.
    return list(dict.fromkeys(found)), list(dict.fromkeys(other))


def unchanged(path: str, known: tuple[int, int] | None) -> bool:
    """Whether a file has the size and time it had when its header was read."""
    if known is None:
        return False
    try:
        status = Path(path).stat()
    except OSError:
        return False
    return known == (status.st_size, status.st_mtime_ns)


def differs_from_disk(night: Night) -> bool:
    """Whether a file is new, changed or missing since the headers were read."""
    known = night.known_files()
    found, _ = files_on_disk(night)
    return set(found) != set(known) or not all(unchanged(path, known[path]) for path in found)


def wants_reading(night: Night) -> bool:
    """Whether the folders should be read again: something changed there, or no look at pixels is kept."""
    return differs_from_disk(night) or (bool(night.exposures) and not night.has_looks())


@one_at_a_time
def run_intake(night: Night, context: JobContext) -> StationResult:
    """Scan headers and look at pixels: of new and changed files only, the rest comes from the night."""
    files, other = files_on_disk(night)
    known = night.known_files()
    todo = [p for p in files if not unchanged(p, known.get(p))]
    exposures, failed = scan_files(todo, context)
    night.store_exposures(files, exposures, failed)
    settings = night.settings
    looks = look_at_pixels(night.exposures, context, known=night.looks(), tolerances=settings.masters.tolerances)
    night.store_looks(looks)
    night.set_ceilings(find_ceilings(night.exposures_as_told(), looks))
    result = sort_exposures(night.exposures_as_told(), night.failed, other, settings.masters.tolerances, looks)
    remember_raw(night.folder, [str(path) for path in night.raw_paths])
    findings = rebuilt_finding(night) + list(result.findings) + _guessed(night) + _changes(known, files, todo)
    problem = "" if night.exposures else result.findings[0].text if result.findings else "there is nothing to read"
    text = f"{counted(len(night.exposures), 'exposure')} in {counted(len(result.groups), 'group')}, {len(night.lights())} of them lights"
    return finish(night, StationResult("intake", text, len(night.exposures), len(night.failed), problem), findings)


def retell_intake(night: Night) -> None:
    """Say anew what intake notices, after facts were corrected; no file is read."""
    result = sort_exposures(
        night.exposures_as_told(), night.failed, (), night.settings.masters.tolerances, night.looks()
    )
    kept = [f for f in night.findings("intake") if f.code in ("file_changed", "file_missing")]
    night.set_findings("intake", [*rebuilt_finding(night), *result.findings, *_guessed(night), *kept])
    ran = night.meta("ran", {}).get("intake")
    if ran is not None:
        blocks = any(f.severity is Severity.BLOCKS for f in result.findings)
        night.mark_run("intake", "attention" if blocks else "part" if night.failed else "done")


def _guessed(night: Night) -> list[Finding]:
    guessed = tuple(f.path for f in night.exposures if f.origins.get("role") == "guessed")
    if not guessed:
        return []
    return [
        notice(
            "role_guessed",
            f"{counted(len(guessed), 'file')} taken for lights",
            "Neither headers nor names say what they are for; drag them to another role if they are not lights.",
            guessed,
        )
    ]


def _changes(known: dict[str, tuple[int, int]], files: list[str], read: list[str]) -> list[Finding]:
    """Files that were read before and are now other files, or gone."""
    changed = tuple(p for p in read if p in known)
    missing = tuple(sorted(set(known) - set(files)))
    found = []
    if changed:
        found.append(
            notice(
                "file_changed",
                f"{counted(len(changed), 'file')} changed since the last reading",
                f"{Path(file_of(changed[0])).name} has another size or time; it was read anew, and what was made of "
                "the old one is stale.",
                changed,
            )
        )
    if missing:
        found.append(
            notice(
                "file_missing",
                f"{counted(len(missing), 'file', 'is', 'are')} gone",
                f"{Path(missing[0]).name} was here when the night was read last. Its products and corrections are kept.",
                missing,
            )
        )
    return found
