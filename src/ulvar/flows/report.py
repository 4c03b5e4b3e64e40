"""A page about a light curve: figure, numbers, stars, how it came about, findings, and the recipe that repeats it; as HTML or PDF."""

from __future__ import annotations

import html
import io
import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.engine import atomic_path, told_chi2
from ulvar.flows.beneath import Beneath
from ulvar.flows.curve import CurveResult
from ulvar.flows.figure import FigureStyle, figure_bytes
from ulvar.inspection import Finding
from ulvar.photometry import SeriesTable

REPORT_ENDINGS = (".html", ".pdf")
Pairs = Sequence[tuple[str, str]]

_WORDS = {
    "mid": "Middle, BJD (TDB)", "depth_mag": "Depth, mag", "depth": "Depth, share of the light", "duration_d": "First to fourth contact, d",
    "ingress_d": "Ingress, d", "ratio": "Ratio of radii", "impact": "Impact, radii of the star", "first_contact": "First contact",
    "second_contact": "Second contact", "third_contact": "Third contact", "fourth_contact": "Fourth contact", "u1": "u1", "u2": "u2",
    "period_d": "Period, d", "amplitude_mag": "Full range, mag", "semi_amplitude_mag": "Semi-amplitude of the sine, mag",
    "maximum": "Brightest", "minimum": "Faintest", "range_mag": "Range, mag",
}  # fmt: skip
_STYLE = """
body { font-family: sans-serif; color: #20262b; max-width: 60rem; margin: 2rem auto; padding: 0 1rem; line-height: 1.45; }
h1 { font-size: 1.5rem; } h2 { font-size: 1.1rem; margin-top: 2rem; border-bottom: 1px solid #c9d0d6; }
table { border-collapse: collapse; } td, th { padding: 0.15rem 0.9rem 0.15rem 0; text-align: left; vertical-align: top; }
td.number { font-variant-numeric: tabular-nums; } pre { background: #f3f5f7; padding: 0.8rem; overflow-x: auto; font-size: 0.8rem; }
svg { max-width: 100%; height: auto; }
"""


@dataclass(frozen=True)
class ReportFacts:
    """What is told beside the curve itself.

    Attributes
    ----------
    title : str
    about : sequence of (str, str)
        Series, dates, files and the like.
    provenance : sequence of str
        How the exposures were calibrated, a sentence each.
    recipe : str
        What repeats the work: a recipe, or the command line.
    findings : sequence of Finding
    """

    title: str
    about: Pairs = ()
    provenance: Sequence[str] = ()
    recipe: str = ""
    findings: Sequence[Finding] = field(default_factory=tuple)


@dataclass(frozen=True)
class _Section:
    heading: str
    pairs: Pairs = ()
    table: Sequence[Sequence[str]] = ()
    lines: Sequence[str] = ()


def _value(value: float, error: float) -> str:
    if not math.isfinite(value):
        return "–"
    if not (math.isfinite(error) and error > 0):
        return f"{value:.6g}"
    places = max(0, min(9, 1 - math.floor(math.log10(error))))
    return f"{value:.{places}f} ± {error:.{places}f}"


def _sections(result: CurveResult, table: SeriesTable | None, facts: ReportFacts) -> list[_Section]:
    curve, fit = result.curve, result.fit
    good = int(curve.good.sum())
    span = (float(np.nanmax(curve.jd_utc)) - float(np.nanmin(curve.jd_utc))) * 24
    scale = (
        "BJD (TDB), middle of each exposure"
        if np.isfinite(curve.bjd_tdb).all()
        else "JD (UTC), middle of each exposure"
    )
    about = [
        *facts.about, ("Points", f"{len(curve)}, {good} of them count"), ("Times", scale), ("Over", f"{span:.2f} h"),
        ("Scatter about the fit" if fit is not None else "Scatter", f"{1000 * result.rms:.2f} mmag"),
    ]  # fmt: skip
    sections = [_Section("The light curve", about)]
    if fit is not None and result.modelled:
        values = [(_WORDS.get(k, k), _value(v, fit.errors[k])) for k, v in fit.values.items() if math.isfinite(v)]
        if result.minimum is not None:
            values.append(("By folding (Kwee and van Woerden), BJD", _value(result.minimum.time, result.minimum.error)))
        if math.isfinite(fit.chi2_reduced):
            values.append(("Reduced chi-squared", told_chi2(fit.chi2_reduced)))
        sections.append(_Section(f"Model: {fit.kind}", values))
    if fit is not None:
        noise = (
            f"Scatter lasts {fit.red.minutes_long:.0f} min; errors hold it, {fit.red.factor:.2f} times those of independent points."
            if fit.red.share > 0
            else "Scatter of independent points."
        )
        trends = [
            (
                f"Trend: {t.name}",
                f"{1000 * t.coefficient_mag:+.2f} ± {1000 * t.error_mag:.2f} mmag for one standard deviation",
            )
            for t in fit.trends
        ]
        offsets = [(f"Level of {n}", f"{_value(o, e)} mag beside the first") for n, o, e in fit.sessions]
        sections.append(_Section("Trends and noise", [*trends, *offsets], lines=[noise]))
    if result.period is not None:
        found = result.period
        sections.append(
            _Section(
                "Period",
                [
                    ("Period, d", _value(found.period_d, found.period_error_d)), ("Found by", found.method),
                    ("Chance that noise does as much", f"{found.false_alarm:.2g}"),
                    ("As likely by the sampling, d", ", ".join(f"{p:.7g}" for p in found.aliases) or "none"),
                ],
            )
        )  # fmt: skip
    sections.append(_stars(result, table))
    if table is not None:
        sections.append(_apertures(table))
    sections.append(_Section("Calibration", lines=list(facts.provenance) or ["Nothing is told of it."]))
    told = [f"{f.severity.word}: {f.title}. {f.text}" for f in facts.findings]
    sections.append(_Section("Findings", lines=told or ["None."]))
    if result.notes:
        sections.append(_Section("Notes", lines=list(result.notes)))
    return sections


def _stars(result: CurveResult, table: SeriesTable | None) -> _Section:
    ensemble = result.curve.ensemble
    rows = [["Star", "Role", "Right ascension", "Declination", "Weight", "Scatter, mmag", "Expected, mmag"]]

    def place(name: str) -> list[str]:
        own = table.star(name) if table is not None else []
        ra = next((r.ra for r in own if math.isfinite(r.ra)), math.nan)
        dec = next((r.dec for r in own if math.isfinite(r.dec)), math.nan)
        return [f"{ra:.6f}" if math.isfinite(ra) else "", f"{dec:+.6f}" if math.isfinite(dec) else ""]

    rows.append([result.curve.name, "target", *place(result.curve.name), "", "", ""])
    for k, name in enumerate(ensemble.names):
        scatter, expected = 1086 * float(ensemble.scatter[k]), 1086 * float(ensemble.expected[k])
        role = "comparison, varies" if name in ensemble.suspects else "comparison"
        rows.append(
            [
                name, role, *place(name), f"{100 * float(ensemble.weights[k]):.1f} %",
                f"{scatter:.2f}" if math.isfinite(scatter) else "", f"{expected:.2f}" if math.isfinite(expected) else "",
            ]
        )  # fmt: skip
    return _Section("Stars", table=rows)


def _apertures(table: SeriesTable) -> _Section:
    def range_of(what: str) -> str:
        values = [getattr(row, what) for row in table.rows if math.isfinite(getattr(row, what))]
        if not values:
            return "not known"
        low, high = min(values), max(values)
        return f"{low:.2f} px" if high - low < 0.005 else f"{low:.2f} to {high:.2f} px"

    return _Section(
        "Apertures",
        [("Radius", range_of("radius_px")), ("Sky from", range_of("inner_px")), ("Sky to", range_of("outer_px")), ("FWHM", range_of("fwhm_px"))],
    )  # fmt: skip


def write_report(
    path: Path, result: CurveResult, facts: ReportFacts, *, table: SeriesTable | None = None, style: FigureStyle | None = None,
    beneath: Sequence[Beneath] = (), replace: bool = False,
) -> None:  # fmt: skip
    """Write a report, atomically: ``.html`` with everything in one file, or ``.pdf``.

    Raises
    ------
    OutputExists
        If `path` exists and may not be replaced.
    ValueError
        If the ending is none of those, or the style cannot be drawn.
    """
    ending = path.suffix.lower()
    if ending not in REPORT_ENDINGS:
        raise ValueError(f"{path}: reports are written as {', '.join(REPORT_ENDINGS)}")
    sections = _sections(result, table, facts)
    shown = style or FigureStyle()
    shown.check()
    with atomic_path(path, replace=replace) as temporary:
        temporary.write_bytes((_html if ending == ".html" else _pdf)(result, facts, sections, shown, beneath))


def _html(
    result: CurveResult, facts: ReportFacts, sections: Sequence[_Section], style: FigureStyle, beneath: Sequence[Beneath]
) -> bytes:  # fmt: skip
    figure = figure_bytes(result, style, "svg", beneath=beneath).decode("utf-8")
    # Only the drawing itself belongs into a page.
    figure = figure[figure.index("<svg") :]
    parts = [
        "<!doctype html>", '<html lang="en"><head><meta charset="utf-8">', f"<title>{html.escape(facts.title)}</title>",
        f"<style>{_STYLE}</style></head><body>", f"<h1>{html.escape(facts.title)}</h1>", figure,
    ]  # fmt: skip
    for section in sections:
        parts.append(f"<h2>{html.escape(section.heading)}</h2>")
        if section.pairs:
            rows = "".join(
                f"<tr><td>{html.escape(k)}</td><td class='number'>{html.escape(v)}</td></tr>" for k, v in section.pairs
            )
            parts.append(f"<table>{rows}</table>")
        if section.table:
            head, *body = section.table
            rows = "<tr>" + "".join(f"<th>{html.escape(c)}</th>" for c in head) + "</tr>"
            rows += "".join(
                "<tr>" + "".join(f"<td class='number'>{html.escape(c)}</td>" for c in row) + "</tr>" for row in body
            )
            parts.append(f"<table>{rows}</table>")
        parts += [f"<p>{html.escape(line)}</p>" for line in section.lines]
    if facts.recipe:
        parts.append(f"<h2>To repeat it</h2><pre>{html.escape(facts.recipe)}</pre>")
    return "\n".join([*parts, "</body></html>", ""]).encode("utf-8", "xmlcharrefreplace")


# A4 in inches, its margins, and lines on a page of text.
_PAGE, _MARGIN, _LINES, _WIDE = (8.27, 11.69), 0.09, 62, 108


def _pdf(
    result: CurveResult, facts: ReportFacts, sections: Sequence[_Section], style: FigureStyle, beneath: Sequence[Beneath]
) -> bytes:  # fmt: skip
    import matplotlib.image as image
    from matplotlib import rc_context
    from matplotlib.backends.backend_pdf import PdfPages
    from matplotlib.figure import Figure

    held = io.BytesIO()
    with (
        rc_context({"font.family": style.font, "pdf.fonttype": 42}),
        PdfPages(held, metadata={"CreationDate": None, "Title": facts.title}) as pages,
    ):
        shown = replace(style, width_cm=17.5, height_cm=min(max(style.height_cm, 9.0), 15.0))
        picture = image.imread(io.BytesIO(figure_bytes(result, shown, "png", beneath=beneath, dots_per_inch=220)))
        lines = _text_lines(sections, facts.recipe)
        first = Figure(figsize=_PAGE)
        first.text(_MARGIN, 1 - 0.06, facts.title, fontsize=15, weight="bold", va="top")
        high = 0.82 * picture.shape[0] / picture.shape[1] * _PAGE[0] / _PAGE[1]
        axes = first.add_axes((_MARGIN, 0.9 - high, 0.82, high))
        axes.imshow(picture, aspect="auto", interpolation="lanczos")
        axes.set_axis_off()
        room = int((0.9 - high - 0.07) * _LINES / 0.88)
        _print(first, lines[:room], 0.9 - high - 0.02)
        pages.savefig(first)
        for start in range(room, len(lines), _LINES):
            page = Figure(figsize=_PAGE)
            _print(page, lines[start : start + _LINES], 0.95)
            pages.savefig(page)
    return held.getvalue()


def _print(page: Any, lines: Sequence[tuple[str, bool]], top: float) -> None:
    for k, (line, bold) in enumerate(lines):
        page.text(
            _MARGIN, top - k * 0.88 / _LINES, line, fontsize=9.5 if bold else 8, weight="bold" if bold else "normal", va="top",
            family=None if bold else "monospace",
        )  # fmt: skip


def _text_lines(sections: Sequence[_Section], recipe: str) -> list[tuple[str, bool]]:
    """Return the sections as lines of text and whether each is a heading."""
    import textwrap

    lines: list[tuple[str, bool]] = []
    for section in sections:
        lines += [("", False), (section.heading, True)]
        wide = max((len(k) for k, _ in section.pairs), default=0) + 3
        for key, value in section.pairs:
            first, *more = textwrap.wrap(value, max(30, _WIDE - wide)) or [""]
            lines.append((f"{key:<{wide}}{first}", False))
            lines += [(" " * wide + line, False) for line in more]
        if section.table:
            widths = [max(len(row[k]) for row in section.table) + 2 for k in range(len(section.table[0]))]
            lines += [("".join(f"{c:<{w}}" for c, w in zip(row, widths)), False) for row in section.table]
        for text in section.lines:
            lines += [(line, False) for line in textwrap.wrap(text, _WIDE)]
    if recipe:
        lines += [("", False), ("To repeat it", True)]
        for text in recipe.splitlines():
            lines += [(line, False) for line in textwrap.wrap(text, _WIDE) or [""]]
    return lines
