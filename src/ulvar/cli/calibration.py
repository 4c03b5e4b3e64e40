"""ulvar sort, masters, calibrate."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from ulvar.cli.common import (
    Facts,
    Json,
    Paths,
    Replace,
    fail_usage,
    failed_outcomes,
    finish,
    lights_of,
    plain_errors,
    read_exposures,
    running,
    told,
)
from ulvar.engine import Finding, Severity
from ulvar.frames import Group
from ulvar.night.flows.calibrate import calibrate_lights, load_masters
from ulvar.night.flows.intake import sort_exposures
from ulvar.night.flows.masters import KINDS, make_masters


def _group_json(group: Group) -> dict[str, object]:
    return {
        "role": group.role.value, "is_master": group.is_master, "filter": group.filter,
        "exposure_s": group.exposure_s, "gain": group.gain, "offset": group.offset,
        "temperature_c": group.temperature_c, "binning": group.binning, "width": group.width,
        "height": group.height, "camera": group.camera, "count": group.count, "files": list(group.files),
    }  # fmt: skip


def sort(paths: Paths, json: Json = False, fact: Facts = []) -> None:
    """Say what there is: groups of exposures, and what does not fit or cannot be read."""
    exposures, failed, other = read_exposures(paths, fact)
    result = sort_exposures(exposures, failed, other)
    lines = [f"{len(exposures)} exposures in {len(result.groups)} groups"]
    for group in result.groups:
        temperature = "" if group.temperature_c is None else f"{group.temperature_c:+.1f} C"
        exposure = "" if group.exposure_s is None else f"{group.exposure_s:g} s"
        gain = "" if group.gain is None else f"gain {group.gain:g}"
        lines.append(
            f"{group.count:>6}  {group.role.value:<10}{group.filter:<6}{exposure:<9}{gain:<9}{temperature:<9}"
            f"{group.width} x {group.height}  {group.camera}"
        )
    finish(
        {"groups": [_group_json(g) for g in result.groups]}, as_json=json, done=len(exposures), failed=len(failed),
        lines=lines, findings=result.findings,
    )  # fmt: skip


def masters(
    paths: Paths,
    out: Annotated[Path, typer.Option("--out", metavar="DIR", help="Folder of the masters.")],
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:
    """Build every master that the frames allow."""
    exposures, failed, other = read_exposures(paths, fact)
    findings = list(sort_exposures(exposures, failed, other).findings)
    if not any(f.role in KINDS and not f.is_master for f in exposures):
        findings.append(
            Finding(
                Severity.BLOCKS,
                "no_calibration",
                "No calibration frames",
                f"None of the {len(exposures)} exposures is a bias, dark, dark flat or flat.",
            )  # fmt: skip
        )
        finish({"masters": []}, as_json=json, done=0, failed=1, findings=findings)
    with plain_errors(), running(len(exposures)) as context:
        outcomes, more = make_masters(exposures, out, context, replace=replace)
    good = [o for o in outcomes if o.ok]
    lines = [
        f"{Path(o.output).name}: {o.values['count']} frames, {o.values['rejected_fraction']:.3%} rejected"
        + (", was there already" if o.skipped else "")
        for o in good
    ] + told(outcomes)
    entries = [
        {"file": o.output, "skipped": o.skipped, **{k: v for k, v in o.values.items() if k != "left_out"}} for o in good
    ]
    missed = [{"file": o.file, "ok": False, "reason": o.reason, **o.values} for o in outcomes if not o.ok]
    finish(
        {"masters": entries, "failed": missed}, as_json=json, done=len(good),
        failed=len(failed) + len(missed) + sum(len(o.values.get("left_out", [])) for o in good), lines=lines,
        findings=findings + more,
    )  # fmt: skip


def calibrate(
    paths: Paths,
    masters: Annotated[Path, typer.Option("--masters", metavar="DIR", help="Folder of masters.")],
    out: Annotated[Path, typer.Option("--out", metavar="DIR", help="Folder of the calibrated exposures.")],
    partial: Annotated[
        bool, typer.Option("--partial", help="Calibrate with what fits even where a kind has nothing safe.")
    ] = False,
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:
    """Calibrate lights with the masters that fit them; a light without a safe match is told, not calibrated."""
    if not masters.is_dir():
        fail_usage(f"{masters}: there is no such folder")
    exposures, failed, _ = read_exposures(paths, fact)
    lights, rest = lights_of(exposures)
    found, _ = load_masters(masters)
    if not found:
        fail_usage(f"{masters}: the folder holds no master")
    with plain_errors(), running(len(lights)) as context:
        outcomes, findings = calibrate_lights(lights, found, out, context, partial=partial, replace_existing=replace)
    # Calibration frames in a folder of lights are no failure; they are passed over and told.
    outcomes = failed_outcomes(failed) + outcomes
    good = [o for o in outcomes if o.ok]
    frames = [
        {
            "file": o.file, "output": o.output, "bias": o.values.get("bias", ""), "dark": o.values.get("dark", ""),
            "flat": o.values.get("flat", ""), "ok": o.ok, "reason": o.reason, "skipped": o.skipped,
        }
        for o in outcomes
    ]  # fmt: skip
    lines = [f"{len(good)} of {len(outcomes)} lights calibrated into {out}", *told(outcomes)]
    if rest and not lights:
        lines += told(rest)
    finish(
        {"frames": frames}, as_json=json, done=len(good), failed=len(outcomes) - len(good), lines=lines,
        findings=findings,
    )  # fmt: skip
