"""ulvar body."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Sequence
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
from ulvar.cli.places import body_marked
from ulvar.engine import OutputExists
from ulvar.flows import (
    POSITION_COLUMNS,
    BodySummary,
    Outcome,
    PositionRow,
    doubts_of,
    measure_positions,
    named_body,
    position_cells,
    summarise_body,
    write_positions,
)
from ulvar.frames import ExposureFacts
from ulvar.photometry import ListedStar, StarListError


def body(
    paths: Paths,
    table: Annotated[
        Path | None,
        typer.Option(metavar="FILE.csv", help="Its places by time (name, ra, dec, time_utc), or orbital elements."),
    ] = None,
    name: Annotated[str, typer.Option(metavar="NAME", help="Which body of the table; the first by default.")] = "",
    at: Annotated[
        list[str],
        typer.Option(
            "--at", metavar="FILE:X,Y", help="Instead of a table: where it is in two exposures or more, counted from 1."
        ),
    ] = [],
    rate: Annotated[
        str | None,
        typer.Option(
            "--rate",
            metavar="ARCSEC_H,ANGLE",
            help="Its speed, in arcsec an hour, and the position angle of its way, in degrees: one place is then enough.",
        ),
    ] = None,
    radius: Annotated[float, typer.Option(metavar="ARCSEC", help="How far from there it is looked for.")] = 5.0,
    out: Annotated[
        Path | None, typer.Option(metavar="TABLE", help="Write its places here: .csv, .vot, .fits, .parquet.")
    ] = None,
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:
    """Measure where a moving body is in every solved exposure."""
    if (table is None) == (not at):
        fail_usage("the body is told by --table, or by --at in two exposures or more: by one of them")
    if not (math.isfinite(radius) and radius > 0):
        fail_usage("--radius must be above 0")
    check_table(out, replace)
    exposures, failed, _ = read_exposures(paths, fact)
    lights, rest = lights_of(exposures)
    doubts = [] if table is None else doubts_of(table, lights)
    rows: list[PositionRow] = []
    outcomes: list[Outcome] = []
    if lights:
        wanted = _wanted(table, name, at, rate, lights)
        with running(len(lights)) as context:
            rows, outcomes = measure_positions(lights, wanted, context, told=table is not None, radius_arcsec=radius)
    try:
        if out is not None and rows:
            write_positions(out, rows, replace=replace)
    except OutputExists as error:
        fail_usage(str(error))
    good = [o for o in outcomes if o.ok]
    bad = [o for o in outcomes if not o.ok] + failed_outcomes(failed)
    names, cells = [column for column, *_ in POSITION_COLUMNS], position_cells(rows)
    summary = summarise_body(rows)
    finish(
        {
            "positions": [dict(zip(names, values)) for values in zip(*(cells[column] for column in names))],
            "summary": None if summary is None else dataclasses.asdict(summary),
            "output": str(out) if out is not None and rows else "",
            "doubts": doubts,
            "frames": as_frames([*outcomes, *failed_outcomes(failed), *rest]),
        },
        as_json=json, done=bool(good), failed=bool(bad),
        lines=[_line(row) for row in rows] + ([] if summary is None else _summary_lines(summary))
        + doubts + told(bad if good else [*bad, *rest]),
    )  # fmt: skip


def _wanted(
    table: Path | None, name: str, at: Sequence[str], rate: str | None, lights: Sequence[ExposureFacts]
) -> ListedStar:
    """Return the body that the options tell of; ends with what is wrong about them."""
    if table is not None:
        try:
            return named_body(table, lights, name)
        except StarListError as error:
            fail_usage(str(error))
    return body_marked(name or "body", at, lights, "--at", rate)


def _line(row: PositionRow) -> str:
    text = (
        f"{row.file}: RA {row.ra:.6f} Dec {row.dec:+.6f}, errors {row.error[0]:.3f} and {row.error[1]:.3f} arcsec, "
        f"SNR {row.fit.snr:.0f}"
    )
    if math.isfinite(row.off[0]):
        text += f", off {row.off[0]:+.2f} and {row.off[1]:+.2f} arcsec"
    return text + (f" ({row.flags.replace('|', ', ').replace('_', ' ')})" if row.flags else "")


def _summary_lines(s: BodySummary) -> list[str]:
    lines = []
    if math.isfinite(s.speed):
        lines.append(
            f"it moves {s.speed:.2f} arcsec an hour at position angle {s.angle_deg:.1f} deg, on a {'curve' if s.bent else 'straight line'}"
        )
    if math.isfinite(s.residual[0]):
        lines.append(
            f"left from the smooth way: {s.residual[0]:.3f} and {s.residual[1]:.3f} arcsec rms, "
            f"expected {s.expected[0]:.3f} and {s.expected[1]:.3f}"
        )
    if math.isfinite(s.off[0]):
        lines.append(
            f"measured less told, mean of {s.count}: {s.off[0]:+.3f} +- {s.off_error[0]:.3f} arcsec in RA, "
            f"{s.off[1]:+.3f} +- {s.off_error[1]:.3f} in Dec"
        )
    if s.outliers:
        lines.append(f"{s.outliers} left away: they stand off the way")
    return lines
