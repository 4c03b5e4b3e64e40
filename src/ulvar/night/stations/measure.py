"""Measure and Curve: series photometry and the light curve of it."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ulvar.astrometry import CatalogueError
from ulvar.engine import Failed, JobContext, counted
from ulvar.flows import (
    CurveOptions,
    CurveResult,
    Measured,
    MeasureOptions,
    Series,
    make_curve,
    marked_body,
    measure_series,
    read_bodies,
    standard_of,
    write_magnitudes,
)
from ulvar.frames import distinct_names, fingerprint
from ulvar.inspection import measured_findings, notice
from ulvar.lightcurves import LightCurve, differential_curve, write_curve
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.stations.known import what_is_known
from ulvar.night.stations.plate import solutions
from ulvar.night.stations.resuming import Kept, measured_again, measured_values
from ulvar.night.stations.shared import (
    StationResult,
    curve_path,
    finish,
    measured_files,
    no_series,
    number_of,
    series_file,
    series_path,
    told_failures,
)
from ulvar.night.stations.tables import naming_damage, series_table
from ulvar.night.working import one_at_a_time
from ulvar.photometry import (
    ListedStar,
    RadiusChoice,
    SeriesRow,
    SeriesTable,
    StarListError,
    choose_radius,
    write_series,
)


@one_at_a_time
@naming_damage("measure")
def run_measure(night: Night, context: JobContext, series: Series | None = None) -> StationResult:
    """Measure the stars of the field in every working exposure of a series."""
    series = series or night.current_series()
    if series is None:
        return no_series(night, "measure")
    stars = list(night.stars(series))
    if night.settings.measure.bodies:
        try:
            stars += _bodies(night, series)
        except StarListError as error:
            return finish(night, StationResult("measure", str(error), problem=str(error)), [], series)
    if not any(s.role == "target" for s in stars):
        problem = "no target: click it in the picture, or give its place on the sky"
        return finish(night, StationResult("measure", problem, problem=problem), [], series)
    settings = night.settings.measure
    known = what_is_known(night, series)
    working, raw_of, origin = known.ready.facts, known.raw_of, known.origin
    scores, plates = night.products_of("score"), known.plates
    options = MeasureOptions(settings.aperture, settings.centre, settings.profile)
    shared = [
        [vars(star) for star in stars], vars(options.aperture), options.centre, options.profile,
        [origin, scores[origin].values.get("print") if origin in scores else "", plates[origin].cards() if origin in plates else None],
    ]  # fmt: skip
    # Rows carry the name that tells an exposure from its namesakes.
    names = distinct_names(facts.path for facts in working.values())
    prints = {raw: fingerprint("measure", shared, k.stamp(), names[k.facts.path]) for raw, k in known.inputs.items()}
    kept = Kept(night, "rows", prints, series.key)

    def keep(path: str, result: Measured) -> None:
        kept.store(raw_of[path], "", {"rows": measured_values(result.rows), "fwhm_px": result.fwhm_px})

    rows, outcomes = measure_series(
        list(working.values()), stars, context, options=options, reference=known.reference, **known.by_path(),
        known={
            working[raw].path: Measured(measured_again(p), number_of(p.values["fwhm_px"]))
            for raw, p in kept.known.items()
        },
        arrived=keep,
    )  # fmt: skip
    good = [o for o in outcomes if o.ok]
    measured = [Product("measured", raw_of[o.file], "", {"file": o.values["file"]}) for o in good]
    night.store_products("measured", measured, series=series.key, clear=True)
    bad = [o for o in outcomes if not o.ok]
    findings = told_failures("measure", "not_measured", "measured", bad, raw_of)
    text = f"{counted(len(stars), 'star')} measured in {counted(len(good), 'exposure')}"
    if rows:
        choice = night_choice(night, rows, raw_of_name={o.values["file"]: raw_of[o.file] for o in good})
        if len(choice.tried) > 1:
            text += f", aperture {options.aperture.words(choice.radius)}"
        told = {"radius": choice.radius, "why": choice.why, "tried": [vars(t) for t in choice.tried]}
        night.store_products("aperture", [Product("aperture", series.key, "", told)], series=series.key, clear=True)
        rows = [row for row in rows if row.aperture == choice.radius]
        path = series_path(night, series)
        path.parent.mkdir(parents=True, exist_ok=True)
        write_series(path, rows, replace=True)
        table = SeriesTable(rows)
        findings += measured_findings(table, {o.values["file"]: raw_of[o.file] for o in good})
        _bring_to_magnitudes(night, series, table)
    problem = "" if rows else f"nothing was measured: {bad[0].reason}" if bad else "there is nothing to measure"
    return finish(night, StationResult("measure", text, len(good), len(bad), problem), findings, series)


def _bodies(night: Night, series: Series) -> list[ListedStar]:
    """Return the moving bodies of the table at Plate, and the one that is marked in exposures, in one with its rate.

    Raises
    ------
    StarListError
        If the table cannot be used, or the marks tell no way.
    """
    members = list(series.members)
    found = read_bodies(night.settings.plate.bodies, members) if night.settings.plate.bodies else []
    facts, plates = {f.path: f for f in members}, solutions(night)
    marks = [
        (facts[m.file], plates[m.file], m.x, m.y)
        for m in night.settings.combine.body_marks
        if m.file in facts and m.file in plates
    ]
    combine = night.settings.combine
    if marks:
        # Marks tell more than a rate that was looked up.
        rate = (combine.body_rate, combine.body_angle) if combine.body_rate is not None and len(marks) == 1 else None
        body = marked_body("body", marks, members, rate=rate)
        if isinstance(body, Failed):
            raise StarListError(body.reason)
        found.append(body)
    return found


def _bring_to_magnitudes(night: Night, series: Series, table: SeriesTable) -> None:
    """Tell the measured stars in the catalogue's magnitudes, where there is one and it knows enough of them."""
    night.store_products("standard", [], series=series.key, clear=True)
    catalogue = night.settings.plate.catalogue
    if not catalogue:
        return
    try:
        found = standard_of(table, Path(catalogue), series.filter, leave_out=night.settings.curve.leave_out)
    except CatalogueError:
        # Plate tells what is wrong with it.
        return
    if isinstance(found, Failed):
        return
    standard, known, band = found
    path = series_file(night, series, "magnitudes.csv")
    write_magnitudes(path, table, standard, known, replace=True)
    medians = {}
    for name in table.names():
        values = [
            standard.magnitude(row, known[name].colour if name in known else math.nan) for row in table.star(name)
        ]
        told = [(m, e) for m, e in values if math.isfinite(m)]
        if told:
            medians[name] = [float(np.median([m for m, _ in told])), float(np.median([e for _, e in told]))]
    limits = [zero.limit for zero in standard.zeros.values() if math.isfinite(zero.limit)]
    values_of = {
        "band": band, "colour_term": standard.colour_term, "colour_error": standard.colour_error,
        "extinction": standard.extinction, "extinction_error": standard.extinction_error, "common_error": standard.common_error,
        "zeros": {file: zero.magnitude for (file, _), zero in standard.zeros.items()},
        "used": list(standard.stars), "dropped": list(standard.dropped), "magnitudes": medians,
        "limit": float(np.median(limits)) if limits else math.nan,
    }  # fmt: skip
    night.store_products(
        "standard", [Product("standard", series.key, str(path), values_of)], series=series.key, clear=True
    )


def night_choice(night: Night, rows: Sequence[SeriesRow], raw_of_name: Mapping[str, str]) -> RadiusChoice:
    """Return the best of the measured radii; exposures and comparison stars that are left out have no say."""
    gone = night.left_out
    files_out = {name for name, raw in raw_of_name.items() if raw in gone}
    if all(row.file in files_out for row in rows):
        files_out = set()
    return choose_radius(rows, leave_out=night.settings.curve.leave_out, files_out=files_out)


@one_at_a_time
@naming_damage("curve")
def run_curve(night: Night, context: JobContext, series: Series | None = None) -> StationResult:
    """Make the light curve of a series and its fits from the series table."""
    series = series or night.current_series()
    if series is None:
        return no_series(night, "curve")
    if not series_path(night, series).exists():
        return finish(night, StationResult("curve", "no measurements", problem="measure first"), [], series)
    context.progress(0, 1, "Fitting the light curve")
    result = night_curve(night, series)
    if isinstance(result, Failed):
        finding = notice("no_curve", "There is no light curve", f"{result.reason}.")
        return finish(night, StationResult("curve", result.reason, problem=result.reason), [finding], series)
    output = curve_path(night, series)
    write_curve(output, result.curve, replace=True)
    body = result.as_json()
    night.store_products("curve", [Product("curve", series.key, str(output), body)], series=series.key, clear=True)
    context.progress(1, 1, "Fitting the light curve")
    count = int((~result.curve.left_out).sum())
    text = f"{counted(count, 'point')}, scatter {1000 * result.rms:.1f} mmag"
    return finish(night, StationResult("curve", text, count, 0, "", body), list(result.findings), series)


def night_curve(night: Night, series: Series) -> CurveResult | Failed:
    """Return the light curve of a measured series; points of exposures left out since count for nothing."""
    settings = night.settings.curve
    table = series_table(night, series)
    gone = night.left_out
    out = frozenset(file for raw, file in measured_files(night, series).items() if raw in gone)
    options = CurveOptions(
        settings.model, tuple(settings.detrend), leave_out=tuple(settings.leave_out), files_out=out, light=settings.light,
        harmonics=settings.harmonics, degree=settings.degree, law=(settings.limb_1, settings.limb_2), free_law=settings.free_law,
    )  # fmt: skip
    return make_curve(table, options)


@dataclass(frozen=True)
class Beside:
    """The light curve of another series of the field.

    Attributes
    ----------
    series : Series
    curve : LightCurve
    raws : dict of str to str
        Name in the table to the raw exposure.
    """

    series: Series
    curve: LightCurve
    raws: dict[str, str]


def curves_beside(night: Night, others: Sequence[Series]) -> tuple[Beside, ...]:
    """Return the curves of series, those that can be made."""
    result = []
    gone, leave_out = night.left_out, tuple(night.settings.curve.leave_out)
    for other in others:
        if not series_path(night, other).exists():
            continue
        files = measured_files(night, other)
        out = frozenset(file for raw, file in files.items() if raw in gone)
        curve = differential_curve(
            series_table(night, other), leave_out=leave_out, files_out=out, light=night.settings.curve.light
        )
        if not isinstance(curve, Failed):
            result.append(Beside(other, curve, {file: raw for raw, file in files.items()}))
    return tuple(result)
