"""ulvar curve."""

from __future__ import annotations

import glob
import math
import sys
from collections.abc import Sequence
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from ulvar.cli.common import (
    Json,
    Replace,
    SeriesName,
    check_table_name,
    default,
    fail_usage,
    finish,
    limb_law,
    low_high,
    names_in,
    option,
    output_of,
    with_error,
)
from ulvar.cli.targets import parts_of
from ulvar.engine import Failed, counted, write_text
from ulvar.flows import (
    AUTO,
    DETREND,
    FIGURE_ENDINGS,
    REPORT_ENDINGS,
    CurveOptions,
    CurvePart,
    CurveResult,
    FigureStyle,
    ReportFacts,
    ShownStar,
    further_stars,
    make_curve,
    write_figure,
    write_report,
)
from ulvar.lightcurves import write_curve
from ulvar.photometry import SeriesTable, StarListError, read_series


class Light(StrEnum):
    """Which fluxes a curve is made of."""

    APERTURE = "aperture"
    PROFILE = "profile"


class Model(StrEnum):
    """What is fitted to a light curve."""

    NONE = "none"
    ECLIPSE = "eclipse"
    TRANSIT = "transit"
    SINE = "sine"
    POLYNOMIAL = "polynomial"


class Method(StrEnum):
    """How a period is looked for."""

    SINE = "sine"
    PHASE = "phase"
    BOX = "box"


def curve(
    table: Annotated[Path, typer.Argument(metavar="TABLE", help="A series table of ulvar measure, or a folder of nights.")],
    out: Annotated[Path, typer.Option(metavar="FILE", help="The light curve: .csv, .vot, .fits, .parquet.")],
    beside: Annotated[
        list[Path],
        typer.Option("--with", metavar="TABLE", help="Another night or filter of the star: joined, with a level of its own in every fit."),
    ] = [],
    detrend: Annotated[
        str, typer.Option(metavar="a,b", help=f"Linear terms, fitted along: {', '.join(DETREND)}; or {AUTO}, and the points choose.")
    ] = "",
    model: Annotated[Model, typer.Option(help="What to fit.")] = Model.NONE,
    harmonics: Annotated[int, typer.Option(metavar="N", help="Of the sine.")] = 2,
    around: Annotated[float | None, typer.Option(metavar="D", help="The sine's period to begin with, in d.")] = None,
    degree: Annotated[int, typer.Option(metavar="N", help="Of the polynomial.")] = 4,
    law: Annotated[str, typer.Option(metavar="U1,U2", help="Quadratic limb darkening of a transit.")] = "0.4,0.25",
    free_law: Annotated[bool, typer.Option("--free-law", help="Fit the limb darkening, too.")] = False,
    sample: Annotated[bool, typer.Option("--sample", help="Draw from the model's posterior, and tell whether that has converged.")] = False,
    period: Annotated[str | None, typer.Option(metavar="LOW,HIGH", help="Search a period in this range, in d.")] = None,
    method: Annotated[Method, typer.Option(help="By a sine, by scatter within bins of phase, or by a box.")] = Method.SINE,
    target: Annotated[str | None, typer.Option(metavar="NAME", help="Star; the first target by default.")] = None,
    filter_: Annotated[str, typer.Option("--filter", metavar="NAME", help="Only this filter, of nights.")] = "",
    leave_out: Annotated[str, typer.Option(metavar="a,b", help="Comparison stars not to use.")] = "",
    light: Annotated[Light, option("curve", "light")] = Light(default("curve", "light")),
    figure: Annotated[Path | None, typer.Option(metavar="FILE", help="Draw it for print: .pdf, .svg, .png.")] = None,
    beneath: Annotated[str, typer.Option(metavar="a,b", help="Further stars of the table, drawn under the curve in figures.")] = "",
    style: Annotated[Path | None, typer.Option(metavar="FILE.toml", help="How figures look; written where it is not there.")] = None,
    report: Annotated[Path | None, typer.Option(metavar="FILE", help="A page with figure, numbers, stars and findings: .html, .pdf.")] = None,
    series: SeriesName = None,
    json: Json = False,
    replace: Replace = False,
) -> None:  # fmt: skip
    """Make a differential light curve of each series, and fit it.

    Where measuring made a table of each of several series, TABLE is the name they were measured under.
    """
    check_table_name(out)
    tables = _tables(table, series)
    if beside and len(tables) > 1:
        fail_usage(f"{table}: tables are joined with one table: name it, or choose one with --series")
    several = len(tables) > 1
    outputs = {name: output_of(out, name, several) for name in tables}
    looks = _style(style)
    pages = {n: [output_of(p, n, several) for p in (figure, report) if p is not None] for n in tables}
    _check_pages(figure, report)
    for output in [*outputs.values(), *(one for many in pages.values() for one in many)]:
        if output.exists() and not replace:
            fail_usage(f"{output} exists; it is kept (see --replace)")
    terms, under = names_in(detrend), names_in(beneath)
    u1, u2 = limb_law(law)
    options = CurveOptions(
        model.value, terms, low_high(period, "--period") if period else None, target,
        names_in(leave_out), light=light.value, method=method.value,
        harmonics=harmonics, degree=degree, period_d=around, law=(u1, u2), free_law=free_law, sample=sample,
    )  # fmt: skip
    bodies, lines, findings, failed = [], [], [], False
    for name, path in tables.items():
        try:
            measured = _joined(path, beside, target, filter_)
            if under:
                _check_stars(under, path, measured)
            result = make_curve(measured, options)
        except (ValueError, StarListError) as error:
            fail_usage(str(error))
        if isinstance(result, Failed):
            nothing = {"output": "", "points": 0, "rms": None, "fit": None, "period": None}
            bodies.append({**nothing, "reason": result.reason, "series": name})
            lines.append(f"{path}: {result.reason}" if several else result.reason)
            failed = True
            continue
        one = measured if isinstance(measured, SeriesTable) else None
        stars = further_stars(one, result.curve, dict.fromkeys(under, ShownStar())) if one is not None else []
        for wanted in under:
            if wanted not in (result.curve.name, *(star.name for star in stars)):
                fail_usage(f"{path}: '{wanted}' cannot be drawn: there is no other comparison star to compare it with")
        write_curve(outputs[name], result.curve, replace=replace)
        if figure is not None:
            write_figure(output_of(figure, name, several), result, looks, beneath=stars, replace=replace)
        if report is not None:
            facts = ReportFacts(
                f"{result.curve.name}: light curve", [("Measured series", str(path))], recipe=" ".join(["ulvar", *sys.argv[1:]]),
                findings=result.findings,
            )  # fmt: skip
            # It tells of the stars of one table: the first of several, and of none where nights are joined by their folder.
            own = one if one is not None or path.is_dir() else read_series(path)
            write_report(
                output_of(report, name, several), result, facts, table=own, style=looks, beneath=stars, replace=replace
            )
        body = result.as_json()
        bodies.append({"output": str(outputs[name]), **body, "series": name})
        lines += _curve_lines(outputs[name], result)
        findings += list(result.findings)
        failed |= model is not Model.NONE and body["fit"] is None
    first = next((b for b in bodies if b["output"]), bodies[0])
    finish(
        {**first, "series": bodies if several else []}, as_json=json, done=any(b["output"] for b in bodies), failed=failed, lines=lines,
        findings=findings,
    )  # fmt: skip


def _style(path: Path | None) -> FigureStyle:
    """Return the style of figures in a file; where there is none it is written."""
    if path is None:
        return FigureStyle()
    if not path.exists():
        write_text(path, FigureStyle().as_toml())
        return FigureStyle()
    try:
        return FigureStyle.from_toml(path.read_text(encoding="utf-8"))
    except (OSError, ValueError) as error:
        fail_usage(f"{path}: {error}")


def _check_stars(names: Sequence[str], path: Path, measured: SeriesTable | list[CurvePart]) -> None:
    """Refuse stars that cannot be drawn."""
    if not isinstance(measured, SeriesTable):
        fail_usage("--beneath draws stars of one table, and several are joined here")
    for name in names:
        if name not in measured.names():
            fail_usage(f"{path}: there is no star '{name}'; there are {', '.join(measured.names())}")


def _check_pages(figure: Path | None, report: Path | None) -> None:
    for path, endings in ((figure, FIGURE_ENDINGS), (report, REPORT_ENDINGS)):
        if path is not None and path.suffix.lower() not in endings:
            fail_usage(f"{path}: it is written as {', '.join(endings)}")


def _joined(path: Path, beside: list[Path], target: str | None, filter_: str) -> SeriesTable | list[CurvePart]:
    """Return a table, or several with names of their own."""
    if path.is_dir() or beside:
        return parts_of([path, *beside], target, filter_)
    return read_series(path)


def _tables(table: Path, series: str | None) -> dict[str, Path]:
    """Return series to table: the one that was named, or those that measuring several series made of the name."""
    if table.exists() and (series is None or table.is_dir()):
        return {"": table}
    mark = f"{table.stem}-"
    beside = sorted(table.parent.glob(f"{glob.escape(mark)}*{glob.escape(table.suffix)}"))
    found = {path.stem[len(mark) :]: path for path in beside}
    if series is not None:
        word = series.strip().casefold()
        chosen = {name: path for name, path in found.items() if name.casefold() == word}
        chosen = chosen or {n: p for n, p in found.items() if word in n.casefold().split("-")}
        if not chosen:
            fail_usage(
                f"{table}: there is no table of a series '{series}' beside it; there are {', '.join(found) or 'none'}"
            )
        return chosen
    if not found:
        fail_usage(f"{table}: there is no such file")
    return found


# What people read of a fit, and with how many decimals errors that are not known leave values.
_TOLD = {
    "mid": ("mid", "BJD_TDB"), "depth_mag": ("depth", "mag"), "duration_d": ("duration", "d"), "ingress_d": ("ingress", "d"),
    "ratio": ("ratio of radii", ""), "impact": ("impact", ""), "u1": ("u1", ""), "u2": ("u2", ""), "period_d": ("period", "d"),
    "amplitude_mag": ("full range", "mag"), "semi_amplitude_mag": ("semi-amplitude of the sine", "mag"), "maximum": ("maximum", "BJD_TDB"),
    "minimum": ("minimum", "BJD_TDB"), "range_mag": ("range", "mag"), "second_contact": ("second contact", "BJD_TDB"),
    "third_contact": ("third contact", "BJD_TDB"),
}  # fmt: skip


def _curve_lines(output: Path, result: CurveResult) -> list[str]:
    curve = result.curve
    lines = [f"{output}: {counted(len(curve), 'point')} of {curve.name}, scatter {1000 * result.rms:.1f} mmag"]
    fit = result.fit
    if fit is not None and result.modelled:
        told = [
            f"{words} {with_error(fit.values[key], fit.errors[key])} {unit}".rstrip()
            for key, (words, unit) in _TOLD.items()
            if key in fit.values and math.isfinite(fit.values[key])
        ]
        lines += [f"{fit.kind}: {'; '.join(told)}"]
        if fit.red.share > 0:
            lines.append(
                f"  scatter lasts {fit.red.minutes_long:.0f} min, errors grow {fit.red.factor:.1f} times by it"
            )
    if fit is not None:
        lines += [
            f"  {t.name}: {1000 * t.coefficient_mag:+.2f} +- {1000 * t.error_mag:.2f} mmag for its scatter"
            for t in fit.trends
        ]
        lines += [f"  {name}: {with_error(offset, error)} mag beside the first" for name, offset, error in fit.sessions]
    if result.minimum is not None:
        lines.append(f"by folding: {with_error(result.minimum.time, result.minimum.error)} BJD_TDB")
    if result.posterior is not None:
        posterior = result.posterior
        for key, (words, unit) in _TOLD.items():
            if key in posterior.values:
                middle, below, above = posterior.values[key]
                places = max(0, min(9, 1 - math.floor(math.log10(max(min(below, above), 1e-9)))))
                lines.append(
                    f"  posterior: {words} {middle:.{places}f} -{below:.{places}f} +{above:.{places}f} {unit}".rstrip()
                )
        lines.append(f"  {posterior.words}")
    if result.period is not None:
        found = result.period
        lines.append(
            f"period {with_error(found.period_d, found.period_error_d)} d, by {found.method}, false alarm {found.false_alarm:.2g}"
            + (f"; sampled alike: {', '.join(f'{p:.6g}' for p in found.aliases[:4])} d" if found.aliases else "")
        )
    return lines + list(result.notes)
