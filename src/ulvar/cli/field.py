"""ulvar variables, candidates, aperture, magnitudes."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Annotated, Any

import numpy as np
import typer

from ulvar.astrometry import CatalogueError
from ulvar.cli.common import (
    Facts,
    Json,
    Paths,
    Replace,
    SeriesName,
    as_frames,
    check_table,
    check_table_name,
    fail_usage,
    failed_outcomes,
    finish,
    lights_of,
    names_in,
    numbers_in,
    output_of,
    plain,
    read_exposures,
    running,
    series_among,
    told,
    with_error,
)
from ulvar.cli.places import given_reference, listed_place, origin_of
from ulvar.engine import Failed, counted, write_csv
from ulvar.flows import (
    MeasureOptions,
    Outcome,
    catalogue_tells,
    find_looks,
    measure_field,
    measure_growths,
    standard_of,
    typical_of,
    write_field,
    write_magnitudes,
)
from ulvar.frames import ExposureFacts
from ulvar.photometry import (
    ApertureOptions,
    Known,
    SeriesTable,
    Standard,
    StarListError,
    judge_candidates,
    judge_field,
    propose_aperture,
    read_series,
    standard_of_one,
)

ReferenceFile = Annotated[
    Path | None, typer.Option(metavar="FILE", help="Exposure that places and stars are those of; the first by default.")
]
Target = Annotated[str, typer.Option(metavar="RA,DEC|px:X,Y", help="The target, on the sky or in the reference.")]
# Candidates that are told in words.
_TOLD = 12
_Lights = tuple[list[ExposureFacts], list[Failed], list[Outcome]]


def variables(
    paths: Paths,
    out: Annotated[Path, typer.Option(metavar="TABLE", help="All stars of the field: .csv, .vot, .fits, .parquet.")],
    aperture: Annotated[
        str, typer.Option(metavar="6|1.5fwhm", help="Aperture radius in px, or in FWHM of each exposure.")
    ] = "1.7fwhm",
    annulus: Annotated[str | None, typer.Option(metavar="IN,OUT", help="Sky annulus, in px.")] = None,
    reference: ReferenceFile = None,
    series: SeriesName = None,
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:
    """Measure every star of a field in each series of exposures, and name those that vary."""
    try:
        options = MeasureOptions(ApertureOptions.parse(aperture, annulus))
    except ValueError as error:
        fail_usage(str(error))
    if options.aperture.others:
        fail_usage("--aperture takes one radius here")
    check_table_name(out)
    lights, failed, rest = _lights(paths, fact)
    chosen = series_among(lights, series) if lights else []
    outputs = [output_of(out, one.key, len(chosen) > 1) for one in chosen]
    for output in outputs:
        if output.exists() and not replace:
            fail_usage(f"{output} exists; it is kept (see --replace)")
    given = given_reference(reference, fact)
    frames, lines, bodies, bad = [], [], [], list(rest)
    done = False
    with running(len(lights)) as context:
        for one, output in zip(chosen, outputs):
            members = list(one.members)
            origin = origin_of(given or members[0], [], True)
            assert origin is not None
            try:
                rows, outcomes, stars = measure_field(members, context, origin, options=options)
                search = judge_field(SeriesTable(rows))
            except ValueError as error:
                bad.append(Outcome(origin.path, False, str(error)))
                continue
            write_field(output, search, stars, origin.wcs, replace=replace)
            bad += [o for o in outcomes if not o.ok]
            frames += as_frames(outcomes, series=one.key)
            done |= any(o.ok for o in outcomes)
            places = {s.name: s for s in stars}
            found = []
            for star in search.variables:
                at = places[star.verdict.name]
                assert at.x is not None and at.y is not None
                ra, dec = (None, None) if origin.wcs is None else origin.wcs.sky(at.x, at.y)
                found.append(
                    {**vars(star.verdict), "ratio": star.verdict.ratio, "x": at.x, "y": at.y, "ra": ra, "dec": dec}
                )
            bodies.append(
                {
                    "series": one.key, "output": str(output), "stars": len(search.stars), "exposures": search.exposures,
                    "noise": vars(search.noise), "variables": found,
                }
            )  # fmt: skip
            lines.append(
                f"{output}: {counted(len(search.stars), 'star')} in {counted(search.exposures, 'exposure')}, {len(found)} vary"
            )
            lines += [
                f"  {v['name']} at {v['x']:.1f}, {v['y']:.1f}: {1086 * v['scatter']:.1f} mmag, {v['ratio']:.1f} times what is usual"
                for v in found
            ]
    bad += failed_outcomes(failed)
    frames += as_frames([*failed_outcomes(failed), *rest], series="")
    first: dict[str, Any] = bodies[0] if bodies else {"output": "", "stars": 0, "exposures": 0, "variables": []}
    finish(
        plain({**first, "series": bodies, "frames": frames}),
        as_json=json,
        done=done,
        failed=bool(bad),
        lines=lines + told(bad),
    )


def candidates(
    paths: Paths,
    target: Target,
    out: Annotated[
        Path | None, typer.Option(metavar="FILE.csv", help="Write the target and the best as a list for ulvar measure.")
    ] = None,
    count: Annotated[int, typer.Option(metavar="N", help="So many comparison stars are written.", min=1, max=100)] = 6,
    catalogue: Annotated[
        Path | None, typer.Option(metavar="PATH", help="Star catalogue, for colours and known variables.")
    ] = None,
    reference: ReferenceFile = None,
    series: SeriesName = None,
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:
    """Propose comparison stars for a target, each star of the field with what speaks against it."""
    try:
        listed = listed_place("target", target)
    except ValueError as error:
        fail_usage(str(error))
    check_table(out, replace)
    lights, failed, rest = _lights(paths, fact)
    chosen = series_among(lights, series) if lights else []
    if len(chosen) > 1:
        fail_usage(f"there are several series: name one with --series ({', '.join(s.key for s in chosen)})")
    if not chosen:
        none = [*failed_outcomes(failed), *rest]
        finish({"candidates": [], "frames": as_frames(none)}, as_json=json, done=False, lines=told(none))
    members = list(chosen[0].members)
    origin = origin_of(given_reference(reference, fact) or members[0], [listed], True)
    assert origin is not None
    x, y = listed.x, listed.y
    if listed.ra is not None and listed.dec is not None:
        if origin.wcs is None:
            fail_usage(
                f"{origin.path} has no plate solution, which a target on the sky needs: solve it, or give px:X,Y"
            )
        x, y = (float(v) for v in origin.wcs.pixel(listed.ra, listed.dec))
    found_as = origin.stars.nearest(x or 0.0, y or 0.0, 5.0)
    if found_as is None:
        fail_usage(f"no star was found within 5 px of {target} in {Path(origin.path).name}")
    colour = variable = None
    name = ""
    if catalogue is not None:
        if origin.wcs is None:
            fail_usage(f"{origin.path} has no plate solution, which --catalogue needs")
        try:
            colour, variable, name = catalogue_tells(catalogue, members[0], origin.wcs, origin.stars)
        except CatalogueError as error:
            fail_usage(str(error))
    with running(len(members)) as context:
        looks, outcomes = find_looks(typical_of(members), origin, context)
    sharp = [look.fwhm_px for look in looks if math.isfinite(look.fwhm_px)]
    found = judge_candidates(
        origin.stars, found_as, looks, fwhm_px=float(np.median(sharp)) if sharp else 3.0, colour=colour,
        variable=variable,
    )  # fmt: skip
    good = [c for c in found if c.good]
    if out is not None:
        rows: list[tuple[Any, ...]] = [("target", "target", origin.stars.x[found_as], origin.stars.y[found_as])]
        rows += [(f"c{k + 1}", "comparison", c.x, c.y) for k, c in enumerate(good[:count])]
        write_csv(
            out, ("name", "role", "x", "y"), [(n, r, f"{a:.3f}", f"{b:.3f}") for n, r, a, b in rows], replace=replace
        )
    bad = [*(o for o in outcomes if not o.ok), *failed_outcomes(failed)]
    lines = [f"{len(good)} of {len(found)} stars have nothing against them, in {counted(len(looks), 'exposure')}"]
    lines += [
        f"  {c.x:7.1f} {c.y:7.1f}  {c.fainter_mag:+.2f} mag"
        + (f", {name} {c.redder_mag:+.2f}" if math.isfinite(c.redder_mag) else "")
        for c in good[:_TOLD]
    ]
    frames = as_frames([*outcomes, *failed_outcomes(failed), *rest])
    body = {
        "output": "" if out is None else str(out), "colour": name, "exposures": len(looks),
        "candidates": [{**vars(c), "good": c.good} for c in found], "frames": frames,
    }  # fmt: skip
    finish(plain(body), as_json=json, done=bool(looks), failed=bool(bad), lines=lines + told(bad))


def aperture(
    paths: Paths,
    target: Target,
    reference: ReferenceFile = None,
    series: SeriesName = None,
    json: Json = False,
    fact: Facts = [],
) -> None:
    """Try apertures on a target in exposures spread over a series, and propose one."""
    try:
        listed = listed_place("target", target)
    except ValueError as error:
        fail_usage(str(error))
    lights, failed, rest = _lights(paths, fact)
    chosen = series_among(lights, series) if lights else []
    bodies, lines, frames, done = [], [], [*failed_outcomes(failed), *rest], False
    given = given_reference(reference, fact)
    with running(len(lights)) as context:
        for one in chosen:
            members = list(one.members)
            origin = origin_of(given or members[0], [listed], reference is not None)
            growths, outcomes = measure_growths(typical_of(members, 9), [listed], context, reference=origin)
            frames += outcomes
            done |= bool(growths)
            if not growths:
                continue
            # The sharpest, a typical and the widest of those that were looked at.
            ordered = sorted(growths, key=lambda g: g.fwhm_px)
            three = list({id(g): g for g in (ordered[0], ordered[len(ordered) // 2], ordered[-1])}.values())
            proposal = propose_aperture(three)
            bodies.append({"series": one.key, **vars(proposal), "growths": [vars(g) for g in three]})
            lines.append(
                f"{one.title}: {proposal.radius_fwhm:g} FWHM, annulus {proposal.inner_px:g},{proposal.outer_px:g} px; "
                + "; ".join(proposal.why)
            )
    first: dict[str, Any] = bodies[0] if bodies else {}
    body = plain({**first, "series": bodies, "frames": as_frames(frames)})
    finish(body, as_json=json, done=done, failed=not all(o.ok for o in frames), lines=lines + told(frames))


def magnitudes(
    table: Annotated[
        Path, typer.Argument(metavar="TABLE", help="A series table of ulvar measure, of solved exposures.")
    ],
    out: Annotated[Path, typer.Option(metavar="FILE", help="Every star in magnitudes: .csv, .vot, .fits, .parquet.")],
    catalogue: Annotated[
        Path | None, typer.Option(metavar="PATH", help="Star catalogue: CSV file or folder of tiles.")
    ] = None,
    star: Annotated[
        str | None, typer.Option(metavar="NAME=MAG", help="One star of known magnitude, instead of a catalogue.")
    ] = None,
    band: Annotated[
        str, typer.Option(metavar="NAME", help="Band of the catalogue; what it sorts by unless given.")
    ] = "",
    leave_out: Annotated[str, typer.Option(metavar="a,b", help="Stars that do not count.")] = "",
    json: Json = False,
    replace: Replace = False,
) -> None:
    """Bring a measured series to a catalogue's magnitudes: zero points, colour term, extinction, limits."""
    check_table(out, replace)
    if (catalogue is None) == (star is None):
        fail_usage("magnitudes are told by --catalogue PATH, or by --star NAME=MAG")
    found: tuple[Standard, dict[str, Known], str] | Failed
    try:
        series = read_series(table)
        if star is not None:
            called, sign, told_mag = star.rpartition("=")
            if not sign:
                raise ValueError(f"--star takes NAME=MAG, not '{star}'")
            (magnitude,) = numbers_in(told_mag, "--star", "NAME=MAG", 1)
            one = standard_of_one(series, called.strip(), magnitude)
            found = one if isinstance(one, Failed) else (one, {}, "of the star")
        else:
            assert catalogue is not None
            out_of_it = names_in(leave_out)
            found = standard_of(series, catalogue, "", band=band, leave_out=out_of_it)
    except (StarListError, CatalogueError, ValueError) as error:
        fail_usage(str(error))
    if isinstance(found, Failed):
        finish({"output": "", "reason": found.reason}, as_json=json, done=False, lines=[f"{table}: {found.reason}"])
    standard, known, name = found
    write_magnitudes(out, series, standard, known, replace=replace)
    values = {key: value for key, value in vars(standard).items() if key != "zeros"}
    zeros = [{"file": file, "jd_utc": jd, **vars(zero)} for (file, jd), zero in standard.zeros.items()]
    lines = [
        f"{out}: {counted(len(zeros), 'exposure')} by the star {standard.stars[0]}"
        if star is not None
        else f"{out}: {counted(len(standard.stars), 'star')} of the catalogue, band {name}, in {counted(len(zeros), 'exposure')}"
    ]
    if math.isfinite(standard.star_scatter):
        lines.append(
            f"  they agree to {1000 * standard.star_scatter:.2g} mmag; all magnitudes share {1000 * standard.common_error:.2g} mmag"
        )
    if math.isfinite(standard.colour_error):
        lines.append(f"  colour term {with_error(standard.colour_term, standard.colour_error)}")
    if math.isfinite(standard.extinction):
        lines.append(f"  extinction {with_error(standard.extinction, standard.extinction_error)} mag for each airmass")
    if standard.dropped:
        lines.append(f"  not used, as they stand off: {', '.join(standard.dropped)}")
    body = {"output": str(out), "band": name, **values, "zeros": zeros}
    finish(plain(body), as_json=json, done=True, lines=lines)


def _lights(paths: Any, fact: list[str]) -> _Lights:
    exposures, failed, _ = read_exposures(paths, fact)
    lights, rest = lights_of(exposures)
    return lights, failed, rest
