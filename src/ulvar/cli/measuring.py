"""ulvar solve, catalogue, measure, curve."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from ulvar.astrometry import CatalogueError, load_catalogue, write_tiles
from ulvar.cli.common import (
    Facts,
    Json,
    Paths,
    Replace,
    default,
    fail_usage,
    failed_outcomes,
    finish,
    given_facts,
    hinted,
    lights_of,
    option,
    plain_errors,
    read_exposures,
    running,
    told,
)
from ulvar.engine import Failed, OutputExists
from ulvar.flows import (
    CurveOptions,
    MeasureOptions,
    PlateOptions,
    hinted_cones,
    make_curve,
    make_reference,
    measure_series,
    solve_files,
)
from ulvar.frames import FrameError, parse_position, scan_file, with_user_facts
from ulvar.lightcurves import write_curve
from ulvar.photometry import ApertureOptions, StarListError, read_series, read_star_list, write_series


class Centre(StrEnum):
    """Where apertures go."""

    FORCED = "forced"
    REFINED = "refined"


class Model(StrEnum):
    """What is fitted to a light curve."""

    NONE = "none"
    ECLIPSE = "eclipse"
    TRANSIT = "transit"


def _two(text: str, option: str) -> tuple[float, float]:
    try:
        low, high = (float(part) for part in text.split(","))
    except ValueError:
        fail_usage(f"{option} takes LOW,HIGH, not '{text}'")
    if not 0 < low < high:
        fail_usage(f"{option} needs 0 < LOW < HIGH")
    return low, high


def solve(
    paths: Paths,
    catalogue: Annotated[Path, typer.Option(metavar="PATH", help="Catalogue: CSV file or folder of tiles.")],
    at: Annotated[str | None, typer.Option(metavar="RA,DEC", help="Where to start, degrees or sexagesimal.")] = None,
    radius: Annotated[float, option("plate", "radius_deg", "--radius", metavar="DEG")] = default("plate", "radius_deg"),
    scale: Annotated[str | None, typer.Option(metavar="LOW,HIGH", help="Range of pixel scales, in arcsec/px.")] = None,
    blind: Annotated[bool, typer.Option("--blind", help="Without any hint over the whole sky.")] = False,
    again: Annotated[bool, typer.Option("--again", help="Solve anew what was solved before.")] = False,
    out: Annotated[
        Path | None, typer.Option(metavar="DIR", help="Write solved copies here instead of .wcs files.")
    ] = None,
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:
    """Find where on the sky exposures are."""
    if blind:
        fail_usage(
            "--blind is not there yet; without --at the header's position is used, else the catalogue's own area"
        )
    if radius <= 0:
        fail_usage("--radius must be above 0")
    try:
        position = parse_position(at) if at else None
    except ValueError as error:
        fail_usage(str(error))
    options = PlateOptions(position, radius, _two(scale, "--scale") if scale else None, again)
    exposures, failed, _ = read_exposures(paths, fact)
    try:
        stars = load_catalogue(catalogue, near=hinted_cones(exposures, options))
    except CatalogueError as error:
        fail_usage(str(error))
    with plain_errors(), running(len(exposures)) as context:
        outcomes = solve_files(exposures, stars, context, options=options, out=out, replace_existing=replace)
    outcomes = hinted([*outcomes, *failed_outcomes(failed)])
    good = [o for o in outcomes if o.ok]
    keys = ("ra", "dec", "scale_arcsec_px", "rotation_deg", "flipped", "matched", "rms_arcsec", "seconds")
    frames = [
        {
            "file": o.file,
            "output": o.output,
            "solved": o.ok,
            "ok": o.ok,
            "reason": o.reason,
            "skipped": o.skipped,
        }
        | {key: o.values.get(key) for key in keys}
        for o in outcomes
    ]
    lines = [
        f"{Path(o.file).name}: RA {o.values['ra']:.5f} Dec {o.values['dec']:+.5f}, "
        f"{o.values['scale_arcsec_px']:.4f} arcsec/px, rotation {o.values['rotation_deg']:.2f} deg"
        + (f", {o.values['matched']} stars, rms {o.values['rms_arcsec']:.2f} arcsec" if o.values["matched"] else "")
        for o in good
    ]
    finish(
        {"frames": frames},
        as_json=json,
        done=len(good),
        failed=len(outcomes) - len(good),
        lines=lines + told(outcomes),
    )


def catalogue_import(
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="CSV files with ra and dec in degrees.")],
    out: Annotated[Path, typer.Option(metavar="DIR", help="Folder of the tiles.")],
    json: Json = False,
) -> None:
    """Turn star tables into a local catalogue of tiles."""
    catalogues, problems = [], []
    for path in files:
        if not path.exists():
            fail_usage(f"{path}: there is no such file")
        try:
            catalogues.append(load_catalogue(path))
        except CatalogueError as error:
            problems.append(str(error))
    with plain_errors():
        stars, tiles = write_tiles(catalogues, out)
    finish(
        {"stars": stars, "tiles": tiles, "failed": problems}, as_json=json, done=len(catalogues), failed=len(problems),
        lines=[f"{stars} stars in {tiles} tiles", *problems],
    )  # fmt: skip


def catalogue_fetch(
    service: Annotated[str, typer.Option(metavar="URL", help="Cone search service.")],
    at: Annotated[str, typer.Option(metavar="RA,DEC")],
    radius: Annotated[float, typer.Option(metavar="DEG")],
    out: Annotated[Path, typer.Option(metavar="DIR")],
    json: Json = False,
) -> None:
    """Fetch stars from a cone search service (not there yet)."""
    fail_usage("fetching from a service is not there yet; download a CSV table and use: ulvar catalogue import")


def measure(
    paths: Paths,
    stars: Annotated[Path, typer.Option(metavar="FILE.csv", help="Stars: name, role and ra, dec or x, y.")],
    out: Annotated[Path, typer.Option(metavar="TABLE", help="The series table (.csv).")],
    aperture: Annotated[
        str, typer.Option(metavar="6|1.5fwhm", help="Aperture radius in px, or in FWHM of each exposure.")
    ] = f"{default('measure', 'radius'):g}fwhm",
    annulus: Annotated[str | None, typer.Option(metavar="IN,OUT", help="Sky annulus, in px.")] = None,
    centre: Annotated[Centre, option("measure", "centre")] = Centre(default("measure", "centre")),
    reference: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Exposure that x, y refer to; the first by default.")
    ] = None,
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:
    """Measure stars in a series of exposures."""
    try:
        options = MeasureOptions(ApertureOptions.parse(aperture, annulus), centre is Centre.REFINED)
        listed = read_star_list(stars)
    except (ValueError, StarListError) as error:
        fail_usage(str(error))
    if out.suffix.lower() not in (".csv", ".txt"):
        fail_usage(f"{out}: series tables are written as .csv so far")
    if out.exists() and not replace:
        fail_usage(f"{out} exists; it is kept (see --replace)")
    exposures, failed, _ = read_exposures(paths, fact)
    lights, rest = lights_of(exposures)
    origin = None
    if lights:
        facts = lights[0]
        if reference is not None:
            try:
                facts = with_user_facts(scan_file(str(reference)), given_facts(fact))
            except FrameError as error:
                fail_usage(str(error))
        found = make_reference(facts)
        if isinstance(found, Failed):
            if reference is not None or any(not s.on_sky for s in listed):
                fail_usage(f"{facts.path}: the reference cannot be used: {found.reason}")
        else:
            origin = found
    with plain_errors(), running(len(lights)) as context:
        rows, outcomes = measure_series(lights, listed, context, options=options, reference=origin)
        try:
            if rows:
                write_series(out, rows, replace=replace)
        except OutputExists as error:
            fail_usage(str(error))
    outcomes = [*outcomes, *failed_outcomes(failed)]
    good = sum(o.ok for o in outcomes)
    frames = [{"file": o.file, "ok": o.ok, "reason": o.reason} for o in [*outcomes, *rest]]
    lines = [f"{out}: {len(rows)} rows of {len(listed)} stars in {good} exposures", *told(outcomes)]
    finish(
        {"rows": len(rows), "output": str(out) if rows else "", "frames": frames}, as_json=json, done=good,
        failed=len(outcomes) - good, lines=lines,
    )  # fmt: skip


def curve(
    table: Annotated[Path, typer.Argument(metavar="TABLE", help="A series table of ulvar measure.")],
    out: Annotated[Path, typer.Option(metavar="FILE", help="The light curve (.csv).")],
    detrend: Annotated[str, typer.Option(metavar="a,b", help="Linear terms: airmass, fwhm, sky, x, y, time.")] = "",
    model: Annotated[Model, typer.Option(help="What to fit.")] = Model.NONE,
    period: Annotated[str | None, typer.Option(metavar="LOW,HIGH", help="Search a period in this range, in d.")] = None,
    target: Annotated[str | None, typer.Option(metavar="NAME", help="Star; the first target by default.")] = None,
    leave_out: Annotated[str, typer.Option(metavar="a,b", help="Comparison stars not to use.")] = "",
    json: Json = False,
    replace: Replace = False,
) -> None:
    """Make a differential light curve, and fit it."""
    if not table.exists():
        fail_usage(f"{table}: there is no such file")
    if model is Model.TRANSIT:
        fail_usage("--model transit is not there yet; there are none and eclipse")
    if out.exists() and not replace:
        fail_usage(f"{out} exists; it is kept (see --replace)")
    options = CurveOptions(
        model.value, tuple(t.strip() for t in detrend.split(",") if t.strip()),
        _two(period, "--period") if period else None, target,
        tuple(t.strip() for t in leave_out.split(",") if t.strip()),
    )  # fmt: skip
    try:
        result = make_curve(read_series(table), options)
    except (ValueError, StarListError) as error:
        fail_usage(str(error))
    if isinstance(result, Failed):
        finish(
            {"points": 0, "rms": None, "fit": None, "period": None, "reason": result.reason}, as_json=json, done=0,
            failed=1, lines=[result.reason],
        )  # fmt: skip
    with plain_errors():
        write_curve(out, result.curve, replace=replace)
    body = result.as_json()
    lines = [f"{out}: {body['points']} points of {body['target']}, scatter {1000 * result.rms:.1f} mmag"]
    if body["fit"]:
        fit = body["fit"]
        lines.append(
            f"mid {fit['mid_bjd_tdb']:.6f} +- {fit['mid_error_d']:.6f} BJD_TDB, depth {fit['depth_mag']:.4f} +- "
            f"{fit['depth_error_mag']:.4f} mag, duration {24 * fit['duration_d']:.3f} h"
        )
    if body["period"]:
        found_period = body["period"]
        lines.append(
            f"period {found_period['period_d']:.6f} +- {found_period['period_error_d']:.6f} d, "
            f"false alarm {found_period['false_alarm']:.2g}"
        )
    wanted_fit = model is Model.ECLIPSE and body["fit"] is None
    finish(
        {"output": str(out), **body}, as_json=json, done=1, failed=int(wanted_fit), lines=lines + body["notes"],
        findings=result.findings,
    )  # fmt: skip
