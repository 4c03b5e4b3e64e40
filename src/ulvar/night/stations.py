"""Running the stations of a night: flows on its files, results into its store."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry import CatalogueError, Wcs, load_catalogue
from ulvar.combine import Rejection
from ulvar.engine import Failed, Finding, JobContext, Severity, sort_findings
from ulvar.frames import ExposureFacts, Role, find_files
from ulvar.inspection import ExposureSummary, series_findings
from ulvar.lightcurves import write_curve
from ulvar.night.flows.calibrate import calibrate_lights, calibrated_facts, load_masters
from ulvar.night.flows.common import Outcome
from ulvar.night.flows.curve import CurveOptions, CurveResult, make_curve
from ulvar.night.flows.intake import scan_files, sort_exposures
from ulvar.night.flows.masters import make_masters
from ulvar.night.flows.measure import MeasureOptions, Reference, measure_series
from ulvar.night.flows.plate import PlateOptions, read_wcs_file, solve_files
from ulvar.night.flows.stack import Aligned, StackOptions, align_all, pick_reference, stack_exposures
from ulvar.night.flows.starfind import Scored, find_all, read_stars, write_stars
from ulvar.night.project import Night, Product
from ulvar.night.recipe import record_step
from ulvar.photometry import ApertureOptions, read_series, write_series
from ulvar.registration import Transform
from ulvar.stars import DetectOptions, ExposureQuality


@dataclass(frozen=True)
class StationResult:
    """What a station did: counts and a sentence; `problem` is set when nothing could be done."""

    station: str
    text: str
    done: int = 0
    failed: int = 0
    problem: str = ""
    values: dict[str, Any] | None = None


def _finish(night: Night, result: StationResult, findings: list[Finding]) -> StationResult:
    night.set_findings(result.station, sort_findings(findings))
    blocks = any(f.severity is Severity.BLOCKS for f in findings)
    state = "attention" if result.problem or blocks else "part" if result.failed else "done"
    night.mark_run(result.station, state)
    record_step(night, result.station)
    return result


def run_intake(night: Night, context: JobContext) -> StationResult:
    """Scan headers: new and changed files only, the rest comes from the night."""
    fits: list[str] = []
    other: list[str] = []
    for raw in night.raw_paths:
        try:
            found, rest = find_files([raw])
        except FileNotFoundError:
            continue
        inside = str(night.folder.resolve())
        fits += [p for p in found if not p.startswith(inside + "/")]
        other += rest
    known = night.known_files()

    def unchanged(path: str) -> bool:
        if path not in known:
            return False
        try:
            status = Path(path).stat()
        except OSError:
            return False
        return known[path] == (status.st_size, status.st_mtime_ns)

    todo = [p for p in fits if not unchanged(p)]
    exposures, failed = scan_files(todo, context)
    night.store_exposures(fits, exposures, failed)
    result = sort_exposures(night.exposures, night.failed, other, night.settings.masters.tolerances)
    findings = list(result.findings)
    guessed = tuple(f.path for f in night.exposures if f.origins.get("role") == "guessed")
    if guessed:
        findings.append(
            Finding(
                Severity.CHECK,
                "role_guessed",
                f"{len(guessed)} files taken for lights",
                "Neither headers nor names say what they are for; drag them to another role if they are not lights.",
                guessed,
            )
        )
    problem = "" if night.exposures else result.findings[0].text if result.findings else "there is nothing to read"
    lights = len(night.lights())
    text = f"{len(night.exposures)} exposures in {len(result.groups)} groups, {lights} of them lights"
    return _finish(
        night,
        StationResult("intake", text, len(night.exposures), len(night.failed), problem),
        findings,
    )


def run_masters(night: Night, context: JobContext) -> StationResult:
    """Build the masters that the night's calibration frames allow."""
    settings = night.settings.masters
    calibration = [f for f in night.kept() if f.role in (Role.BIAS, Role.DARK, Role.DARK_FLAT, Role.FLAT)]
    if not calibration:
        findings = [
            Finding(
                Severity.NOTE, "no_calibration", "No calibration frames",
                "There are no bias, dark or flat frames: lights are used as they are.", station="masters",
            )
        ]  # fmt: skip
        return _finish(night, StationResult("masters", "no calibration frames"), findings)
    outcomes, findings = make_masters(
        calibration, night.products / "masters", context, tolerances=settings.tolerances,
        rejection=settings.rejection, replace=True,
    )  # fmt: skip
    good = [o for o in outcomes if o.ok]
    night.store_products("master", [Product("master", o.output, o.output, dict(o.values)) for o in good], clear=True)
    # The match board's word comes at this station, though it is calibration that obeys it.
    from ulvar.inspection import match_findings
    from ulvar.night.flows.calibrate import match_groups

    masters, _ = load_masters(night.products / "masters")
    findings = findings + match_findings(match_groups(_kept_lights(night), masters, settings.tolerances))
    problem = "" if good else "no master could be made"
    return _finish(
        night,
        StationResult("masters", f"{len(good)} masters", len(good), len(outcomes) - len(good), problem),
        findings,
    )


def _kept_lights(night: Night) -> list[ExposureFacts]:
    out = night.left_out
    return [f for f in night.lights() if f.path not in out]


def run_calibrate(night: Night, context: JobContext) -> StationResult:
    """Calibrate the kept lights that have safe masters."""
    settings = night.settings
    masters, _ = load_masters(night.products / "masters") if (night.products / "masters").is_dir() else ([], [])
    made = night.products_of("master")
    masters = [(candidate, path) for candidate, path in masters if path in made]
    lights = _kept_lights(night)
    if not lights:
        return _finish(night, StationResult("calibrate", "no lights", problem="there are no lights"), [])
    if not masters:
        night.store_products("calibrated", [], clear=True)
        return _finish(night, StationResult("calibrate", "nothing to calibrate with; lights are used as they are"), [])
    outcomes, findings = calibrate_lights(
        lights, masters, night.products / "calibrated", context, tolerances=settings.masters.tolerances,
        partial=settings.calibrate.partial, replace_existing=True,
    )  # fmt: skip
    good = [o for o in outcomes if o.ok]
    night.store_products(
        "calibrated", [Product("calibrated", o.file, o.output, dict(o.values)) for o in good], clear=True
    )
    problem = "" if good else "no light has safe masters"
    text = f"{len(good)} of {len(outcomes)} lights calibrated"
    # What does not match was told at the masters station; here only what went wrong on the way.
    told = {(f.code, f.title) for f in night.findings("masters")}
    fresh = [f for f in findings if (f.code, f.title) not in told] + _not_calibrated(outcomes)
    return _finish(night, StationResult("calibrate", text, len(good), len(outcomes) - len(good), problem), fresh)


def _not_calibrated(outcomes: list[Outcome]) -> list[Finding]:
    broken = [o for o in outcomes if not o.ok and "no safe" not in o.reason and "no master" not in o.reason]
    return [
        Finding(
            Severity.CHECK, "not_calibrated", f"{Path(o.file).name} is not calibrated", f"{o.reason}.", (o.file,),
            station="calibrate",
        )
        for o in broken
    ]  # fmt: skip


def working_exposures(night: Night) -> dict[str, ExposureFacts]:
    """Return raw path to the facts of the file to work on: the calibrated copy.

    Only where the night has no calibrated light at all are raw lights themselves worked on.
    """
    calibrated = night.products_of("calibrated")
    lights = _kept_lights(night)
    if calibrated:
        return {f.path: calibrated_facts(f, calibrated[f.path].output) for f in lights if f.path in calibrated}
    return {f.path: f for f in lights}


def working_filter(night: Night) -> str:
    """Return the filter that is combined and measured: the one set, else the one with most exposures."""
    wanted = night.settings.combine.filter
    filters = [f.filter for f in working_exposures(night).values()]
    if wanted and wanted in filters:
        return wanted
    return max(sorted(set(filters)), key=filters.count) if filters else ""


def run_score(night: Night, context: JobContext) -> StationResult:
    """Find stars in the working exposures, judge them, align them within their filter."""
    working = working_exposures(night)
    if not working:
        return _finish(night, StationResult("combine", "no lights", problem="there is no light to work on"), [])
    raw_of = {facts.path: raw for raw, facts in working.items()}
    options = DetectOptions(threshold=night.settings.combine.threshold)
    scored, failed = find_all(list(working.values()), context, options=options)
    folder = night.products / "stars"
    products: list[Product] = []
    findings = [_unreadable(f) for f in failed]
    for name in sorted({s.facts.filter for s in scored}):
        series = [s for s in scored if s.facts.filter == name]
        reference = series[pick_reference(series)]
        aligned, lost = align_all(series, reference.stars, context) if len(series) > 1 else (_alone(reference), [])
        by_path = {a.scored.facts.path: a for a in aligned}
        findings += [_unaligned(f) for f in lost]
        best = _clear_level([a.flux_ratio for a in aligned])
        for one in series:
            write_stars(one, folder, True)
            match = by_path.get(one.facts.path)
            values = _quality_values(one, match, reference.facts.path, best)
            products.append(Product("score", raw_of[one.facts.path], one.facts.path, values))
    products = _rescored(products)
    night.store_products("score", products, clear=True)
    findings += _series_findings(night)
    text = f"{len(products)} exposures scored"
    aligned_count = sum(1 for p in products if p.values["matrix"] is not None)
    problem = "" if products else "no exposure could be scored"
    result = StationResult("combine", text, len(products), len(failed) + len(products) - aligned_count, problem)
    return _finish(night, result, findings)


def _alone(reference: Scored) -> list[Aligned]:
    return [Aligned(reference, Transform.identity(), 1.0)]


def _clear_level(ratios: list[float]) -> float:
    finite = [r for r in ratios if math.isfinite(r)]
    return float(np.percentile(finite, 90)) if finite else 1.0


def _quality_values(one: Scored, match: Aligned | None, reference: str, best: float) -> dict[str, Any]:
    q = one.quality
    transform = match.transform if match else None
    return {
        "stars": q.stars, "fwhm_px": q.fwhm_px, "ellipticity": q.ellipticity, "sky_adu": q.sky_adu,
        "noise_adu": q.noise_adu, "bright_flux_adu": q.bright_flux_adu, "saturated": q.saturated, "score": q.score,
        "filter": one.facts.filter, "reference": reference,
        "matrix": transform.matrix.tolist() if transform else None,
        "residual_px": transform.rms_px if transform else None, "matched": transform.matched if transform else 0,
        "rotation_deg": transform.rotation_deg if transform else None,
        "flux_ratio": match.flux_ratio if match else None,
        "transparency": match.flux_ratio / best if match and best > 0 else None,
    }  # fmt: skip


def _rescored(products: list[Product]) -> list[Product]:
    """Scores again with the transparency that common stars give."""
    result = []
    for name in sorted({p.values["filter"] for p in products}):
        members = [p for p in products if p.values["filter"] == name]
        raw = []
        for p in members:
            v = p.values
            t = v["transparency"] if v["transparency"] is not None else 0.0
            width = v["fwhm_px"] * v["noise_adu"]
            raw.append(t / width if width > 0 and math.isfinite(width) else 0.0)
        best = max(raw, default=0.0)
        for p, value in zip(members, raw):
            result.append(replace(p, values=p.values | {"score": value / best if best > 0 else 0.0}))
    return result


def _unreadable(failure: Failed) -> Finding:
    return Finding(
        Severity.CHECK, "unreadable", f"{Path(failure.file).name} was not scored", f"{failure.reason}.",
        (failure.file,), station="combine",
    )  # fmt: skip


def _unaligned(failure: Failed) -> Finding:
    return Finding(
        Severity.CHECK, "not_aligned", f"{Path(failure.file).name} is not aligned", f"{failure.reason}.",
        (failure.file,), station="combine",
    )  # fmt: skip


def _number(value: Any) -> float:
    return math.nan if value is None else float(value)


def _series_findings(night: Night) -> list[Finding]:
    found: list[Finding] = []
    scores = night.products_of("score")
    rejected = night.products_of("stack_frame")
    for name in sorted({p.values["filter"] for p in scores.values()}):
        series = []
        for raw, product in scores.items():
            v = product.values
            if v["filter"] != name:
                continue
            facts = night.facts(raw)
            shift = (math.nan, math.nan)
            rotation = _number(v["rotation_deg"])
            if v["matrix"] is not None and facts is not None:
                matrix = np.array(v["matrix"])
                middle = np.array([(facts.width - 1) / 2, (facts.height - 1) / 2])
                moved = matrix[:, :2] @ middle + matrix[:, 2] - middle
                shift = float(moved[0]), float(moved[1])
            series.append(
                ExposureSummary(
                    raw, facts.mid_utc if facts else None, _number(v["fwhm_px"]), _number(v["ellipticity"]),
                    _number(v["sky_adu"]), _number(v["transparency"]), shift, rotation,
                    _number(rejected[raw].values.get("rejected_fraction")) if raw in rejected else math.nan,
                )
            )  # fmt: skip
        found += series_findings(series)
    return found


def ruled_out(night: Night, values: dict[str, Any]) -> str:
    """Return the rule that keeps an exposure from the stack, or an empty text."""
    rules = night.settings.combine
    fwhm, transparency = _number(values["fwhm_px"]), _number(values["transparency"])
    ellipticity = _number(values["ellipticity"])
    if values["matrix"] is None:
        return "not aligned"
    if rules.fwhm_over is not None and fwhm > rules.fwhm_over:
        return f"FWHM {fwhm:.2f} px over {rules.fwhm_over:g}"
    if rules.transparency_under is not None and transparency < rules.transparency_under:
        return f"transparency {transparency:.0%} under {rules.transparency_under:.0%}"
    if rules.ellipticity_over is not None and ellipticity > rules.ellipticity_over:
        return f"ellipticity {ellipticity:.2f} over {rules.ellipticity_over:g}"
    return ""


def stack_candidates(night: Night) -> tuple[dict[str, Product], dict[str, str]]:
    """Return (raw path to score of the exposures to stack, raw path to why of those ruled out)."""
    name = working_filter(night)
    out = night.left_out
    keep, ruled = {}, {}
    for raw, product in night.products_of("score").items():
        if product.values["filter"] != name or raw in out:
            continue
        why = ruled_out(night, product.values)
        if why:
            ruled[raw] = why
        else:
            keep[raw] = product
    return keep, ruled


def run_stack(night: Night, context: JobContext) -> StationResult:
    """Stack the scored exposures of the working filter that no rule takes out."""
    keep, ruled = stack_candidates(night)
    findings = [f for f in night.findings("combine") if f.code != "trail"]
    if not keep:
        return _finish(
            night,
            StationResult("combine", "nothing to stack", problem="no exposure is left to stack"),
            findings,
        )
    settings = night.settings.combine
    aligned = [_aligned_of(night, raw, product) for raw, product in keep.items()]
    reference = next(iter(keep.values())).values["reference"]
    best = next((a for a in aligned if a.scored.facts.path == reference), None)
    if best is None:
        # The reference itself was left out: another becomes the frame, everything is carried onto it.
        best = max(aligned, key=lambda a: a.scored.quality.score)
        back = best.transform.inverse().matrix
        aligned = [
            replace(a, transform=_chained(a.transform, back), flux_ratio=a.flux_ratio / best.flux_ratio)
            for a in aligned
        ]
    options = StackOptions(
        framing=settings.framing, rejection=Rejection(settings.method, settings.low, settings.high),
        normalise=settings.normalise, weighting=settings.weights, reference=best.scored.facts.path,
    )  # fmt: skip
    name = working_filter(night)
    output = night.products / f"stack{'-' + name if name else ''}.fits"
    result = stack_exposures(
        [a.scored.facts for a in aligned], output, context, options=options, replace=True,
        scored=[a.scored for a in aligned], aligned=aligned,
    )  # fmt: skip
    if not result.ok:
        return _finish(night, StationResult("combine", result.reason, problem=result.reason), findings)
    raw_of = {a.scored.facts.path: raw for a, raw in zip(aligned, keep)}
    frames = [Product("stack_frame", raw_of[o.file], "", dict(o.values)) for o in result.frames if o.ok]
    night.store_products("stack_frame", frames, clear=True)
    weights = result.stacked.weights if result.stacked is not None else np.ones(1)
    values = {
        "count": len(frames), "width": result.width, "height": result.height, "filter": name,
        "reference": raw_of[best.scored.facts.path], "ruled_out": ruled,
        "snr_gain": float(math.sqrt(weights.sum() ** 2 / (weights**2).sum())),
        "residual_px": float(np.median([o.values["residual_px"] for o in result.frames if o.ok])),
    }  # fmt: skip
    night.store_products("stack", [Product("stack", name, str(output), values)])
    kinds = {"cloud", "focus", "trailing", "flip", "jump", "trail"}
    findings = [f for f in findings if f.code not in kinds] + _series_findings(night)
    text = f"{len(frames)} exposures stacked, {len(ruled)} ruled out"
    return _finish(night, StationResult("combine", text, len(frames), 0, "", values), findings)


def _chained(first: Transform, then: np.ndarray) -> Transform:
    linear = then[:, :2] @ first.matrix[:, :2]
    shift = then[:, :2] @ first.matrix[:, 2] + then[:, 2]
    return Transform(np.column_stack([linear, shift]), first.rms_px, first.matched)


def _aligned_of(night: Night, raw: str, product: Product) -> Aligned:
    v = product.values
    facts = working_exposures(night)[raw] if raw in working_exposures(night) else night.facts(raw)
    assert facts is not None
    quality = ExposureQuality(
        v["stars"], _number(v["fwhm_px"]), _number(v["ellipticity"]), _number(v["sky_adu"]), _number(v["noise_adu"]),
        _number(v["bright_flux_adu"]), v["saturated"], _number(v["score"]),
    )  # fmt: skip
    stars = read_stars(night.products / "stars" / f"{facts.stem}.stars.csv")
    transform = Transform(np.array(v["matrix"]), _number(v["residual_px"]), v["matched"])
    return Aligned(Scored(facts, stars, quality), transform, _number(v["flux_ratio"]))


def run_combine(night: Night, context: JobContext) -> StationResult:
    """Score, then stack."""
    scored = run_score(night, context)
    return scored if scored.problem else run_stack(night, context)


def run_plate(night: Night, context: JobContext) -> StationResult:
    """Solve the stack and every scored exposure of the working filter."""
    settings = night.settings.plate
    if not settings.catalogue:
        problem = "choose a star catalogue first"
        return _finish(night, StationResult("plate", problem, problem=problem), [])
    try:
        catalogue = load_catalogue(settings.catalogue)
    except CatalogueError as error:
        finding = Finding(Severity.BLOCKS, "catalogue", "The catalogue cannot be used", f"{error}.", station="plate")
        return _finish(night, StationResult("plate", str(error), problem=str(error)), [finding])
    scale = (settings.scale_low, settings.scale_high) if settings.scale_low and settings.scale_high else None
    options = PlateOptions(radius_deg=settings.radius_deg, scale=scale, again=True)
    name = working_filter(night)
    working = working_exposures(night)
    scores = {raw: p for raw, p in night.products_of("score").items() if p.values["filter"] == name and raw in working}
    stars = {
        working[raw].path: read_stars(night.products / "stars" / f"{working[raw].stem}.stars.csv") for raw in scores
    }
    exposures = [working[raw] for raw in scores]
    if not exposures:
        return _finish(night, StationResult("plate", "nothing scored", problem="score exposures first"), [])
    folder = night.products / "plate"
    outcomes = solve_files(exposures, catalogue, context, options=options, stars=stars, wcs_folder=folder)
    raw_of = {working[raw].path: raw for raw in scores}
    good = [o for o in outcomes if o.ok]
    night.store_products(
        "plate", [Product("plate", raw_of[o.file], o.output, dict(o.values)) for o in good], clear=True
    )
    _solve_stack(night, catalogue, options, context)
    findings = []
    bad = [o for o in outcomes if not o.ok]
    if bad:
        findings.append(
            Finding(
                Severity.CHECK,
                "not_solved",
                f"{len(bad)} exposures are not solved",
                f"{Path(bad[0].file).name}: {bad[0].reason}.",
                tuple(raw_of[o.file] for o in bad),
                station="plate",
            )  # fmt: skip
        )
    problem = "" if good else f"no exposure was solved: {bad[0].reason}" if bad else "nothing to solve"
    text = f"{len(good)} of {len(outcomes)} exposures solved"
    return _finish(night, StationResult("plate", text, len(good), len(bad), problem), findings)


def _solve_stack(night: Night, catalogue: Any, options: PlateOptions, context: JobContext) -> None:
    from ulvar.frames import FrameError, scan_file

    solved = []
    for name, product in night.products_of("stack").items():
        try:
            facts = scan_file(product.output)
        except FrameError:
            continue
        (outcome,) = solve_files([facts], catalogue, context, options=options, wcs_folder=night.products / "plate")
        if outcome.ok:
            solved.append(Product("plate_stack", name, outcome.output, dict(outcome.values)))
    night.store_products("plate_stack", solved, clear=True)


def solutions(night: Night) -> dict[str, Wcs]:
    """Return raw path to plate solution."""
    result = {}
    for raw, product in night.products_of("plate").items():
        wcs = read_wcs_file(Path(product.output))
        if wcs is not None:
            result[raw] = wcs
    return result


def series_path(night: Night) -> Path:
    """Where the series table of the night is."""
    return night.products / "series.csv"


def curve_path(night: Night) -> Path:
    """Where the light curve of the night is."""
    return night.products / "curve.csv"


def run_measure(night: Night, context: JobContext) -> StationResult:
    """Measure the night's stars in every working exposure of the filter."""
    stars = night.stars()
    if not any(s.role == "target" for s in stars):
        problem = "no target: click it in the picture, or propose stars"
        return _finish(night, StationResult("measure", problem, problem=problem), [])
    settings = night.settings.measure
    name = working_filter(night)
    working = {raw: f for raw, f in working_exposures(night).items() if f.filter == name}
    scores = night.products_of("score")
    plates = solutions(night)
    wcs = {facts.path: plates[raw] for raw, facts in working.items() if raw in plates}
    transforms, fwhm, detected = {}, {}, {}
    reference_path = ""
    for raw, facts in working.items():
        if raw in scores:
            v = scores[raw].values
            reference_path = v["reference"]
            fwhm[facts.path] = _number(v["fwhm_px"])
            table = night.products / "stars" / f"{facts.stem}.stars.csv"
            if table.exists():
                detected[facts.path] = read_stars(table)
            if v["matrix"] is not None:
                transforms[facts.path] = Transform(np.array(v["matrix"]), _number(v["residual_px"]), v["matched"])
    reference = _reference(night, reference_path, wcs)
    options = MeasureOptions(
        ApertureOptions(settings.radius, settings.in_fwhm, settings.inner_px, settings.outer_px),
        settings.centre == "refined",
    )
    rows, outcomes = measure_series(
        list(working.values()), stars, context, options=options, reference=reference, solutions=wcs,
        transforms=transforms, fwhm=fwhm, detected=detected,
    )  # fmt: skip
    good = [o for o in outcomes if o.ok]
    raw_of = {facts.path: raw for raw, facts in working.items()}
    night.store_products("measured", [Product("measured", raw_of[o.file], "", {}) for o in good], clear=True)
    bad = [o for o in outcomes if not o.ok]
    findings = []
    if rows:
        write_series(series_path(night), rows, replace=True)
    if bad:
        findings.append(
            Finding(
                Severity.CHECK,
                "not_measured",
                f"{len(bad)} exposures are not measured",
                f"{Path(bad[0].file).name}: {bad[0].reason}.",
                tuple(raw_of[o.file] for o in bad),
                station="measure",
            )  # fmt: skip
        )
    problem = "" if rows else f"nothing was measured: {bad[0].reason}" if bad else "there is nothing to measure"
    text = f"{len(stars)} stars measured in {len(good)} exposures"
    return _finish(night, StationResult("measure", text, len(good), len(bad), problem), findings)


def _reference(night: Night, path: str, wcs: dict[str, Wcs]) -> Reference | None:
    if not path:
        return None
    table = night.products / "stars" / f"{ExposureFacts(path).stem}.stars.csv"
    return Reference(path, read_stars(table), wcs.get(path)) if table.exists() else None


def run_curve(night: Night, context: JobContext) -> StationResult:
    """Make the light curve and its fits from the series table."""
    table_path = series_path(night)
    if not table_path.exists():
        return _finish(night, StationResult("curve", "no measurements", problem="measure first"), [])
    context.progress(0, 1, "Fitting the light curve")
    result = night_curve(night)
    if isinstance(result, Failed):
        finding = Finding(Severity.BLOCKS, "no_curve", "There is no light curve", f"{result.reason}.", station="curve")
        return _finish(night, StationResult("curve", result.reason, problem=result.reason), [finding])
    write_curve(curve_path(night), result.curve, replace=True)
    body = result.as_json()
    night.store_products("curve", [Product("curve", "curve", str(curve_path(night)), body)])
    context.progress(1, 1, "Fitting the light curve")
    text = f"{len(result.curve)} points, scatter {1000 * result.rms:.1f} mmag"
    return _finish(night, StationResult("curve", text, len(result.curve), 0, "", body), list(result.findings))


def night_curve(night: Night) -> CurveResult | Failed:
    """Return the light curve of the measured series; exposures left out since are not used."""
    settings = night.settings.curve
    table = read_series(series_path(night))
    out = {Path(f.path).name for f in _left_out_working(night)}
    rows = [row for row in table.rows if row.file not in out]
    options = CurveOptions(settings.model, tuple(settings.detrend), None, None, tuple(settings.leave_out))
    from ulvar.photometry import SeriesTable

    return make_curve(SeriesTable(rows), options)


def _left_out_working(night: Night) -> list[ExposureFacts]:
    calibrated = night.products_of("calibrated")
    result = []
    for raw in night.left_out:
        facts = night.facts(raw)
        if facts is not None:
            result.append(facts)
            if raw in calibrated:
                result.append(replace(facts, path=calibrated[raw].output))
    return result


RUNNERS = {
    "intake": run_intake,
    "masters": run_masters,
    "calibrate": run_calibrate,
    "combine": run_combine,
    "plate": run_plate,
    "measure": run_measure,
    "curve": run_curve,
}
