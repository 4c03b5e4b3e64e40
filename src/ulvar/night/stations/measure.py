"""Measure and Curve: series photometry and the light curve of it."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry import Wcs
from ulvar.engine import Failed, JobContext, counted
from ulvar.flows import (
    CurveOptions,
    CurveResult,
    Measured,
    MeasureOptions,
    Reference,
    make_curve,
    measure_series,
    read_stars,
)
from ulvar.frames import ExposureFacts, distinct_names, fingerprint, identity
from ulvar.inspection import notice
from ulvar.lightcurves import write_curve
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.stations.plate import solutions
from ulvar.night.stations.resuming import Kept, measured_again, measured_values
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
from ulvar.stars import StarTable, Trail


def series_path(night: Night) -> Path:
    """Where the series table of the night is."""
    return night.products / "series.csv"


def curve_path(night: Night) -> Path:
    """Where the light curve of the night is."""
    return night.products / "curve.csv"


@dataclass(frozen=True)
class _Known:
    """What earlier stations know of one exposure, as measuring takes it."""

    facts: ExposureFacts
    wcs: Wcs | None = None
    transform: Transform | None = None
    fwhm_px: float = math.nan
    detected: StarTable | None = None
    trails: tuple[Trail, ...] = ()
    # The fingerprint of the stars that were found.
    found: str = ""

    def stamp(self) -> list[Any]:
        """Return what the exposure's measurements depend on, for a fingerprint."""
        matrix = None if self.transform is None else self.transform.matrix.tolist()
        return [identity(self.facts), self.found, matrix, None if self.wcs is None else self.wcs.cards()]


def _known(night: Night, raw: str, facts: ExposureFacts, score: Product | None, wcs: Wcs | None) -> _Known:
    if score is None:
        return _Known(facts, wcs)
    v = score.values
    table = star_table_path(night, score)
    transform = None
    if v["matrix"] is not None:
        transform = Transform(np.array(v["matrix"]), number_of(v["residual_px"]), v["matched"])
    # Of its light nothing is needed, only where a trail runs.
    trails = tuple(Trail(*ends, width, math.nan, math.nan) for *ends, width in v.get("trail_lines") or ())  # type: ignore[call-arg]
    return _Known(
        facts, wcs, transform, number_of(v["fwhm_px"]), read_stars(table) if table.exists() else None, trails,
        str(v.get("print") or ""),
    )  # fmt: skip


def run_measure(night: Night, context: JobContext) -> StationResult:
    """Measure the night's stars in every working exposure of the filter."""
    stars = night.stars()
    if not any(s.role == "target" for s in stars):
        problem = "no target: click it in the picture, or propose stars"
        return finish(night, StationResult("measure", problem, problem=problem), [])
    settings = night.settings.measure
    name = working_filter(night)
    working = {raw: f for raw, f in working_exposures(night).items() if f.filter == name}
    raw_of = {facts.path: raw for raw, facts in working.items()}
    scores, plates = night.products_of("score"), solutions(night)
    inputs = {raw: _known(night, raw, facts, scores.get(raw), plates.get(raw)) for raw, facts in working.items()}
    origins = {scores[raw].values["reference"] for raw in working if raw in scores}
    origin = next((raw for raw, p in scores.items() if p.output in origins), "")
    reference = _reference(night, scores.get(origin), plates.get(origin))
    options = MeasureOptions(
        ApertureOptions(settings.radius, settings.in_fwhm, settings.inner_px, settings.outer_px),
        settings.centre == "refined",
    )
    shared = [
        [vars(star) for star in stars], vars(options.aperture), options.refined,
        inputs[origin].stamp() if origin in inputs else origin,
    ]  # fmt: skip
    # Rows carry the name that tells an exposure from its namesakes.
    names = distinct_names(facts.path for facts in working.values())
    prints = {raw: fingerprint("measure", shared, k.stamp(), names[k.facts.path]) for raw, k in inputs.items()}
    kept = Kept(night, "rows", prints)

    def keep(path: str, result: Measured) -> None:
        kept.store(raw_of[path], "", {"rows": measured_values(result.rows), "fwhm_px": result.fwhm_px})

    by_path = {known.facts.path: known for known in inputs.values()}
    rows, outcomes = measure_series(
        list(working.values()), stars, context, options=options, reference=reference,
        solutions={path: k.wcs for path, k in by_path.items() if k.wcs is not None},
        transforms={path: k.transform for path, k in by_path.items() if k.transform is not None},
        fwhm={path: k.fwhm_px for path, k in by_path.items()},
        detected={path: k.detected for path, k in by_path.items() if k.detected is not None},
        trails={path: k.trails for path, k in by_path.items()},
        known={
            working[raw].path: Measured(measured_again(p), number_of(p.values["fwhm_px"]))
            for raw, p in kept.known.items()
        },
        arrived=keep,
    )  # fmt: skip
    good = [o for o in outcomes if o.ok]
    measured = [Product("measured", raw_of[o.file], "", {"file": o.values["file"]}) for o in good]
    night.store_products("measured", measured, clear=True)
    bad = [o for o in outcomes if not o.ok]
    findings = told_failures("measure", "not_measured", "measured", bad, raw_of)
    if rows:
        write_series(series_path(night), rows, replace=True)
    problem = "" if rows else f"nothing was measured: {bad[0].reason}" if bad else "there is nothing to measure"
    text = f"{len(stars)} stars measured in {len(good)} exposures"
    return finish(night, StationResult("measure", text, len(good), len(bad), problem), findings)


def _reference(night: Night, score: Product | None, wcs: Wcs | None) -> Reference | None:
    if score is None:
        return None
    table = star_table_path(night, score)
    return Reference(score.output, read_stars(table), wcs) if table.exists() else None


def run_curve(night: Night, context: JobContext) -> StationResult:
    """Make the light curve and its fits from the series table."""
    table_path = series_path(night)
    if not table_path.exists():
        return finish(night, StationResult("curve", "no measurements", problem="measure first"), [])
    context.progress(0, 1, "Fitting the light curve")
    result = night_curve(night)
    if isinstance(result, Failed):
        finding = notice("no_curve", "There is no light curve", f"{result.reason}.")
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
