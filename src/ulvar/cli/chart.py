"""ulvar chart."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Annotated

import typer

from ulvar.astrometry import CatalogueError, Wcs, load_catalogue
from ulvar.cli.common import Facts, Json, Replace, fail_usage, finish, given_facts
from ulvar.engine import OutputExists
from ulvar.flows import Chart, ChartMark, around, read_bodies, wcs_of, write_chart
from ulvar.frames import ExposureFacts, FrameError, parse_position, scan_file, with_user_facts
from ulvar.photometry import ListedStar, StarListError, read_star_list


def chart(
    out: Annotated[Path, typer.Option(metavar="FILE", help="The chart: .pdf, .png or .svg.")],
    catalogue: Annotated[Path, typer.Option(metavar="PATH", help="Catalogue: CSV file or folder of tiles.")],
    exposure: Annotated[
        Path | None,
        typer.Argument(metavar="[FILE]", help="A solved exposure or stack: its field is outlined."),
    ] = None,
    at: Annotated[
        str | None, typer.Option(metavar="RA,DEC", help="Instead of an exposure: the middle, degrees or sexagesimal.")
    ] = None,
    width: Annotated[
        float | None, typer.Option(metavar="DEG", help="Side of the chart; the exposure's field by default, else 1.")
    ] = None,
    faintest: Annotated[float, typer.Option(metavar="MAG", help="Fainter stars are left away.")] = math.inf,
    stars: Annotated[
        Path | None, typer.Option(metavar="FILE.csv", help="Stars to mark: name, role and ra, dec.")
    ] = None,
    bodies: Annotated[
        Path | None,
        typer.Option(metavar="FILE.csv", help="Moving bodies: places by time, or orbital elements."),
    ] = None,
    title: Annotated[str, typer.Option(metavar="TEXT", help="Stands above it.")] = "",
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:
    """Draw a finder chart, to print."""
    if (exposure is None) == (at is None):
        fail_usage("a chart is of an exposure, or of a place (--at): of one of them")
    if out.exists() and not replace:
        fail_usage(f"{out} exists; it is kept (see --replace)")
    try:
        solved = None if exposure is None else _solved(exposure, fact)
        if solved is not None:
            facts, wcs = solved
            ra, dec, side = around(wcs, facts.width, facts.height)
        else:
            (ra, dec), side = parse_position(at or ""), 1.0
        side = side if width is None else width
        if not 0 < side <= 90:
            raise ValueError("--width is over 0 and up to 90 degrees")
        found = load_catalogue(str(catalogue), near=[(ra, dec, min(90.0, 0.75 * side))])
        moving = [] if bodies is None else read_bodies(bodies, [] if solved is None else [facts])
        marked = [] if stars is None else _marks(read_star_list(stars))
        name = title or (exposure.stem if exposure is not None else "Finder chart")
        outline = None if solved is None else (wcs, facts.width, facts.height)
        write_chart(out, Chart(ra, dec, side, found, marked, moving, outline, faintest, name), replace=replace)
    except (ValueError, FrameError, CatalogueError, StarListError, OutputExists) as error:
        fail_usage(str(error))
    body = {"output": str(out), "ra": ra, "dec": dec, "width_deg": side, "ok": True}
    finish(body, as_json=json, done=True, lines=[f"{out}: RA {ra:.5f} Dec {dec:+.5f}, side {side:.4g} deg"])


def _solved(exposure: Path, fact: list[str]) -> tuple[ExposureFacts, Wcs]:
    facts = with_user_facts(scan_file(str(exposure)), given_facts(fact))
    wcs = wcs_of(facts.path)
    if wcs is None:
        raise ValueError(f"{exposure}: it has no plate solution (solve it first)")
    return facts, wcs


def _marks(listed: list[ListedStar]) -> list[ChartMark]:
    return [
        ChartMark(s.name, s.role, s.ra, s.dec) for s in listed if s.ra is not None and s.dec is not None and not s.track
    ]
