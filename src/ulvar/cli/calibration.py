"""ulvar masters, calibrate."""

from __future__ import annotations

from dataclasses import replace as replace_facts
from pathlib import Path
from typing import Annotated

import typer
from pydantic import ValidationError

from ulvar.calibration import MatchOptions, parse_region
from ulvar.calibration.prepare import Preparation
from ulvar.cli.common import (
    Facts,
    Json,
    Paths,
    Replace,
    as_failed,
    default,
    fail_setting,
    fail_usage,
    failed_outcomes,
    finish,
    hinted,
    lights_of,
    masters_in,
    numbers_in,
    option,
    read_exposures,
    running,
)
from ulvar.cli.common import told as told_outcomes
from ulvar.cli.sorting import Tag, rules, told_sort
from ulvar.combine import Method, Rejection
from ulvar.engine import Failed, counted, percent
from ulvar.flows import (
    KINDS,
    MasterOptions,
    calibrate_lights,
    contradicted,
    make_masters,
)
from ulvar.frames import Role
from ulvar.inspection import Severity, notice
from ulvar.night.settings import CalibrateSettings

Overscan = Annotated[
    str, typer.Option("--overscan", metavar="[X1:X2,Y1:Y2]", help="Pixels without light, as FITS counts them.")
]
Trim = Annotated[str, typer.Option("--trim", metavar="[X1:X2,Y1:Y2]", help="Pixels to keep, as FITS counts them.")]
Linearity = Annotated[
    str,
    typer.Option("--linearity", metavar="C1,C2...", help="Polynomial: true = d (1 + c1 u + c2 u^2), u = d / 65535."),
]


def masters(
    paths: Paths,
    out: Annotated[Path, typer.Option("--out", metavar="DIR", help="Folder of the masters.")],
    method: Annotated[Method, option("masters", "method")] = default("masters", "method"),
    low: Annotated[float, option("masters", "low")] = default("masters", "low"),
    high: Annotated[float, option("masters", "high")] = default("masters", "high"),
    compare: Annotated[bool, option("masters", "compare", "--compare/--no-compare")] = default("masters", "compare"),
    overscan: Overscan = "",
    trim: Trim = "",
    linearity: Linearity = "",
    json: Json = False,
    fact: Facts = [],
    tag: Tag = [],
    replace: Replace = False,
) -> None:
    """Build every master that the frames allow."""
    exposures, failed, other = read_exposures(paths, fact, rules(tag), empty_is_told=True)
    preparation = _preparation(overscan, trim, linearity)
    if not any(f.role in KINDS and not f.is_master for f in exposures):
        findings = list(told_sort(exposures, failed, other, None).findings)
        if exposures:
            findings.append(
                notice(
                    "no_calibration",
                    "No calibration frames",
                    f"None of {counted(len(exposures), 'exposure')} is a bias, dark, dark flat or flat.",
                    severity=Severity.BLOCKS,
                    station="intake",
                )
            )
        finish({"masters": []}, as_json=json, done=False, findings=findings)
    with running(len(exposures)) as context:
        told = told_sort(exposures, failed, other, context)
        options = MasterOptions(
            matching=MatchOptions(bound_tags=tuple(r.name for r in rules(tag))),
            rejection=_rejection(method, low, high), preparation=preparation, compare=compare,
            excluded=contradicted(told.findings, exposures),
        )  # fmt: skip
        outcomes, more = make_masters(list(told.exposures), out, context, options=options, replace_existing=replace)
    outcomes = hinted(outcomes)
    findings = list(told.findings)
    good = [o for o in outcomes if o.ok]
    lines = [
        f"{Path(o.output).name}: {counted(o.values['count'], 'frame')}, {percent(o.values['rejected_fraction'], 3)} rejected"
        + (", was there already" if o.skipped else "")
        for o in good
    ] + told_outcomes(outcomes)
    inner = ("left_out", "levels_adu", "inputs", "rejected_fractions", "key", "subtracted")
    entries = [
        {"file": o.output, "skipped": o.skipped, **{k: v for k, v in o.values.items() if k not in inner}} for o in good
    ]
    missed = [{"file": o.file, "ok": False, "reason": o.reason, **o.values} for o in outcomes if not o.ok]
    finish(
        {"masters": entries, "failed": missed}, as_json=json, done=bool(good),
        failed=bool(failed or missed) or any(o.values.get("left_out") for o in good), lines=lines,
        findings=findings + more,
    )  # fmt: skip


def _rejection(method: Method, low: float, high: float) -> Rejection:
    try:
        return Rejection(method, low, high, few=True)
    except ValueError as error:
        fail_usage(str(error))


def _coefficients(linearity: str) -> tuple[float, ...]:
    return numbers_in(linearity, "--linearity", "C1,C2...") if linearity else ()


def _preparation(overscan: str, trim: str, linearity: str) -> Preparation:
    try:
        return Preparation(
            parse_region(overscan) if overscan else None,
            parse_region(trim) if trim else None,
            linearity=_coefficients(linearity),
        )
    except ValueError as error:
        fail_usage(str(error))


def calibrate(
    paths: Paths,
    masters: Annotated[Path, typer.Option("--masters", metavar="DIR", help="Folder of masters.")],
    out: Annotated[Path, typer.Option("--out", metavar="DIR", help="Folder of the calibrated exposures.")],
    partial: Annotated[bool, option("calibrate", "partial", "--partial")] = default("calibrate", "partial"),
    scale_darks: Annotated[bool, option("masters", "scale_darks", "--scale-darks")] = default("masters", "scale_darks"),
    overscan: Overscan = "",
    trim: Trim = "",
    linearity: Linearity = "",
    repair: Annotated[bool, option("calibrate", "repair", "--repair/--no-repair")] = default("calibrate", "repair"),
    hot_sigma: Annotated[float, option("calibrate", "hot_sigma")] = default("calibrate", "hot_sigma"),
    cosmic: Annotated[bool, option("calibrate", "cosmic", "--cosmic")] = default("calibrate", "cosmic"),
    overlay: Annotated[
        list[str], typer.Option("--overlay", metavar="[X1:X2,Y1:Y2]", help="A rectangle without picture: masked.")
    ] = [],
    pedestal: Annotated[
        str, typer.Option("--pedestal", metavar="off|auto|ADU", help="A constant added to every pixel.")
    ] = "off",
    suffix: Annotated[str, option("calibrate", "suffix")] = default("calibrate", "suffix"),
    json: Json = False,
    fact: Facts = [],
    tag: Tag = [],
    replace: Replace = False,
) -> None:
    """Calibrate lights with the masters that fit them; a light without a safe match is skipped and named."""
    found, unusable = masters_in(masters)
    exposures, failed, _ = read_exposures(paths, fact, rules(tag))
    lights, rest = lights_of(exposures)
    # Who calibrates what does not say what it is, says that it is a light.
    lights = [replace_facts(f, role=Role.LIGHT) for f in lights]
    try:
        settings = CalibrateSettings(
            overscan=overscan, trim=trim, linearity=list(_coefficients(linearity)),
            repair=repair, hot_sigma=hot_sigma, cosmic=cosmic, overlays=list(overlay), suffix=suffix,
            pedestal="off" if pedestal == "off" else "auto" if pedestal == "auto" else "fixed",
            pedestal_adu=0.0 if pedestal in ("off", "auto") else numbers_in(pedestal, "--pedestal", "off, auto or a number", 1)[0],
            header_regions=False,
        )  # fmt: skip
    except ValidationError as error:
        fail_setting(error)
    except ValueError as error:
        fail_usage(str(error))
    matching = MatchOptions(scale_darks=scale_darks, bound_tags=tuple(r.name for r in rules(tag)))
    with running(len(lights)) as context:
        outcomes, findings = calibrate_lights(
            lights, found, out, context, matching=matching, options=settings.options(settings.preparation()),
            suffix=f"{suffix}.fits", partial=partial, replace_existing=replace,
        )  # fmt: skip
    # Calibration frames in a folder of lights are no failure; they are passed over and told.
    outcomes = failed_outcomes(failed) + hinted(outcomes)
    good = [o for o in outcomes if o.ok]
    numbers = ("noise_before", "noise_after", "noise_expected", "sky_adu", "pedestal_adu")
    frames = [
        {
            "file": o.file, "output": o.output, "bias": o.values.get("bias", ""), "dark": o.values.get("dark", ""),
            "flat": o.values.get("flat", ""), "ok": o.ok, "reason": o.reason, "skipped": o.skipped,
            **{name: o.values.get(name) for name in numbers},
        }
        for o in outcomes
    ]  # fmt: skip
    lines = [f"{len(good)} of {len(outcomes)} lights calibrated into {out}", *told_outcomes(outcomes)]
    if rest and not lights:
        lines += told_outcomes(rest)
    passed = [*unusable, *(Failed(o.reason, o.file) for o in rest)]
    # A master that cannot be read is not what was asked for, but whoever counts on it has to know.
    lines += told_outcomes(failed_outcomes(unusable))
    finish(
        {"frames": frames, "passed_over": as_failed(passed)}, as_json=json, done=bool(good),
        failed=len(good) < len(outcomes), lines=lines, findings=findings,
    )  # fmt: skip
