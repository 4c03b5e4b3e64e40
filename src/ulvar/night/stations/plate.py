"""Plate: solve the stack and the exposures."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from ulvar.astrometry import CatalogueError, Wcs, load_catalogue
from ulvar.engine import JobContext
from ulvar.flows import Outcome, PlateOptions, catalogue_print, hinted_cones, read_stars, read_wcs_file, solve_files
from ulvar.frames import FrameError, fingerprint, identity, scan_file
from ulvar.inspection import notice
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.stations.resuming import Kept
from ulvar.night.stations.shared import (
    StationResult,
    finish,
    star_table_path,
    told_failures,
    working_exposures,
    working_filter,
)


def run_plate(night: Night, context: JobContext) -> StationResult:
    """Solve the stack and every scored exposure of the working filter."""
    settings = night.settings.plate
    if not settings.catalogue:
        problem = "choose a star catalogue first"
        return finish(night, StationResult("plate", problem, problem=problem), [])
    scale = (settings.scale_low, settings.scale_high) if settings.scale_low and settings.scale_high else None
    options = PlateOptions(radius_deg=settings.radius_deg, scale=scale, again=True)
    name = working_filter(night)
    working = working_exposures(night)
    scores = {raw: p for raw, p in night.products_of("score").items() if p.values["filter"] == name and raw in working}
    stars = {working[raw].path: read_stars(star_table_path(night, score)) for raw, score in scores.items()}
    exposures = [working[raw] for raw in scores]
    if not exposures:
        return finish(night, StationResult("plate", "nothing scored", problem="score exposures first"), [])
    try:
        catalogue = load_catalogue(settings.catalogue, near=hinted_cones(exposures, options))
    except CatalogueError as error:
        finding = notice("catalogue", "The catalogue cannot be used", f"{error}.")
        return finish(night, StationResult("plate", str(error), problem=str(error)), [finding])
    folder = night.products / "plate"
    raw_of = {working[raw].path: raw for raw in scores}
    hints = [settings.radius_deg, scale, catalogue_print(catalogue), str(folder)]
    prints = {
        raw: fingerprint("plate", identity(working[raw]), hints, score.values.get("print"))
        for raw, score in scores.items()
    }
    kept = Kept(night, "plate", prints)

    def keep(outcome: Outcome) -> None:
        if outcome.ok:
            kept.store(raw_of[outcome.file], outcome.output, dict(outcome.values))

    todo = [facts for facts in exposures if raw_of[facts.path] not in kept.known]
    solved = solve_files(todo, catalogue, context, options=options, stars=stars, wcs_folder=folder, arrived=keep)
    outcomes = [
        Outcome(working[raw].path, True, "", p.output, values=p.values) for raw, p in kept.known.items()
    ] + solved
    good = [o for o in outcomes if o.ok]
    plates = [Product("plate", raw_of[o.file], o.output, {**o.values, "print": prints[raw_of[o.file]]}) for o in good]
    night.store_products("plate", plates, clear=True)
    _solve_stack(night, catalogue, options, context)
    bad = [o for o in outcomes if not o.ok]
    findings = told_failures("plate", "not_solved", "solved", bad, raw_of)
    problem = "" if good else f"no exposure was solved: {bad[0].reason}" if bad else "nothing to solve"
    text = f"{len(good)} of {len(outcomes)} exposures solved"
    return finish(night, StationResult("plate", text, len(good), len(bad), problem), findings)


def _solve_stack(night: Night, catalogue: Any, options: PlateOptions, context: JobContext) -> None:
    solved = []
    for name, product in night.products_of("stack").items():
        try:
            facts = scan_file(product.output)
        except FrameError:
            continue
        (outcome,) = solve_files([facts], catalogue, context, options=options, wcs_folder=night.products / "plate")
        if outcome.ok:
            solved.append(Product("plate_stack", name, outcome.output, dict(outcome.values)))
    night.store_products("plate_stack", solved, clear=True)


def solutions(night: Night) -> dict[str, Wcs]:
    """Return raw path to plate solution."""
    result = {}
    for raw, product in night.products_of("plate").items():
        wcs = read_wcs_file(Path(product.output))
        if wcs is not None:
            result[raw] = wcs
    return result
