"""ulvar stack."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from ulvar.calibration import parse_region
from ulvar.cli.common import (
    Facts,
    Json,
    Paths,
    Replace,
    SeriesName,
    as_failed,
    default,
    fail_usage,
    failed_outcomes,
    finish,
    hint,
    hinted,
    lights_of,
    masters_in,
    option,
    output_of,
    read_exposures,
    running,
    series_among,
    told,
)
from ulvar.cli.places import body_lines, given_body, given_common
from ulvar.combine import Method
from ulvar.engine import Failed, counted
from ulvar.flows import (
    CalibrationPlan,
    Outcome,
    StackOptions,
    StackResult,
    expected_needs,
    plan_calibration,
    stack_exposures,
    stack_planes,
    told_apart,
)
from ulvar.frames import ExposureFacts, is_supported_output
from ulvar.inspection import notice
from ulvar.night.settings import CalibrateSettings
from ulvar.registration import Kernel, Resampling
from ulvar.stacking import STACK_REJECTION, Colours, Framing, GridOptions, Normalise, Weighting


class Align(StrEnum):
    """How exposures are brought together."""

    STARS = "stars"
    SKY = "sky"
    MOSAIC = "mosaic"
    NONE = "none"


def stack(
    paths: Paths,
    out: Annotated[Path, typer.Option("--out", metavar="FILE", help="The stack: .fits, or .tif.")],
    align: Annotated[
        Align,
        typer.Option(
            help="stars: by star patterns. sky: by plate solutions. mosaic: pointings that overlap, laid beside each other by the "
            "stars they share. none: not at all."
        ),
    ] = Align.STARS,
    framing: Annotated[Framing, option("combine", "framing")] = default("combine", "framing"),
    method: Annotated[Method, option("combine", "method")] = default("combine", "method"),
    lost: Annotated[float, option("combine", "lost")] = default("combine", "lost"),
    low: Annotated[float | None, option("combine", "low")] = default("combine", "low"),
    high: Annotated[float | None, option("combine", "high")] = default("combine", "high"),
    normalise: Annotated[Normalise, option("combine", "normalise")] = default("combine", "normalise"),
    weights: Annotated[Weighting | None, option("combine", "weights")] = None,
    reference: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Exposure that sets the grid; the best by default.")
    ] = None,
    masters: Annotated[
        Path | None,
        typer.Option(
            "--masters",
            metavar="DIR",
            help="The exposures are raw: calibrate them on the way with masters of this folder.",
        ),
    ] = None,
    partial: Annotated[bool, option("calibrate", "partial", "--partial")] = default("calibrate", "partial"),
    memory: Annotated[
        float | None, typer.Option(metavar="GIB", help="Memory budget; half of what is free by default.")
    ] = None,
    trails: Annotated[bool, option("combine", "trails", "--trails/--no-trails")] = default("combine", "trails"),
    maps: Annotated[bool, option("combine", "maps", "--maps/--no-maps")] = default("combine", "maps"),
    proper: Annotated[bool, option("combine", "proper", "--proper/--no-proper")] = default("combine", "proper"),
    feather: Annotated[
        float, typer.Option(metavar="PX", help="Over so many pixels exposures of a mosaic fade in from their edges.")
    ] = 0.0,
    drop: Annotated[float | None, option("combine", "drop", "--drop")] = default("combine", "drop"),
    colours: Annotated[Colours, option("combine", "colours")] = default("combine", "colours"),
    part: Annotated[str, option("combine", "part", metavar="[X1:X2,Y1:Y2]")] = default("combine", "part"),
    scale: Annotated[float, option("combine", "scale")] = default("combine", "scale"),
    north_up: Annotated[bool, option("combine", "north_up", "--north-up")] = default("combine", "north_up"),
    turn: Annotated[float, option("combine", "turn_deg", "--turn")] = default("combine", "turn_deg"),
    kernel: Annotated[Kernel, option("combine", "kernel")] = default("combine", "kernel"),
    clamp: Annotated[bool, option("combine", "clamp", "--clamp")] = default("combine", "clamp"),
    depth: Annotated[int, typer.Option(help="Bits of a TIFF: 16, or 32 for float.")] = 16,
    common: Annotated[
        list[str],
        typer.Option(
            "--common",
            metavar="FILE:X,Y=FILE:X,Y",
            help="A star of an exposure that is not aligned by itself, and the same star in one that is; give it once or twice for "
            "each such exposure.",
        ),
    ] = [],
    body_at: Annotated[
        list[str],
        typer.Option(
            "--body-at",
            metavar="FILE:X,Y",
            help="Where a moving body is in an exposure, as the window tells pixels; give it for two or more, and a second stack is made on "
            "which the body stays.",
        ),
    ] = [],
    body_rate: Annotated[
        str | None,
        typer.Option(
            "--body-rate",
            metavar="ARCSEC_H,ANGLE",
            help="The same by a body's speed, in arcsec an hour, and the position angle of its way, in degrees.",
        ),
    ] = None,
    body_table: Annotated[
        Path | None,
        typer.Option(
            "--body-table",
            metavar="FILE.csv",
            help="The same by a table: places by time (name, ra, dec, time_utc), or orbital elements.",
        ),
    ] = None,
    estimate: Annotated[
        bool, typer.Option("--estimate", help="Tell what it will take of time, memory and disk, and make nothing.")
    ] = False,
    series: SeriesName = None,
    together: Annotated[
        bool, typer.Option("--together", help="All series into one stack, whatever field and filter.")
    ] = False,
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:
    """Align exposures and combine them, each series into a stack of its own."""
    if depth not in (16, 32):
        fail_usage("--depth is 16 or 32")
    if not 0 <= feather <= 1000:
        fail_usage("--feather goes from 0 to 1000")
    if align is Align.MOSAIC and (drop is not None or proper):
        fail_usage("--drop and --proper are for exposures of one field, not for a mosaic")
    if memory is not None and memory <= 0:
        fail_usage("--memory must be above 0")
    if not is_supported_output(out.name):
        fail_usage(f"{out}: a stack is written as .fits, .fit, .fts or .tif")
    weighting = weights or (Weighting.EQUAL if method is Method.MEDIAN else default("combine", "weights"))
    if method is Method.MEDIAN and weighting is not Weighting.EQUAL:
        fail_usage("the median takes no weights: use --weights equal with --method median")
    try:
        grid = GridOptions(framing, scale, north_up, turn, parse_region(part).corner_and_size if part else None)
        if drop is not None and not 0 < drop <= 1:
            raise ValueError("--drop is over 0 and up to 1")
        rejection = dataclasses.replace(STACK_REJECTION, method=method, low=low, high=high, lost=lost)
    except ValueError as error:
        fail_usage(str(error))
    if align is not Align.STARS and common:
        fail_usage("--common helps where exposures are aligned by stars")
    if align is Align.MOSAIC and (body_at or body_rate or body_table):
        fail_usage("a moving body is stacked on exposures of one field, not on a mosaic")
    exposures, failed, _ = read_exposures(paths, fact)
    lights, rest = lights_of(exposures)
    body = given_body(body_at, body_rate, body_table, exposures)
    pointed = given_common(common, exposures)
    plan, unusable = (None, []) if masters is None else _calibrations(lights, masters, partial)
    refused = [] if plan is None else hinted(list(plan.refused))
    if plan is not None:
        fitting = {task.facts.path for task in plan.tasks}
        lights = [f for f in lights if f.path in fitting]
    chosen = None
    if reference is not None:
        chosen = next((f.path for f in lights if Path(f.path).resolve() == reference.resolve()), None)
        if chosen is None:
            fail_usage(f"{reference}: the reference is not among the exposures")
    options = StackOptions(
        align.value, grid, rejection, normalise, weighting, depth, chosen, trails, maps, proper, drop, Resampling(kernel, clamp),
        feather, colours, body=body, common=pointed,
    )  # fmt: skip
    if not lights:
        problems = [*failed_outcomes(failed), *refused, *rest]
        finish(
            {"output": "", "frames": [_frame_json(o) for o in problems], "width": 0, "height": 0, "series": [],
             "passed_over": as_failed(unusable)},
            as_json=json, done=False,
            lines=["there is no light to stack", *told(problems), *told(failed_outcomes(unusable))],
            findings=[] if plan is None else plan.findings,
        )  # fmt: skip
    calibrations = None if plan is None else {t.facts.path: t for t in plan.tasks}
    chosen_series = series_among(lights, series)
    if together:
        members = {path for one in chosen_series for path in one.files}
        sets = [("", "", out, [f for f in lights if f.path in members])]
    elif align is Align.MOSAIC:
        # Pointings of a mosaic are fields of their own to the series.
        of_filter: dict[str, list[ExposureFacts]] = {}
        for one in chosen_series:
            of_filter.setdefault(one.filter, []).extend(one.members)
        several = len(of_filter) > 1
        sets = [
            (name, name or "no filter", output_of(out, name or "nofilter", several), list(members))
            for name, members in of_filter.items()
        ]
    else:
        several = len(chosen_series) > 1
        sets = [(one.key, one.title, output_of(out, one.key, several), list(one.members)) for one in chosen_series]
    if estimate:
        _tell_needs(
            [(name, title, members) for name, title, _, members in sets],
            options,
            calibrations is not None,
            as_json=json,
        )
    made: list[tuple[str, str, StackResult]] = []
    planes: dict[str, dict[str, StackResult]] = {}
    with running(max(len(s[-1]) for s in sets), memory_gib=memory) as context:
        for name, title, output, members_of in sets:
            # A reference belongs to one series; the others choose theirs.
            own = options if chosen in {f.path for f in members_of} else dataclasses.replace(options, reference=None)
            result = stack_exposures(
                members_of, output, context, options=own, replace=replace, name=name, calibrations=calibrations
            )
            made.append((name, title, result))
            planes[result.output] = stack_planes(result, context, options=own, replace_existing=replace, name=name)
    of = {o.file: name for name, _, result in made for o in result.frames}
    outcomes = hinted([*(o for _, _, result in made for o in result.frames), *failed_outcomes(failed), *refused, *rest])
    findings = [] if plan is None else list(plan.findings)
    findings += [f for _, _, result in made if result.agreement is not None for f in told_apart(result.agreement)]
    filters = sorted({f.filter for f in lights if f.path in of})
    if together and len(filters) > 1:
        findings.append(
            notice(
                "mixed_filters",
                "Exposures of several filters",
                f"Filters {', '.join(name or 'none' for name in filters)} were stacked into one image.",
                tuple(of),
                station="intake",
            )  # fmt: skip
        )
    lines = []
    for _, title, result in made:
        used = sum(o.ok for o in result.frames)
        what = f"{title}: " if len(made) > 1 else ""
        lines.append(
            f"{what}{result.reason}{hint(result.code)}" if result.reason
            else f"{what}{result.output}: {counted(used, 'exposure')}, {result.width} x {result.height} px"
        )  # fmt: skip
        if result.proper or result.no_proper:
            lines.append(f"{what}{result.proper or f'no proper coadd: {result.no_proper}'}")
        if result.drops or result.no_drops:
            lines.append(f"{what}{result.drops or f'no reconstruction: {result.no_drops}'}")
        if result.uneven:
            lines.append(f"{what}{result.uneven}")
        lines += [f"{what}{words}" for words in body_lines(result.body)]
        for colour, plane in planes[result.output].items():
            lines.append(f"{what}{plane.output}" if plane.ok else f"{what}{colour}: {plane.reason}{hint(plane.code)}")
    good = [result for _, _, result in made if result.ok]
    whole = all(one.ok for of_stack in planes.values() for one in of_stack.values()) and all(
        result.ok and all(o.ok for o in result.frames) for _, _, result in made
    )
    first = good[0] if good else None
    finish(
        {
            "output": first.output if first else "",
            "frames": [{**_frame_json(o), "series": of.get(o.file, "")} for o in outcomes],
            "width": first.width if first else made[0][2].width, "height": first.height if first else made[0][2].height,
            "skipped": bool(first and first.skipped),
            "series": [
                {
                    "name": name, "title": title, "output": result.output if result.ok else "", "reason": result.reason,
                    "width": result.width, "height": result.height, "skipped": result.skipped,
                    "used": sum(o.ok for o in result.frames), "proper": result.proper, "no_proper": result.no_proper,
                    "drops": result.drops, "no_drops": result.no_drops, "uneven": result.uneven,
                    "body": None if result.body is None else dataclasses.asdict(result.body),
                    "needs": None if result.needs is None else dataclasses.asdict(result.needs),
                    "planes": {
                        colour: {"output": one.output if one.ok else "", "reason": one.reason}
                        for colour, one in planes[result.output].items()
                    },
                }
                for name, title, result in made
            ],
            "passed_over": as_failed(unusable),
        },
        as_json=json, done=bool(good), failed=bool(failed or refused) or not whole,
        lines=lines + told(outcomes) + told(failed_outcomes(unusable)), findings=findings,
    )  # fmt: skip


def _calibrations(lights: list[ExposureFacts], masters: Path, partial: bool) -> tuple[CalibrationPlan, list[Failed]]:
    """Return with what raw exposures are calibrated on the way, and masters that cannot be used; ends where there are none."""
    found, unusable = masters_in(masters)
    settings = CalibrateSettings(header_regions=False)
    plan = plan_calibration(lights, found, options=settings.options(settings.preparation()), partial=partial)
    return plan, unusable


def _tell_needs(
    sets: Sequence[tuple[str, str, Sequence[ExposureFacts]]], options: StackOptions, calibrated: bool, *, as_json: bool
) -> None:
    """Tell what stacking each series will take, and end."""
    needs = [
        (name, title, members, expected_needs(members, options, found=False, calibrated=calibrated))
        for name, title, members in sets
        if members
    ]
    finish(
        {
            "series": [
                {"name": name, "title": title, "exposures": len(members), "needs": dataclasses.asdict(one), "refusal": one.refusal}
                for name, title, members, one in needs
            ]
        },
        as_json=as_json, done=bool(needs),
        lines=[f"{title}: {counted(len(members), 'exposure')}: {one.refusal or one.words}" for _, title, members, one in needs],
    )  # fmt: skip


def _frame_json(outcome: Outcome) -> dict[str, object]:
    empty = {"matrix": None, "residual_px": None, "weight": 0.0, "rejected_fraction": None}
    return {
        "file": outcome.file,
        "used": outcome.ok,
        "ok": outcome.ok,
        "reason": outcome.reason,
        **empty,
        **outcome.values,
    }
