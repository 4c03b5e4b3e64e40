"""Masters: which calibration frames there are, what fits, and the masters made of them."""

from __future__ import annotations

from dataclasses import replace

from ulvar.calibration import Candidate, Match, MatchOptions, Shot, master_numbers, shooting_list
from ulvar.calibration.prepare import Preparation
from ulvar.engine import JobContext, counted
from ulvar.flows import KINDS, Library, MasterOptions, contradicted, library_at, make_masters, match_groups, prepared
from ulvar.frames import ExposureFacts, Group, Role
from ulvar.inspection import match_findings, notice
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.stations.shared import StationResult, finish, kept_lights
from ulvar.night.working import one_at_a_time


def matching_of(night: Night) -> MatchOptions:
    """Return the night's matching options: tolerances, bound tags, pins."""
    settings = night.settings
    several = len({f.session for f in night.exposures} - {""}) > 1
    return replace(settings.masters.matching(settings.intake.tags), name_sessions=several)


def library_of(night: Night) -> Library:
    """Return the library that the night uses."""
    return library_at(night.meta("library", ""))


def excluded_frames(night: Night) -> dict[str, str]:
    """Return path to reason of calibration frames whose pixels contradict their role."""
    return contradicted(night.findings("intake"), night.exposures)


def given_masters(night: Night) -> list[tuple[Candidate, str]]:
    """Return masters that were there before: among the night's files, and in the library if it is used."""
    found = []
    for facts in night.kept():
        if facts.is_master and facts.role in KINDS:
            level = master_numbers(facts.path).get("MLEVEL")
            found.append((Candidate(facts.role, facts, facts.count, facts.name, level), facts.path))
    if night.settings.masters.use_library:
        found += library_of(night).candidates()
    return found


def set_candidates(night: Night) -> list[Candidate]:
    """Return the calibration sets that would make masters, with how many usable frames each has."""
    out, barred = night.left_out, excluded_frames(night)
    looks = night.looks()
    preparation = preparation_of(night, night.exposures)
    found = []
    for group in night.groups():
        files = [f for f in group.files if f not in out and f not in barred]
        if group.role in KINDS and not group.is_master and files:
            levels = sorted(looks[f].level_adu for f in files if f in looks and looks[f].finite)
            level = levels[len(levels) // 2] if levels else None
            typical = prepared(group.typical, preparation)
            found.append(Candidate(group.role, typical, len(files), group.key, level))
    return found


def made_masters(night: Night) -> list[tuple[Candidate, str]]:
    """Return the masters that the night has made, under the keys of their sets."""
    by_key = {g.key: g for g in night.groups()}
    preparation = preparation_of(night, night.exposures)
    found = []
    for path, product in night.products_of("master").items():
        values = product.values
        group = by_key.get(values.get("key", ""))
        if group is not None:
            typical = prepared(group.typical, preparation)
            kind, count = Role(values["kind"]), int(values["count"])
            candidate = Candidate(kind, typical, count, group.key, values.get("level_adu"))
            found.append((candidate, path))
    return found


def board_matches(night: Night) -> list[tuple[Group, Match]]:
    """Return what the match board shows: every group of lights with its choices among sets, masters and library."""
    candidates = [(c, "") for c in set_candidates(night)] + given_masters(night)
    lights = night.lights()
    return match_groups(lights, candidates, options=matching_of(night), preparation=preparation_of(night, lights))


def night_shooting_list(night: Night) -> list[Shot]:
    """Return the calibration frames still to be taken for the night's lights."""
    return shooting_list(board_matches(night))


@one_at_a_time
def run_masters(night: Night, context: JobContext) -> StationResult:
    """Build the masters that the night's calibration frames allow."""
    settings = night.settings
    calibration = [f for f in night.kept() if f.role in KINDS]
    given = given_masters(night)
    if not calibration and not given:
        findings = [
            notice("no_calibration", "No calibration frames", "There are no bias, dark or flat frames: lights are used as they are.")
        ]  # fmt: skip
        return finish(night, StationResult("masters", "no calibration frames"), findings)
    matching = matching_of(night)
    pins = {
        match.flat.candidate.key: matching.pins[group.key]["dark_flat"]
        for group, match in board_matches(night)
        if match.flat.candidate is not None and "dark_flat" in matching.pins.get(group.key, {})
    }
    options = MasterOptions(
        matching, settings.masters.rejection, preparation_of(night, calibration), settings.masters.compare,
        excluded_frames(night), pins,
    )  # fmt: skip
    outcomes, findings = make_masters(
        calibration, night.products / "masters", context, options=options, others=given, replace_existing=True
    )  # fmt: skip
    good = [o for o in outcomes if o.ok]
    night.store_products("master", [Product("master", o.output, o.output, dict(o.values)) for o in good], clear=True)
    # The match board's word comes at this station, though it is calibration that obeys it.
    lights = kept_lights(night)
    masters = [*made_masters(night), *given]
    matches = match_groups(lights, masters, options=matching, preparation=preparation_of(night, lights))
    findings = findings + match_findings(matches)
    problem = "" if good or given else "no master could be made"
    text = counted(len(good), "master") + (f", {len(given)} there before" if given else "")
    return finish(night, StationResult("masters", text, len(good), len(outcomes) - len(good), problem), findings)


def preparation_of(night: Night, exposures: list[ExposureFacts]) -> Preparation:
    """Return what is done to raw frames first; the headers' regions count when all lights tell the same."""
    lights = night.lights() or exposures
    overscan, trim = {f.overscan for f in lights}, {f.trim for f in lights}
    return night.settings.calibrate.preparation(
        next(iter(overscan)) if len(overscan) == 1 else "", next(iter(trim)) if len(trim) == 1 else ""
    )


def pin_choice(night: Night, lights: str, kind: str, choice: str | None) -> None:
    """Choose by hand what a group of lights uses; None gives the choice back to matching."""
    settings = night.settings
    settings.masters.pin(lights, kind, choice)
    night.set_settings(settings)
