"""Measure and Curve: series photometry and the light curve of it."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np

from ulvar.astrometry import Wcs
from ulvar.engine import Failed, Finding, JobContext, Severity, counted
from ulvar.lightcurves import write_curve
from ulvar.night.flows.curve import CurveOptions, CurveResult, make_curve
from ulvar.night.flows.measure import MeasureOptions, Reference, measure_series
from ulvar.night.flows.starfind import read_stars
from ulvar.night.project import Night, Product
from ulvar.night.stations.plate import solutions
from ulvar.night.stations.shared import (
    StationResult,
    finish,
    measured_files,
    number_of,
    star_table_path,
    told_failures,
    working_exposures,
    working_filter,
)
from ulvar.photometry import ApertureOptions, read_series, write_series
from ulvar.registration import Transform
from ulvar.stars import Trail


def series_path(night: Night) -> Path:
    """Where the series table of the night is."""
    return night.products / "series.csv"


def curve_path(night: Night) -> Path:
    """Where the light curve of the night is."""
    return night.products / "curve.csv"


def run_measure(night: Night, context: JobContext) -> StationResult:
    """Measure the night's stars in every working exposure of the filter."""
    stars = night.stars()
    if not any(s.role == "target" for s in stars):
        problem = "no target: click it in the picture, or propose stars"
        return finish(night, StationResult("measure", problem, problem=problem), [])
    settings = night.settings.measure
    name = working_filter(night)
    working = {raw: f for raw, f in working_exposures(night).items() if f.filter == name}
    scores = night.products_of("score")
    plates = solutions(night)
    wcs = {facts.path: plates[raw] for raw, facts in working.items() if raw in plates}
    transforms, fwhm, detected, trails = {}, {}, {}, {}
    reference_path = ""
    for raw, facts in working.items():
        if raw in scores:
            v = scores[raw].values
            reference_path = v["reference"]
            fwhm[facts.path] = number_of(v["fwhm_px"])
            trails[facts.path] = tuple(
                Trail(*ends, width, math.nan, math.nan) for *ends, width in v.get("trail_lines") or ()
            )
            table = star_table_path(night, scores[raw])
            if table.exists():
                detected[facts.path] = read_stars(table)
            if v["matrix"] is not None:
                transforms[facts.path] = Transform(np.array(v["matrix"]), number_of(v["residual_px"]), v["matched"])
    origin = next((p for p in scores.values() if p.output == reference_path), None)
    reference = _reference(night, origin, wcs)
    options = MeasureOptions(
        ApertureOptions(settings.radius, settings.in_fwhm, settings.inner_px, settings.outer_px),
        settings.centre == "refined",
    )
    rows, outcomes = measure_series(
        list(working.values()), stars, context, options=options, reference=reference, solutions=wcs,
        transforms=transforms, fwhm=fwhm, detected=detected, trails=trails,
    )  # fmt: skip
    good = [o for o in outcomes if o.ok]
    raw_of = {facts.path: raw for raw, facts in working.items()}
    night.store_products(
        "measured", [Product("measured", raw_of[o.file], "", {"file": o.values["file"]}) for o in good], clear=True
    )
    bad = [o for o in outcomes if not o.ok]
    findings = told_failures("measure", "not_measured", "measured", bad, raw_of)
    if rows:
        write_series(series_path(night), rows, replace=True)
    problem = "" if rows else f"nothing was measured: {bad[0].reason}" if bad else "there is nothing to measure"
    text = f"{len(stars)} stars measured in {len(good)} exposures"
    return finish(night, StationResult("measure", text, len(good), len(bad), problem), findings)


def _reference(night: Night, score: Product | None, wcs: dict[str, Wcs]) -> Reference | None:
    if score is None:
        return None
    table = star_table_path(night, score)
    return Reference(score.output, read_stars(table), wcs.get(score.output)) if table.exists() else None


def run_curve(night: Night, context: JobContext) -> StationResult:
    """Make the light curve and its fits from the series table."""
    table_path = series_path(night)
    if not table_path.exists():
        return finish(night, StationResult("curve", "no measurements", problem="measure first"), [])
    context.progress(0, 1, "Fitting the light curve")
    result = night_curve(night)
    if isinstance(result, Failed):
        finding = Finding(Severity.BLOCKS, "no_curve", "There is no light curve", f"{result.reason}.", station="curve")
        return finish(night, StationResult("curve", result.reason, problem=result.reason), [finding])
    write_curve(curve_path(night), result.curve, replace=True)
    body = result.as_json()
    night.store_products("curve", [Product("curve", "curve", str(curve_path(night)), body)])
    context.progress(1, 1, "Fitting the light curve")
    count = int((~result.curve.left_out).sum())
    text = f"{counted(count, 'point')}, scatter {1000 * result.rms:.1f} mmag"
    return finish(night, StationResult("curve", text, count, 0, "", body), list(result.findings))


def night_curve(night: Night) -> CurveResult | Failed:
    """Return the light curve of the measured series; points of exposures left out since count for nothing."""
    settings = night.settings.curve
    table = read_series(series_path(night))
    gone = night.left_out
    out = frozenset(file for raw, file in measured_files(night).items() if raw in gone)
    options = CurveOptions(settings.model, tuple(settings.detrend), None, None, tuple(settings.leave_out), out)
    return make_curve(table, options)
