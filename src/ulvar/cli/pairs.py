"""ulvar pair."""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import Annotated

import typer

from ulvar.cli.common import (
    Facts,
    Json,
    Paths,
    Replace,
    as_frames,
    check_table,
    fail_usage,
    failed_outcomes,
    finish,
    lights_of,
    read_exposures,
    running,
    told,
)
from ulvar.cli.places import given_reference, listed_place, origin_of
from ulvar.engine import OutputExists
from ulvar.flows import PAIR_COLUMNS, PairRow, PairSummary, measure_pairs, pair_cells, summarise, write_pairs


def pair(
    paths: Paths,
    first: Annotated[
        str, typer.Option(metavar="PLACE", help="First star: RA,DEC, or px:X,Y in the reference, counted from 1.")
    ],
    second: Annotated[str, typer.Option(metavar="PLACE", help="Second star, told in the same way.")],
    out: Annotated[
        Path | None,
        typer.Option(metavar="TABLE", help="Write each exposure's values here: .csv, .vot, .fits, .parquet."),
    ] = None,
    reference: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Exposure that px: places are in; the first by default.")
    ] = None,
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:
    """Measure separation and position angle of two stars in every exposure."""
    try:
        stars = listed_place("first", first), listed_place("second", second)
    except ValueError as error:
        fail_usage(str(error))
    if stars[0].on_sky != stars[1].on_sky:
        fail_usage("--first and --second are both RA,DEC or both px:X,Y")
    check_table(out, replace)
    exposures, failed, _ = read_exposures(paths, fact)
    lights, rest = lights_of(exposures)
    given = given_reference(reference, fact)
    with running(len(lights)) as context:
        origin = origin_of(given or lights[0], stars, reference is not None) if lights else None
        rows, outcomes = measure_pairs(lights, stars, context, reference=origin)
    try:
        if out is not None and rows:
            write_pairs(out, rows, replace=replace)
    except OutputExists as error:
        fail_usage(str(error))
    good = [o for o in outcomes if o.ok]
    bad = [o for o in outcomes if not o.ok] + failed_outcomes(failed)
    names, cells = [name for name, *_ in PAIR_COLUMNS], pair_cells(rows)
    summary = summarise(rows)
    lines = [f"{row.file}: {_measured(row.sky is not None, *row.measured)}{_doubts(row)}" for row in rows]
    finish(
        {
            "exposures": [dict(zip(names, values)) for values in zip(*(cells[name] for name in names))],
            "summary": None if summary is None else dataclasses.asdict(summary),
            "output": str(out) if out is not None and rows else "",
            "frames": as_frames([*outcomes, *failed_outcomes(failed), *rest]),
        },
        as_json=json, done=bool(good), failed=bool(bad),
        lines=lines + ([] if summary is None else summary_lines(summary)) + told(bad if good else [*bad, *rest]),
    )  # fmt: skip


def _doubts(row: PairRow) -> str:
    return f" ({row.flags.replace('|', ', ').replace('_', ' ')})" if row.flags else ""


def _measured(solved: bool, apart: float, error: float, angle: float, angle_error: float) -> str:
    unit, where = ("arcsec", "position angle") if solved else ("px", "angle from +x")
    return f"{apart:.4f} +- {error:.4f} {unit}, {where} {angle:.3f} +- {angle_error:.3f} deg"


def summary_lines(s: PairSummary) -> list[str]:
    """Return a pair's means in lines for the terminal."""
    unit = "arcsec" if s.solved else "px"
    lines = [
        f"mean of {s.count}: {_measured(s.solved, s.separation, s.separation_error, s.angle_deg, s.angle_error_deg)}"
    ]
    if s.count > 1:
        lines.append(
            f"scatter of one exposure {s.separation_scatter:.4f} {unit} and {s.angle_scatter_deg:.3f} deg, expected "
            f"{s.expected_separation:.4f} {unit} and {s.expected_angle_deg:.3f} deg"
        )
    lines.append(f"difference {s.difference_mag:+.4f} +- {s.difference_error_mag:.4f} mag, second less first")
    if s.outliers:
        lines.append(f"{s.outliers} left away: they stand off the others")
    if s.unsolved:
        lines.append(f"{s.unsolved} left away: they are not solved")
    return lines
