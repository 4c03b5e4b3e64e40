"""ulvar solve and measure."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from ulvar.astrometry import CatalogueError
from ulvar.cli.common import (
    Facts,
    Json,
    Paths,
    Replace,
    SeriesName,
    as_frames,
    check_table_name,
    default,
    fail_usage,
    failed_outcomes,
    finish,
    hinted,
    lights_of,
    low_high,
    option,
    output_of,
    plain,
    read_exposures,
    running,
    series_among,
    told,
)
from ulvar.cli.places import body_marked, given_reference, origin_of
from ulvar.engine import OutputExists, counted
from ulvar.flows import (
    MeasureOptions,
    PlateOptions,
    Series,
    measure_series,
    open_catalogue,
    read_bodies,
    solve_files,
)
from ulvar.frames import ExposureFacts, parse_position
from ulvar.inspection import Finding, measured_findings
from ulvar.photometry import (
    ApertureOptions,
    RadiusChoice,
    SeriesTable,
    StarListError,
    choose_radius,
    read_star_list,
    write_series,
)


class Centre(StrEnum):
    """Where apertures go."""

    FORCED = "forced"
    REFINED = "refined"
    MOMENTS = "moments"
    TOGETHER = "together"


class SkyBy(StrEnum):
    """How the sky is taken from the annulus."""

    MEDIAN = "median"
    MEAN = "mean"
    MODE = "mode"
    PLANE = "plane"


def solve(
    paths: Paths,
    catalogue: Annotated[Path, typer.Option(metavar="PATH", help="Catalogue: CSV file or folder of tiles.")],
    at: Annotated[str | None, typer.Option(metavar="RA,DEC", help="Where to start, degrees or sexagesimal.")] = None,
    radius: Annotated[float, option("plate", "radius_deg", "--radius", metavar="DEG")] = default("plate", "radius_deg"),
    scale: Annotated[str | None, typer.Option(metavar="LOW,HIGH", help="Range of pixel scales, in arcsec/px.")] = None,
    blind: Annotated[
        bool, typer.Option("--blind", help="Without any hint, over the whole sky of the catalogue.")
    ] = False,
    seconds: Annotated[float, option("plate", "seconds", "--seconds", metavar="S")] = default("plate", "seconds"),
    again: Annotated[bool, typer.Option("--again", help="Solve anew what was solved before.")] = False,
    out: Annotated[
        Path | None, typer.Option(metavar="DIR", help="Write solved copies here instead of .wcs files.")
    ] = None,
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:
    """Find where on the sky exposures are."""
    if blind and at:
        fail_usage("--blind takes no hint: leave --at out, or --blind")
    if radius <= 0 or seconds <= 0:
        fail_usage("--radius and --seconds must be above 0")
    try:
        position = parse_position(at) if at else None
    except ValueError as error:
        fail_usage(str(error))
    options = PlateOptions(position, radius, low_high(scale, "--scale") if scale else None, again, blind, seconds)
    exposures, failed, _ = read_exposures(paths, fact)
    with running(len(exposures)) as context:
        try:
            stars, whole = open_catalogue(str(catalogue), exposures, options, context)
        except CatalogueError as error:
            fail_usage(str(error))
        outcomes = solve_files(
            exposures, stars, context, options=options, out=out, replace_existing=replace, whole=whole
        )
    outcomes = hinted([*outcomes, *failed_outcomes(failed)])
    good = [o for o in outcomes if o.ok]
    keys = (
        "ra", "dec", "scale_arcsec_px", "rotation_deg", "flipped", "matched", "rms_arcsec", "seconds", "stated", "stated_off_arcsec",
    )  # fmt: skip
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
        + (
            f"; its header's own solution is wrong by {o.values['stated_off_arcsec']:.0f} arcsec"
            if o.values.get("stated") == "wrong"
            else ""
        )
        for o in good
    ]
    finish(
        {"frames": frames},
        as_json=json,
        done=bool(good),
        failed=len(good) < len(outcomes),
        lines=lines + told(outcomes),
    )


def measure(
    paths: Paths,
    stars: Annotated[Path, typer.Option(metavar="FILE.csv", help="Stars: name, role and ra, dec or x, y.")],
    out: Annotated[Path, typer.Option(metavar="TABLE", help="The series table: .csv, .vot, .fits, .parquet.")],
    aperture: Annotated[
        str,
        typer.Option(
            metavar="6|1.5fwhm",
            help="Aperture radius in px, or in FWHM of each exposure. Of several (1.2,1.5,2fwhm) the best one is used.",
        ),
    ] = f"{default('measure', 'radius'):g}fwhm",
    annulus: Annotated[str | None, typer.Option(metavar="IN,OUT", help="Sky annulus, in px.")] = None,
    centre: Annotated[Centre, option("measure", "centre")] = Centre(default("measure", "centre")),
    sky: Annotated[SkyBy, option("measure", "sky")] = SkyBy(default("measure", "sky")),
    elliptical: Annotated[bool, option("measure", "elliptical", "--elliptical")] = default("measure", "elliptical"),
    profile: Annotated[bool, option("measure", "profile", "--profile")] = default("measure", "profile"),
    reference: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Exposure that x, y refer to; the first by default.")
    ] = None,
    bodies: Annotated[
        Path | None,
        typer.Option(metavar="FILE.csv", help="Moving bodies, too: their places by time, or orbital elements."),
    ] = None,
    body_at: Annotated[
        list[str],
        typer.Option(metavar="FILE:X,Y", help="A moving body, marked in two solved exposures or more; counted from 1."),
    ] = [],
    body_rate: Annotated[
        str | None,
        typer.Option(
            "--body-rate",
            metavar="ARCSEC_H,ANGLE",
            help="Its speed, in arcsec an hour, and the position angle of its way, in degrees: one place is then enough.",
        ),
    ] = None,
    series: SeriesName = None,
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:
    """Measure stars in each series of exposures, into a table of its own."""
    try:
        options = MeasureOptions(
            ApertureOptions.parse(aperture, annulus, sky=sky.value, elliptical=elliptical), centre.value, profile
        )
        listed = read_star_list(stars)
    except (ValueError, StarListError) as error:
        fail_usage(str(error))
    check_table_name(out)
    if body_rate is not None and not body_at:
        fail_usage("--body-rate needs a place: --body-at FILE:X,Y")
    exposures, failed, _ = read_exposures(paths, fact)
    lights, rest = lights_of(exposures)
    if bodies is not None and lights:
        try:
            listed = [*listed, *read_bodies(bodies, lights)]
        except StarListError as error:
            fail_usage(str(error))
    if body_at and lights:
        listed = [*listed, body_marked("body", body_at, lights, "--body-at", body_rate)]
    sets: list[tuple[Series | None, Path, list[ExposureFacts]]] = [(None, out, [])]
    if lights:
        chosen = series_among(lights, series)
        sets = [(one, output_of(out, one.key, len(chosen) > 1), list(one.members)) for one in chosen]
    for _, output, _ in sets:
        if output.exists() and not replace:
            fail_usage(f"{output} exists; it is kept (see --replace)")
    given = given_reference(reference, fact)
    frames, lines, told_series, bad, good_count, total = [], [], [], [], 0, 0
    found: list[Finding] = []
    with running(len(lights)) as context:
        for one, output, members in sets:
            origin = origin_of(given or members[0], listed, reference is not None) if members else None
            rows, outcomes = measure_series(members, listed, context, options=options, reference=origin)
            choice = choose_radius(rows) if rows else None
            if choice is not None:
                rows = [row for row in rows if row.aperture == choice.radius]
            try:
                if rows:
                    write_series(output, rows, replace=replace)
            except OutputExists as error:
                fail_usage(str(error))
            good = sum(o.ok for o in outcomes)
            name = one.key if one else ""
            frames += as_frames(outcomes, series=name)
            told_series.append(
                {
                    "name": name,
                    "title": one.title if one else "",
                    "rows": len(rows),
                    "output": str(output) if rows else "",
                    "aperture": None if choice is None else choice.radius,
                    "aperture_by": "" if choice is None else choice.why,
                    "apertures": [] if choice is None else [plain(vars(tried)) for tried in choice.tried],
                }
            )
            lines.append(
                f"{output}: {counted(len(rows), 'row')} of {counted(len(listed), 'star')} in {counted(good, 'exposure')}"
            )
            found += measured_findings(SeriesTable(rows), {o.values["file"]: o.file for o in outcomes if o.ok})
            if choice is not None and len(choice.tried) > 1:
                lines += _tried_lines(choice, options.aperture)
            bad += [o for o in outcomes if not o.ok]
            good_count, total = good_count + good, total + len(rows)
    bad += failed_outcomes(failed)
    frames += as_frames([*failed_outcomes(failed), *rest], series="")
    written = [s["output"] for s in told_series if s["output"]]
    finish(
        {"rows": total, "output": written[0] if written else "", "frames": frames, "series": told_series}, as_json=json,
        done=bool(good_count), failed=bool(bad), lines=lines + told(bad if good_count else [*bad, *rest]), findings=found,
    )  # fmt: skip


def _tried_lines(choice: RadiusChoice, aperture: ApertureOptions) -> list[str]:
    """Return what became of several apertures."""
    lines = []
    for tried in choice.tried:
        words = [f"  aperture {aperture.words(tried.radius):10}"]
        if tried.scatter == tried.scatter:
            words.append(f"comparison stars scatter by {1086 * tried.scatter:.2f} mmag")
        if tried.target_snr == tried.target_snr:
            words.append(f"target SNR {tried.target_snr:.0f}")
        lines.append(", ".join(words) + ("  <- used" if tried.radius == choice.radius else ""))
    return lines
