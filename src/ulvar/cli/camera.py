"""ulvar shooting, camera, library: what is missing, what a camera is like, and masters kept for many nights."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from ulvar.calibration import Candidate, FlatPlan, MatchOptions, Transfer, shooting_list
from ulvar.cli.common import (
    Facts,
    Json,
    Paths,
    Replace,
    as_failed,
    fail_usage,
    failed_outcomes,
    finish,
    read_exposures,
    running,
    told,
)
from ulvar.engine import Failed, OutputExists, counted
from ulvar.flows import (
    KINDS,
    Entry,
    Library,
    default_library,
    load_masters,
    look_at_pixels,
    match_groups,
    measure_settings,
    plan_by_filter,
)
from ulvar.frames import FrameError, Role, group_exposures
from ulvar.night.shooting import write_shooting_list

library = typer.Typer(no_args_is_help=True, add_completion=False)
Folder = Annotated[
    Path | None, typer.Option("--library", metavar="DIR", help="The library's folder; by default the user's own.")
]


def shooting(
    paths: Paths,
    out: Annotated[Path | None, typer.Option("--out", metavar="FILE", help="A .csv table or an .html page.")] = None,
    masters: Annotated[Path | None, typer.Option("--masters", metavar="DIR", help="Masters that are there.")] = None,
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:
    """List the calibration frames still to be taken for the lights among the exposures, and why."""
    exposures, failed, _ = read_exposures(paths, fact)
    groups = group_exposures(exposures)
    candidates = [Candidate(g.role, g.typical, g.count, g.key) for g in groups if g.role in KINDS]
    if masters is not None:
        if not masters.is_dir():
            fail_usage(f"{masters}: there is no such folder")
        found, unusable = load_masters(masters)
        candidates += [candidate for candidate, _ in found]
        failed = [*failed, *unusable]
    lights = [f for f in exposures if f.role is Role.LIGHT and not f.is_master]
    shots = shooting_list(match_groups(lights, [(c, "") for c in candidates], options=MatchOptions()))
    if out is not None and lights:
        try:
            write_shooting_list(out, shots, counted(len(lights), "light"), replace=replace)
        except OutputExists as error:
            fail_usage(f"{error} (see --replace)")
    entries = [{**vars(s), "kind": s.kind.value, "minutes": round(s.minutes, 1)} for s in shots]
    nothing = (
        "Nothing to take: every group of lights has what it needs." if lights else "There is no light to calibrate."
    )
    lines = [f"{s.count:>4} x {s.kind.word:<10} {s.filter:<4} "
             f"{'' if s.exposure_s is None else f'{s.exposure_s:g} s':<9} {s.why}" for s in shots]  # fmt: skip
    finish(
        {"shots": entries, "output": str(out) if out else "", "failed": as_failed(failed)}, as_json=json,
        done=bool(lights), failed=bool(failed),
        lines=[*(lines or [nothing]), *told(failed_outcomes(failed))],
    )  # fmt: skip


def camera(
    paths: Paths,
    level: Annotated[float, typer.Option("--level", help="Flats shall reach this part of the full range.")] = 0.5,
    json: Json = False,
    fact: Facts = [],
) -> None:
    """Measure gain and read noise from pairs of flats and bias frames, and plan flats for a level."""
    if not 0 < level < 1:
        fail_usage("--level is a fraction between 0 and 1")
    exposures, failed, _ = read_exposures(paths, fact)
    with running(len(exposures) // 20) as context:
        looks = look_at_pixels([f for f in exposures if f.role in KINDS], context)
        measured = measure_settings(exposures, looks, context)
    plans = plan_by_filter(exposures, looks, level)
    cameras = []
    lines = []
    for result in measured:
        if isinstance(result, Failed):
            lines.append(result.reason)
            continue
        t: Transfer = result.transfer
        cameras.append(
            {"camera": result.facts.camera, "gain": result.facts.gain, "gain_e_per_adu": t.gain_e_per_adu,
             "gain_error": t.gain_error, "read_noise_e": t.read_noise_e, "read_noise_error": t.read_noise_error}
        )  # fmt: skip
        lines.append(f"{result.facts.camera}: {t.gain_e_per_adu:.4f} e-/ADU, read noise {t.read_noise_e:.3f} e-")
    flats = []
    unplanned = []
    for name, (_, plan) in plans.items():
        if isinstance(plan, FlatPlan):
            flats.append({"filter": name, "exposure_s": plan.exposure_s, "warnings": list(plan.warnings)})
            lines.append(f"flats {name}: {plan.exposure_s:.3g} s. {' '.join(plan.warnings)}".rstrip())
        else:
            lines.append(f"flats {name} ({Path(plan.file).name}): {plan.reason}")
            unplanned.append(plan)
    if not lines and exposures:
        lines.append("There is no flat among the exposures.")
    finish(
        {"cameras": cameras, "flats": flats, "failed": as_failed([*failed, *unplanned])},
        as_json=json,
        done=bool(cameras or flats),
        failed=bool(failed),
        lines=lines + told(failed_outcomes(failed)),
    )


def _entry_json(entry: Entry) -> dict[str, object]:
    f = entry.facts
    return {
        "file": entry.name, "kind": f.role.value, "filter": f.filter, "exposure_s": f.exposure_s, "gain": f.gain,
        "offset": f.offset, "temperature_c": f.sensor_temperature_c, "count": f.count, "camera": f.camera,
        "level_adu": entry.level_adu, "added": entry.added, "origin": entry.origin, "retired": entry.retired,
    }  # fmt: skip


@library.command("list")
def library_list(
    folder: Folder = None,
    retired: Annotated[bool, typer.Option("--retired", help="Show retired masters too.")] = False,
    json: Json = False,
) -> None:
    """List the masters in the library."""
    entries = Library(folder or default_library()).entries(retired=retired)
    lines = [f"{e.facts.count:>4}  {e.name}{'  retired' if e.retired else ''}" for e in entries]
    finish({"masters": [_entry_json(e) for e in entries]}, as_json=json, done=True, lines=lines)


@library.command("add")
def library_add(
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="Masters made here or elsewhere.")],
    folder: Folder = None,
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:
    """Copy masters into the library; --fact says what a header does not (role=dark, count=30)."""
    from ulvar.cli.common import given_facts

    shelf = Library(folder or default_library())
    entries, reasons = [], []
    for file in files:
        if not file.exists():
            fail_usage(f"{file}: there is no such file")
        try:
            entries.append(shelf.add(file, given=given_facts(fact), replace_existing=replace))
        except FrameError as error:
            reasons.append(f"{file.name}: {error.reason}")
        except (OutputExists, ValueError) as error:
            reasons.append(f"{file.name}: {error}")
    lines = [e.name for e in entries] + reasons
    finish(
        {"masters": [_entry_json(e) for e in entries], "failed": reasons}, as_json=json, done=bool(entries),
        failed=bool(reasons), lines=lines,
    )  # fmt: skip


@library.command("retire")
def library_retire(
    names: Annotated[list[str], typer.Argument(metavar="NAME...", help="File names in the library.")],
    folder: Folder = None,
    back: Annotated[bool, typer.Option("--back", help="Take them into use again.")] = False,
) -> None:
    """Take masters out of use; the files stay."""
    shelf = Library(folder or default_library())
    known = {e.name for e in shelf.entries(retired=True)}
    unknown = [n for n in names if n not in known]
    if unknown:
        fail_usage(f"{unknown[0]}: the library has no such master")
    shelf.retire(names, retired=not back)
    finish({"masters": names}, as_json=False, done=True, lines=names)
