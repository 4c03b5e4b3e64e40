"""ulvar ephemeris, rotation, exchange: what is made of light curves of many nights."""

from __future__ import annotations

import math
import sys
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any

import numpy as np
import typer

from ulvar.cli.common import Json, Replace, check_table, fail_usage, finish, low_high, names_in, with_error
from ulvar.cli.targets import parts_of
from ulvar.engine import Failed, OutputExists, counted, told_chi2
from ulvar.flows import (
    CurveOptions,
    ExchangeError,
    ExchangeFacts,
    exchange_text,
    make_curve,
    read_columns,
    read_geometry,
    rotation_points,
    write_exchange,
)
from ulvar.frames import write_table
from ulvar.lightcurves import Ephemeris, find_rotation, fit_ephemeris
from ulvar.photometry import StarListError, read_series

_OC_COLUMNS = (
    ("time", "d", 7, "time of the minimum, as it was given"), ("error", "d", 7, "its error"), ("cycle", "", 1, "counted from the epoch"),
    ("off", "d", 7, "observed less what the ephemeris tells"), ("linear_off", "d", 7, "observed less what its linear part tells"),
)  # fmt: skip


class Form(StrEnum):
    """For whom an exchange file is."""

    VARIABLE_STAR = "variable-star"
    MINOR_PLANET = "minor-planet"


def ephemeris(
    minima: Annotated[Path, typer.Argument(metavar="TABLE", help="Times of minima: columns time and error, in d; errors may be missing.")],
    period: Annotated[float, typer.Option(metavar="D", help="A period that is good enough to count cycles, in d.")],
    epoch: Annotated[float | None, typer.Option(metavar="TIME", help="Of cycle 0; by default a time near the middle.")] = None,
    halves: Annotated[bool, typer.Option("--halves", help="Secondary minima, half a cycle later, are among them.")] = False,
    quadratic: Annotated[bool, typer.Option("--quadratic", help="The period may change evenly.")] = False,
    out: Annotated[Path | None, typer.Option(metavar="TABLE", help="Write cycles and differences here.")] = None,
    figure: Annotated[Path | None, typer.Option(metavar="FILE", help="Draw the differences over cycles: .pdf, .svg, .png.")] = None,
    json: Json = False,
    replace: Replace = False,
) -> None:  # fmt: skip
    """Fit an ephemeris to times of minima, and tell what is observed less what it tells."""
    check_table(out, replace)
    if figure is not None and figure.suffix.lower() not in (".pdf", ".svg", ".png"):
        fail_usage(f"{figure}: figures are written as .pdf, .svg, .png")
    if figure is not None and figure.exists() and not replace:
        fail_usage(f"{figure} exists; it is kept (see --replace)")
    if not period > 0:
        fail_usage("--period is above 0")
    try:
        told = read_columns(minima, ("time",), ("error",))
    except ValueError as error:
        fail_usage(str(error))
    found = fit_ephemeris(told["time"], told["error"], period=period, epoch=epoch, halves=halves, quadratic=quadratic)
    if isinstance(found, Failed):
        finish({"error": found.reason}, as_json=json, done=False, lines=[found.reason])
    cells = {
        "time": told["time"],
        "error": told["error"],
        "cycle": found.cycles,
        "off": found.off,
        "linear_off": found.linear_off,
    }
    if out is not None:
        write_table(out, _OC_COLUMNS, {k: list(v) for k, v in cells.items()}, replace=replace)
    if figure is not None:
        from ulvar.flows import write_differences

        write_differences(figure, found, replace=replace)
    finish(
        {
            "epoch": found.epoch, "epoch_error": found.epoch_error, "period_d": found.period, "period_error_d": found.period_error,
            "change_d": found.change, "change_error_d": found.change_error, "chi2_reduced": found.chi2_reduced,
            "minima": [dict(zip(cells, values)) for values in zip(*(v.tolist() for v in cells.values()))],
            "output": str(out) if out else "", "figure": str(figure) if figure else "",
        },
        as_json=json, done=True, lines=_ephemeris_lines(found, told["time"]),
    )  # fmt: skip


def _ephemeris_lines(found: Ephemeris, time: np.ndarray) -> list[str]:
    lines = [f"{with_error(found.epoch, found.epoch_error)} + E x {with_error(found.period, found.period_error)} d"]
    if math.isfinite(found.change):
        a_year = 2 * found.change * 365.25 / found.period
        lines.append(
            f"  + E^2 x ({found.change:.3g} +- {found.change_error:.2g}) d: the period changes by {a_year:.3g} d a year"
        )
    if math.isfinite(found.chi2_reduced):
        lines.append(f"  reduced chi-squared {told_chi2(found.chi2_reduced)}")
    for when, cycle, off, error in zip(time, found.cycles, found.off, found.error):
        about = f" +- {error:.5f}" if math.isfinite(error) else ""
        lines.append(f"  {when:.5f}  E {cycle:g}  {off:+.5f}{about} d")
    return lines


def rotation(
    tables: Annotated[list[Path], typer.Argument(metavar="TABLE...", help="Series tables, a session each, or folders of nights.")],
    period: Annotated[str, typer.Option(metavar="LOW,HIGH", help="Range of rotation periods, in hours.")] = "2,60",
    order: Annotated[int | None, typer.Option(metavar="N", help="Harmonics; by default the points choose from 2 to 6.")] = None,
    geometry: Annotated[
        Path | None, typer.Option(metavar="TABLE", help="Of the body: jd, sun_au, earth_au, phase_deg; for light time, distances and phase.")
    ] = None,
    slope: Annotated[float, typer.Option(metavar="G", help="Of the phase function.")] = 0.15,
    target: Annotated[str | None, typer.Option(metavar="NAME", help="The body; the first target by default.")] = None,
    filter_: Annotated[str, typer.Option("--filter", metavar="NAME", help="Only this filter, of nights.")] = "",
    json: Json = False,
) -> None:  # fmt: skip
    """Find the rotation period of a minor planet: a Fourier series with a level for each session."""
    parts = parts_of(tables, target, filter_)
    low, high = low_high(period, "--period")
    try:
        where = read_geometry(geometry) if geometry is not None else None
    except ValueError as error:
        fail_usage(str(error))
    points = rotation_points(parts, CurveOptions(target=target), where, slope)
    if isinstance(points, Failed):
        fail_usage(points.reason)
    time, magnitude, spread, sessions = points
    found = find_rotation(time, magnitude, spread, sessions, shortest_h=low, longest_h=high, order=order)
    if isinstance(found, Failed):
        finish({"error": found.reason}, as_json=json, done=False, lines=[found.reason])
    lines = [
        f"{with_error(found.period_h, found.period_error_h)} h, range {found.amplitude_mag:.3f} mag, {found.order} harmonics, "
        f"scatter {1000 * found.rms_mag:.1f} mmag of {counted(len(time), 'point')} in {counted(len(parts), 'session')}",
        *[f"  {name}: {offset:+.4f} mag beside the first" for name, offset in list(found.offsets.items())[1:]],
    ]
    if found.ambiguous:
        beside = ", ".join(f"{one:.5g}" for one in found.rivals)
        lines.append(
            "ambiguous: " + (f"as likely are {beside} h" if beside else "a fifth of the phases was never seen")
        )
    body: dict[str, Any] = {
        "period_h": found.period_h, "period_error_h": found.period_error_h, "amplitude_mag": found.amplitude_mag, "order": found.order,
        "rms_mag": found.rms_mag, "offsets": found.offsets, "ambiguous": found.ambiguous, "rivals_h": list(found.rivals), "points": len(time),
    }  # fmt: skip
    finish(body, as_json=json, done=True, lines=lines)


def exchange(
    table: Annotated[Path, typer.Argument(metavar="TABLE", help="A series table of ulvar measure.")],
    form: Annotated[Form, typer.Option(help="For which observers' association.")],
    observer: Annotated[str, typer.Option(metavar="TEXT", help="Your code there; of a minor planet the observers' names.")],
    name: Annotated[str, typer.Option(metavar="TEXT", help="What the association calls the target.")],
    filter_: Annotated[str, typer.Option("--filter", metavar="NAME", help="As in the headers, or the form's letters.")] = "",
    out: Annotated[Path | None, typer.Option(metavar="FILE", help="Write it here; by default it is printed.")] = None,
    check: Annotated[str, typer.Option(metavar="NAME", help="The check star of the table.")] = "",
    chart: Annotated[str, typer.Option(metavar="TEXT", help="Of the comparison stars.")] = "",
    notes: Annotated[str, typer.Option(metavar="TEXT")] = "",
    number: Annotated[int, typer.Option(metavar="N", help="Of the minor planet.")] = 0,
    contact: Annotated[str, typer.Option(metavar="TEXT", help="Who answers questions, of a minor planet.")] = "",
    at: Annotated[str, typer.Option(metavar="RA,DEC", help="Where a minor planet was in the middle of the session.")] = "",
    target: Annotated[str | None, typer.Option(metavar="NAME", help="Star of the table; the first target by default.")] = None,
    leave_out: Annotated[str, typer.Option(metavar="a,b", help="Comparison stars not to use.")] = "",
    json: Json = False,
    replace: Replace = False,
) -> None:  # fmt: skip
    """Write a light curve in the text form of an observers' association, after a check of what that requires."""
    ra, _, dec = at.partition(",")
    try:
        series = read_series(table)
        made = make_curve(series, CurveOptions(target=target, leave_out=names_in(leave_out)))
        if isinstance(made, Failed):
            fail_usage(f"{table}: {made.reason}")
        magnitudes = {}
        if check:
            rows = series.star(check)
            if not rows:
                fail_usage(f"{table}: there is no star {check}; there are {', '.join(series.names())}")
            magnitudes = {row.file: -2.5 * math.log10(row.flux) for row in rows if row.flux > 0 and not row.flags}
        facts = ExchangeFacts(
            observer, name, filter_, check, magnitudes, chart, notes, number, contact, ra.strip(), dec.strip()
        )
        if out is None:
            text = exchange_text(form.value, made.curve, facts)
            if not json:
                sys.stdout.write(text)
                raise typer.Exit(0)
        else:
            write_exchange(out, form.value, made.curve, facts, replace=replace)
    except (ExchangeError, StarListError) as error:
        fail_usage(str(error))
    except OutputExists as error:
        fail_usage(f"{error} (see --replace)")
    points = int(made.curve.good.sum())
    told = str(out) if out is not None else ""
    finish(
        {"output": told, "points": points, "text": "" if out else text},
        as_json=json,
        done=True,
        lines=[f"{told}: {counted(points, 'point')}"],
    )
