"""Plate: solve the stack and the exposures."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from ulvar.astrometry import CatalogueError, StarCatalogue, Wcs, WholeSky
from ulvar.engine import JobContext, counted, place_words
from ulvar.flows import (
    Depth,
    Outcome,
    PlateOptions,
    Series,
    carried_solution,
    catalogue_print,
    depth_cards,
    depth_of,
    describe,
    open_catalogue,
    put_solution,
    read_wcs_file,
    solve_files,
    write_wcs_file,
)
from ulvar.frames import ExposureFacts, FrameError, distinct_stems, fingerprint, identity, read_plane, scan_file
from ulvar.inspection import Finding, notice
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.stations.lights import working_exposures
from ulvar.night.stations.results import remember_depth
from ulvar.night.stations.resuming import Kept
from ulvar.night.stations.shared import (
    StationResult,
    finish,
    no_series,
    number_of,
    told_failures,
)
from ulvar.night.stations.tables import naming_damage, star_table
from ulvar.night.working import one_at_a_time
from ulvar.registration import stored_map

# A second try may take so many times as long.
_LONGER = 6.0


@one_at_a_time
@naming_damage("plate")
def run_plate(night: Night, context: JobContext, series: Series | None = None) -> StationResult:
    """Solve the stack and every scored exposure of a series; what was solved before by the same settings is kept."""
    return _run(night, context, series)


@one_at_a_time
@naming_damage("plate")
def run_plate_harder(night: Night, context: JobContext, series: Series | None = None) -> StationResult:
    """Try the exposures of a series that were not solved again: without a hint, at any scale, and for longer."""
    return _run(night, context, series, harder=True)


def _run(night: Night, context: JobContext, series: Series | None, *, harder: bool = False) -> StationResult:
    series = series or night.current_series()
    if series is None:
        return no_series(night, "plate")
    settings = night.settings.plate
    if not settings.catalogue:
        problem = "choose a star catalogue first"
        return finish(night, StationResult("plate", problem, problem=problem), [], series)
    scale = (settings.scale_low, settings.scale_high) if settings.scale_low and settings.scale_high else None
    options = PlateOptions(
        radius_deg=settings.radius_deg, scale=scale, again=True, blind=settings.blind, seconds=settings.seconds
    )
    trying = replace(options, blind=True, scale=None, seconds=_LONGER * options.seconds) if harder else options
    working = working_exposures(night, series)
    scores = {raw: p for raw, p in night.products_of("score", series.key).items() if raw in working}
    stars = {working[raw].path: star_table(night, score) for raw, score in scores.items()}
    exposures = [working[raw] for raw in scores]
    if not exposures:
        return finish(night, StationResult("plate", "nothing scored", problem="score exposures first"), [], series)
    try:
        catalogue, whole = open_catalogue(settings.catalogue, exposures, options, context)
        # What the second try searches; what is solved keeps its own print.
        searched = open_catalogue(settings.catalogue, exposures, trying, context) if harder else (catalogue, whole)
    except CatalogueError as error:
        finding = notice("catalogue", "The catalogue cannot be used", f"{error}.")
        return finish(night, StationResult("plate", str(error), problem=str(error)), [finding], series)
    folder = night.series_folder(series.key) / "plate"
    raw_of = {working[raw].path: raw for raw in scores}
    state = whole.state if whole is not None and (options.blind or not len(catalogue)) else ""
    hints = [*options.stamped, catalogue_print(catalogue), str(folder), state]
    prints = {
        raw: fingerprint("plate", identity(working[raw]), hints, score.values.get("print"))
        for raw, score in scores.items()
    }
    kept = Kept(night, "plate", prints, series.key)

    def keep(outcome: Outcome) -> None:
        if outcome.ok:
            kept.store(raw_of[outcome.file], outcome.output, dict(outcome.values))

    # What has none of its own but a neighbour's is tried again.
    known = {raw: p for raw, p in kept.known.items() if not p.values.get("carried_from")}
    todo = [facts for facts in exposures if raw_of[facts.path] not in known]
    solved = solve_files(
        todo, searched[0], context, options=trying, stars=stars, wcs_folder=folder, arrived=keep, whole=searched[1]
    )
    outcomes = [Outcome(working[raw].path, True, "", p.output, values=p.values) for raw, p in known.items()] + solved
    outcomes = _carried(night, outcomes, scores, working, raw_of, folder)
    good = [o for o in outcomes if o.ok]
    plates = [Product("plate", raw_of[o.file], o.output, {**o.values, "print": prints[raw_of[o.file]]}) for o in good]
    night.store_products("plate", plates, series=series.key, clear=True)
    unwritten = _solve_stack(night, series, catalogue, whole, options, context)
    bad = [o for o in outcomes if not o.ok]
    night.store_products(
        "plate_failed",
        [Product("plate_failed", raw_of[o.file], "", {"reason": o.reason}) for o in bad],
        series=series.key,
        clear=True,
    )
    findings = told_failures("plate", "not_solved", "solved", bad, raw_of) + _wrongly_stated(good, raw_of) + unwritten
    problem = "" if good else f"no exposure was solved: {bad[0].reason}" if bad else "nothing to solve"
    carried = sum(1 for o in good if o.values.get("carried_from"))
    text = f"{len(good)} of {len(outcomes)} exposures solved"
    text += f", {carried} of them by their alignment" if carried else ""
    return finish(night, StationResult("plate", text, len(good), len(bad), problem), findings, series)


def _carried(
    night: Night, outcomes: Sequence[Outcome], scores: Mapping[str, Product], working: Mapping[str, ExposureFacts],
    raw_of: Mapping[str, str], folder: Path,
) -> list[Outcome]:  # fmt: skip
    """Carry the best solution to exposures that have none of their own but are aligned: where they lie is known by that, too."""
    ways = {
        raw: stored_map(p.values["matrix"], p.values.get("bent")) for raw, p in scores.items() if p.values["matrix"] is not None
    }  # fmt: skip
    own = [o for o in outcomes if o.ok and raw_of[o.file] in ways and o.values.get("matched")]
    if not own:
        return list(outcomes)
    best = max(own, key=lambda o: int(o.values["matched"]))
    known = read_wcs_file(Path(best.output))
    if known is None:
        return list(outcomes)
    named = Path(raw_of[best.file]).name
    back = ways[raw_of[best.file]].inverse()
    stems = distinct_stems(facts.path for facts in working.values())
    result = []
    for outcome in outcomes:
        raw = raw_of[outcome.file]
        if outcome.ok or raw not in ways:
            result.append(outcome)
            continue
        facts = working[raw]
        size = facts.height, facts.width
        wcs = carried_solution(known, ways[raw].then(back), size)
        path = folder / f"{stems[facts.path]}.carried.wcs"
        note = f"plate solution of {named}, carried by the alignment"
        try:
            write_wcs_file(path, wcs, note, size)
        except OSError as error:
            result.append(replace(outcome, reason=place_words(error)))
            continue
        values = describe(wcs, facts) | {"carried_from": named, "order": 1 if not wcs.sip_a else 5}
        result.append(Outcome(outcome.file, True, "", str(path), values=values))
    return result


def _wrongly_stated(good: Sequence[Outcome], raw_of: Mapping[str, str]) -> list[Finding]:
    """Name exposures whose headers state another place than they were found at."""
    wrong = [o for o in good if o.values.get("stated") == "wrong"]
    if not wrong:
        return []
    off = max(float(o.values["stated_off_arcsec"]) for o in wrong)
    named = Path(raw_of[wrong[0].file]).name
    text = (
        f"{named} was found {off:.0f}″ from where it says that it is. The found place is used."
        if len(wrong) == 1
        else f"{named} and others were found up to {off:.0f}″ from where they say that they are. The found places are used."
    )
    title = counted(len(wrong), "header", "states a wrong place", "state wrong places")
    return [notice("stated_wrong", title, text, tuple(raw_of[o.file] for o in wrong), station="plate")]


def _solve_stack(
    night: Night,
    series: Series,
    catalogue: StarCatalogue,
    whole: WholeSky | None,
    options: PlateOptions,
    context: JobContext,
) -> list[Finding]:
    """Solve the stack of a series, and write the solution into its header too; returns what went wrong."""
    solved = []
    findings = []
    stack = night.products_of("stack", series.key).get(series.key)
    if stack is not None:
        try:
            facts = scan_file(stack.output)
        except FrameError:
            return []
        folder = night.series_folder(series.key) / "plate"
        (outcome,) = solve_files([facts], catalogue, context, options=options, wcs_folder=folder, whole=whole)
        if outcome.ok:
            wcs = read_wcs_file(Path(outcome.output))
            assert wcs is not None
            depth = _depth(stack, facts, wcs, _of_field(catalogue, whole, wcs, facts))
            try:
                put_solution(
                    Path(stack.output),
                    wcs,
                    f"plate solution: {counted(outcome.values['matched'], 'star')}",
                    depth_cards(depth),
                )
            except (FrameError, OSError) as error:
                why = f"{place_words(error)}."
                findings.append(notice("not_written", "The stack has no solution in its header", why))
            told = (
                {}
                if depth is None
                else {"band": depth.band, "limit_mag": depth.limit_mag, "zero_mag": depth.zero.magnitude}
            )
            remember_depth(night, series, stack.output, told)
            solved.append(Product("plate_stack", series.key, outcome.output, {**outcome.values, **told}))
    night.store_products("plate_stack", solved, series=series.key, clear=True)
    return findings


def _of_field(catalogue: StarCatalogue, whole: WholeSky | None, wcs: Wcs, facts: ExposureFacts) -> StarCatalogue:
    """Return stars among which those of the picture are, wherever it was found."""
    if whole is None:
        return catalogue
    ra, dec = (float(v) for v in wcs.sky((facts.width - 1) / 2, (facts.height - 1) / 2))
    return whole.sky().cone(ra, dec, 0.6 * math.hypot(facts.width, facts.height) * wcs.scale_arcsec_px / 3600)


def _depth(stack: Product, facts: ExposureFacts, wcs: Wcs, catalogue: StarCatalogue) -> Depth | None:
    """Return how deep a stack is; None where the catalogue, or the stack, does not tell."""
    fwhm, faintest = (number_of(stack.values.get(name)) for name in ("fwhm_px", "faintest_adu"))
    if not (fwhm > 0 and faintest > 0):
        return None
    try:
        return depth_of(read_plane(stack.output), facts, wcs, catalogue, fwhm_px=fwhm, faintest_adu=faintest)
    except FrameError:
        return None


def solutions(night: Night, series: Series | None = None) -> dict[str, Wcs]:
    """Return raw path to plate solution, of a series or all."""
    result = {}
    for raw, product in night.products_of("plate", series.key if series else None).items():
        wcs = read_wcs_file(Path(product.output))
        if wcs is not None:
            result[raw] = wcs
    return result
