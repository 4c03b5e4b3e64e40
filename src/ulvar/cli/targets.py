"""ulvar nights and minima: one star over many nights."""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated

import typer

from ulvar.cli.common import Json, Replace, check_table, errors, fail_usage, finish, limb_law, names_in, with_error
from ulvar.engine import OutputExists, counted
from ulvar.flows import CurveOptions, CurvePart, time_minima, write_minima
from ulvar.photometry import StarListError, read_series


def parts_of(paths: Sequence[Path], target: str | None, filter_: str = "") -> list[CurvePart]:
    """Return what series tables, and nights in folders, give to a curve; ends where there is nothing.

    A star of nights is found by its name in one, and by its place on the sky in all others.
    """
    found: list[CurvePart] = []
    folders = [path for path in paths if path.is_dir()]
    for path in folders:
        from ulvar.night.nights import nights_in, read_nights

        nights = nights_in(path)
        if not nights:
            fail_usage(f"{path}: there is no night in it")
        read = read_nights(nights)
        for failed in read.failed:
            errors.print(f"{failed.file}: {failed.reason}", markup=False)
        stars = read.targets()
        if not stars:
            fail_usage(f"{path}: no night in it has measured a target")
        star = stars[0] if target is None else read.star(target)
        if star is None:
            fail_usage(f"{path}: no night measured '{target}'; targets are {', '.join(one.name for one in stars)}")
        found += [
            one.part for one in read.parts(star) if not filter_ or one.filter.casefold() == filter_.strip().casefold()
        ]
        if not found:
            how = f"through '{filter_}'" if filter_ else "at a time that is known"
            fail_usage(f"{path}: {star.name} was not measured {how}")
    tables = [path for path in paths if path not in folders]
    stems = [path.stem for path in tables]
    for path in tables:
        name = path.stem if stems.count(path.stem) == 1 else f"{path.parent.name}/{path.stem}"
        try:
            found.append(CurvePart(name, read_series(path), target))
        except StarListError as error:
            fail_usage(str(error))
    names = [part.name for part in found]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        fail_usage(f"{twice}: a session is taken once")
    return found


def nights(
    folder: Annotated[Path, typer.Argument(metavar="FOLDER", help="Nights lie in it, or in folders in it.")],
    target: Annotated[str | None, typer.Option(metavar="NAME", help="Tell what each night measured of this star.")] = None,
    json: Json = False,
) -> None:  # fmt: skip
    """Tell which stars the nights of a folder measured as targets, and when each was."""
    from ulvar.night.nights import nights_in, read_nights

    if not folder.is_dir():
        fail_usage(f"{folder}: there is no such folder")
    there = nights_in(folder)
    if not there:
        fail_usage(f"{folder}: there is no night in it")
    read = read_nights(there)
    stars = read.targets()
    if target is not None:
        star = read.star(target)
        if star is None:
            fail_usage(f"no night measured '{target}'; targets are {', '.join(one.name for one in stars) or 'none'}")
        stars = [star]
    bodies, lines = [], []
    for star in stars:
        parts = read.parts(star)
        bodies.append(
            {
                "name": star.name, "ra": None if star.place is None else star.place[0], "dec": None if star.place is None else star.place[1],
                "nights": star.nights,
                "sessions": [
                    {
                        "session": one.part.name, "night": str(one.folder), "series": one.series, "date": one.date, "filter": one.filter,
                        "name": one.part.target, "points": one.points,
                    }
                    for one in parts
                ],
            }
        )  # fmt: skip
        lines.append(f"{star.name}: {counted(star.nights, 'night')}")
        lines += [f"  {one.part.name}: {counted(one.points, 'point')} in {one.folder.name}" for one in parts]
    lines += [f"{failed.file}: {failed.reason}" for failed in read.failed]
    finish(
        {"nights": len(there), "targets": bodies, "unread": [vars(one) for one in read.failed]},
        as_json=json, done=bool(bodies), failed=bool(read.failed), lines=lines or ["no night has measured a target"],
    )  # fmt: skip


def minima(
    tables: Annotated[list[Path], typer.Argument(metavar="TABLE...", help="Series tables, or folders of nights.")],
    model: Annotated[str, typer.Option(metavar="NAME", help="eclipse or transit.")] = "eclipse",
    target: Annotated[str | None, typer.Option(metavar="NAME", help="The star; the first target by default.")] = None,
    filter_: Annotated[str, typer.Option("--filter", metavar="NAME", help="Only this filter, of nights.")] = "",
    detrend: Annotated[str, typer.Option(metavar="a,b", help="As for ulvar curve.")] = "",
    law: Annotated[str, typer.Option(metavar="U1,U2", help="Quadratic limb darkening of a transit.")] = "0.4,0.25",
    out: Annotated[Path | None, typer.Option(metavar="TABLE", help="Write times and errors here, for ulvar ephemeris.")] = None,
    json: Json = False,
    replace: Replace = False,
) -> None:  # fmt: skip
    """Time the minimum of each night and filter by itself."""
    check_table(out, replace)
    parts = parts_of(tables, target, filter_)
    limb = limb_law(law)
    terms = names_in(detrend)
    try:
        found, missing = time_minima(parts, CurveOptions(model, terms, target=target, law=limb))
        if out is not None and found:
            write_minima(out, found, replace=replace)
    except (ValueError, StarListError) as error:
        fail_usage(str(error))
    except OutputExists as error:
        fail_usage(f"{error} (see --replace)")
    lines = [
        f"{one.name}: {with_error(one.time, one.error)}, depth {with_error(one.depth_mag, one.depth_error_mag)} mag"
        + (f", by folding {with_error(one.folded, one.folded_error)}" if math.isfinite(one.folded) else "")
        for one in found
    ] + [f"{name}: {why}" for name, why in missing]
    body = {
        "minima": [{k: v if not isinstance(v, float) or math.isfinite(v) else None for k, v in vars(one).items()} for one in found],
        "missing": [{"name": name, "reason": why} for name, why in missing], "output": str(out) if out is not None and found else "",
    }  # fmt: skip
    finish(body, as_json=json, done=bool(found), failed=bool(missing), lines=lines)
