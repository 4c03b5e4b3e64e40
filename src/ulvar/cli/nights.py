"""ulvar demo, run, check."""

from __future__ import annotations

import math
import time
from pathlib import Path
from typing import Annotated, Any

import numpy as np
import platformdirs
import typer

from ulvar.cli.common import Json, errors, fail_usage, finish, running
from ulvar.cli.window import open_window
from ulvar.engine import counted
from ulvar.frames import read_frame, scan_file
from ulvar.inspection import Finding
from ulvar.night import STATIONS, Night, NightError, RecipeError, StationResult, read_recipe, run_station
from ulvar.night.checking import check_night, set_aside, stations_again
from ulvar.photometry import read_star_list
from ulvar.stars import estimate_background


def prepare_demo(folder: Path, truth: dict[str, Any]) -> Night:
    """Return the demo's night with its catalogue and stars already chosen."""
    night = Night.create(folder / "night", [folder / truth["raw"]], name=truth["name"])
    if not night.meta("library"):
        # The demo is the same on every machine: it has a library of its own.
        night.set_meta("library", str(folder / "library"))
    settings = night.settings
    if not settings.plate.catalogue:
        settings.plate.catalogue = str(folder / truth["catalogue"])
        night.set_settings(settings)
    if not night.stars():
        night.set_stars(read_star_list(folder / truth["stars"]))
    return night


def demo(
    folder: Annotated[Path | None, typer.Option(metavar="DIR", help="Where the demo night is made.")] = None,
    no_window: Annotated[
        bool, typer.Option("--no-window", help="Run the whole path and print results beside the truth.")
    ] = False,
    json: Json = False,
) -> None:
    """Make the demo night if it is absent, and open it."""
    # Nights of one's own need nothing of what makes one.
    from ulvar.simulation import make_demo_night

    place = (folder or platformdirs.user_data_path("ulvar") / "demo").resolve()
    start = time.perf_counter()
    with running() as context:
        truth = make_demo_night(place, context=context)
        made = time.perf_counter() - start
        night = prepare_demo(place, truth)
        if not no_window:
            night.close()
            open_window(night.folder)
        steps = [{"step": "demo", "seconds": made, "text": f"demo night in {place}", "ok": True}]
        for station in STATIONS:
            begin = time.perf_counter()
            result = run_station(night, context, station)
            steps.append(
                {
                    "step": station, "seconds": time.perf_counter() - begin, "text": result.problem or result.text,
                    "ok": not result.problem,
                }
            )  # fmt: skip
            errors.print(f"{station:<10} {steps[-1]['seconds']:6.1f} s  {steps[-1]['text']}", markup=False)
        results = compare(night, truth)
    findings = night.findings()
    results["troubles"] = _troubles(findings, truth)
    seconds = time.perf_counter() - start
    lines = [f"\nresults beside the truth ({seconds:.0f} s in all):", *_lines(results)]
    payload = {"night": str(night.folder), "steps": steps, "seconds": seconds, "results": results}
    night.close()
    good = [bool(s["ok"]) for s in steps]
    finish(payload, as_json=json, done=any(good), failed=not all(good), lines=lines, findings=findings)


def compare(night: Night, truth: dict[str, Any]) -> dict[str, Any]:
    """Return each measured number with the truth and the difference."""
    results: dict[str, Any] = {}
    calibrated = night.products_of("calibrated")
    # The truth is of the series with most exposures.
    series = night.current_series()
    key = series.key if series else ""
    reference = next((p.values["reference"] for p in night.products_of("stack", key).values()), None)
    if reference in calibrated:
        results["flatness"] = _flatness(calibrated[reference].output)
    stack = next(iter(night.products_of("stack", key).values()), None)
    if stack is not None:
        results["alignment_residual_px"] = {"measured": stack.values["residual_px"], "limit": 0.1}
    plate = night.products_of("plate", key)
    if plate:
        scales, centres = [], []
        for raw, product in plate.items():
            name = str(Path(raw).relative_to(night.raw_paths[0]))
            true = truth["frames"].get(name)
            if true is None:
                continue
            v = product.values
            scales.append(v["scale_arcsec_px"])
            east = (v["ra"] - true["ra"]) * math.cos(math.radians(true["dec"])) * 3600
            centres.append(math.hypot(east, (v["dec"] - true["dec"]) * 3600))
        scale = truth["plate"]["scale_arcsec_px"]
        results["plate_scale_arcsec_px"] = {"measured": float(np.median(scales)), "truth": scale}
        results["plate_centre_off_arcsec"] = {"measured": float(np.median(centres)), "limit": 0.5}
        results["plates_solved"] = {"measured": len(scales)}
    curve = next(iter(night.products_of("curve", key).values()), None)
    if curve is not None and curve.values.get("fit"):
        fit, eclipse = curve.values["fit"], truth["eclipse"]
        results["minimum_off_s"] = {
            "measured": (fit["mid_bjd_tdb"] - eclipse["mid_bjd_tdb"]) * 86400, "error": fit["mid_error_d"] * 86400,
            "limit": 30.0,
        }  # fmt: skip
        if "kwee_van_woerden_mid" in fit:
            results["minimum_kwee_van_woerden_off_s"] = {
                "measured": (fit["kwee_van_woerden_mid"] - eclipse["mid_bjd_tdb"]) * 86400,
                "error": fit["kwee_van_woerden_error_d"] * 86400, "limit": 30.0,
            }  # fmt: skip
        results["depth_mag"] = {
            "measured": fit["depth_mag"],
            "truth": eclipse["depth_mag"],
            "error": fit["depth_error_mag"],
            "limit": 0.01,
        }
        results["duration_h"] = {"measured": 24 * fit["duration_d"], "truth": 24 * eclipse["duration_d"]}
    return results


def _flatness(path: str) -> dict[str, Any]:
    """Large-scale structure left in a calibrated exposure, and its pixel noise over what photons and read-out give."""
    facts = scan_file(path)
    frame = read_frame(facts)
    # Every pixel that there is: what is looked for is smaller than the noise of a sample.
    background = estimate_background(frame.data, samples=4096)
    cells = background.level[32::64, 32::64].astype(float)
    y, x = np.mgrid[: cells.shape[0], : cells.shape[1]]
    design = np.column_stack([np.ones(cells.size), x.ravel(), y.ravel()])
    # The sky's own gradient is a plane; what is left is what the flat did not take out.
    solution, *_ = np.linalg.lstsq(design, cells.ravel(), rcond=None)
    residual = cells.ravel() - design @ solution
    result: dict[str, Any] = {"measured": float(np.std(residual) / background.sky_adu), "limit": 0.01}
    if facts.gain_e_per_adu and facts.read_noise_e:
        photons = background.sky_adu / facts.gain_e_per_adu + (facts.read_noise_e / facts.gain_e_per_adu) ** 2
        result["noise_over_photon_and_read"] = background.noise_adu / math.sqrt(photons)
    return result


_CODES = {
    "truncated": {"truncated"}, "flat_gain": {"flat_gain", "no_safe_flat"}, "dark_temperature": {"dark_temperature"},
    "short_dark": {"no_safe_dark"}, "cloud": {"cloud"}, "focus": {"focus"}, "jump": {"jump", "trailing"},
    "flip": {"flip"}, "trail": {"trail"},
}  # fmt: skip


def _troubles(findings: list[Finding], truth: dict[str, Any]) -> dict[str, bool]:
    """Return for each planted trouble whether a finding names it, with at least one of its files."""
    seen = {}
    for trouble, files in truth["planted"].items():
        names = {Path(f).name for f in files}
        seen[trouble] = any(
            finding.code in _CODES.get(trouble, set()) and names & {Path(f).name for f in finding.files}
            for finding in findings
        )
    variable = truth["variable_comparison"]
    seen["variable_comparison"] = any(
        f.code == "comparison_varies" and f.evidence.get("star") == variable for f in findings
    )
    return seen


def _lines(results: dict[str, Any]) -> list[str]:
    lines = []
    for name, entry in results.items():
        if name == "troubles":
            lines.append(
                "  planted troubles named: " + ", ".join(f"{k} {'yes' if v else 'NO'}" for k, v in entry.items())
            )
            continue
        parts = [f"{key.replace('_', ' ')} {value:.5g}" for key, value in entry.items()]
        lines.append(f"  {name.replace('_', ' '):<34} {', '.join(parts)}")
    return lines


def run(
    recipe: Annotated[Path, typer.Argument(metavar="RECIPE.toml", help="A recorded recipe.")],
    night: Annotated[
        Path, typer.Option("--night", metavar="DIR", help="A night, or a folder of raw exposures.")
    ] = Path(),
    cluster: Annotated[str | None, typer.Option(metavar="ADDRESS", help="Run on a cluster.")] = None,
    json: Json = False,
) -> None:
    """Run a recorded recipe on other data."""
    if cluster is not None:
        fail_usage("--cluster is not there yet; the recipe runs on this machine without it")
    if not recipe.exists():
        fail_usage(f"{recipe}: there is no such file")
    try:
        stations, settings, stars = read_recipe(recipe)
        target = Night.for_path(night)
    except (RecipeError, NightError) as error:
        fail_usage(str(error))
    target.set_settings(settings)
    for field, listed in stars.items():
        target.wait_with_stars(field, listed)
    results: list[StationResult] = []
    with running() as context:
        for station in stations if "intake" in stations else ["intake", *stations]:
            results.append(run_station(target, context, station))
            if results[-1].problem and station == "intake":
                break
    findings = target.findings()
    steps = [
        {
            "station": r.station,
            "ok": not r.problem,
            "text": r.problem or r.text,
            "done": r.done,
            "failed": r.failed,
        }
        for r in results
    ]
    folder = target.folder
    target.close()
    finish(
        {"night": str(folder), "steps": steps}, as_json=json, done=any(s["ok"] for s in steps),
        failed=not all(s["ok"] for s in steps), lines=[f"{s['station']:<10} {s['text']}" for s in steps],
        findings=findings,
    )  # fmt: skip


def check(
    night: Annotated[Path, typer.Argument(metavar="NIGHT", help="A night, or the folder of raw exposures beside it.")],
    again: Annotated[bool, typer.Option("--again", help="Make again what is damaged or gone.")] = False,
    json: Json = False,
) -> None:
    """Verify every file of a night, raws too, and say what would be made again."""
    target = _existing(night)
    with running() as context:
        checked = check_night(target, context)
        broken = [one for one in checked if one.problem]
        stations = stations_again(checked)
        ran = [s for s in stations if s in {step["station"] for step in target.meta("steps", [])}]
        lines = [f"{Path(one.file).name}: {one.problem}" for one in broken]
        results: list[StationResult] = []
        if again and ran:
            set_aside(checked)
            for station in ran:
                results.append(run_station(target, context, station))
            lines += [f"made again: {r.station:<10} {r.problem or r.text}" for r in results]
            left = {one.file for one in check_night(target, context) if one.problem}
        else:
            left = {one.file for one in broken}
    lines.append(
        f"{counted(len(checked), 'file')} verified, {len(broken)} not as they were"
        if broken
        else counted(len(checked), "file", "is as it was", "are as they were")
    )
    if ran and not again:
        lines.append(f"--again would make again: {', '.join(ran)}")
    folder = target.folder
    target.close()
    finish(
        {
            "night": str(folder), "verified": len(checked), "again": ran,
            "problems": [{**vars(one), "mended": one.file not in left} for one in broken],
        },
        as_json=json, done=bool(checked), failed=bool(left), lines=lines,
    )  # fmt: skip


def _existing(path: Path) -> Night:
    """Open a night that is there: none is made by being looked over."""
    beside = path.resolve().with_name(f"{path.resolve().name}-night")
    place = next((p for p in (path, beside) if Night.is_night(p)), None)
    if place is None:
        fail_usage(f"{path}: there is no night")
    try:
        return Night(place)
    except NightError as error:
        fail_usage(str(error))
