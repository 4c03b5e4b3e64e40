"""Combine: score, align, stack."""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.combine import Method, Rejection
from ulvar.engine import Failed, JobContext, counted
from ulvar.flows import (
    Aligned,
    Body,
    CalibrateTask,
    Scored,
    Series,
    StackOptions,
    StackResult,
    align_agreeing,
    find_all,
    helped,
    stack_exposures,
    stack_planes,
    stack_print,
    told_apart,
)
from ulvar.frames import ExposureFacts, FrameError, Shape, distinct_stems, fingerprint, identity
from ulvar.inspection import OF_A_SERIES, ExposureSummary, Finding, notice, series_findings
from ulvar.lightcurves import airmass_at, sun_altitude_deg
from ulvar.night.checking import refuse_silent_change
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.stations.bringing import brought_together
from ulvar.night.stations.lights import Working, without_masters, working_of
from ulvar.night.stations.origins import aligned_on
from ulvar.night.stations.plate import solutions
from ulvar.night.stations.pointing import body_findings, body_of, common_of, stack_options
from ulvar.night.stations.results import remember_result, result_file
from ulvar.night.stations.resuming import Kept, scored_again, scored_values
from ulvar.night.stations.selection import field_shift, quality_rows, stack_candidates
from ulvar.night.stations.shared import (
    StationResult,
    finish,
    fit_of,
    no_series,
    number_of,
    series_file,
    stored_number,
    trails_of,
)
from ulvar.night.stations.tables import naming_damage, star_table
from ulvar.night.working import one_at_a_time
from ulvar.registration import map_values, stored_map
from ulvar.stacking import Normalise, Weighting
from ulvar.stars import DetectOptions, ExposureQuality


@one_at_a_time
def run_score(night: Night, context: JobContext, series: Series | None = None, *, anew: bool = True) -> StationResult:
    """Find stars in the working exposures of a series, judge them, align them; not `anew`: onto the reference of before."""
    series = series or night.current_series()
    if series is None:
        return no_series(night, "combine")
    ready = working_of(night, series)
    working = ready.facts
    if not working:
        kept = [path for path in series.files if path not in night.left_out]
        lacks = "has safe masters (see Masters)" if ready.refused else "is calibrated"
        problem = f"no light of {series.title} {lacks}" if kept else f"every light of {series.title} is left out"
        return finish(night, StationResult("combine", "no lights", problem=problem), [], series)
    raw_of = {facts.path: raw for raw, facts in working.items()}
    settings = night.settings.combine
    regions = [region.shape for region in settings.regions]
    scored, failed, tables, prints = _found(night, series, ready, context, settings.detection, regions)
    products: list[Product] = []
    findings = [_of_raws(_unreadable(f), raw_of) for f in failed] + without_masters(ready.refused)
    if scored:
        first = "" if anew else aligned_on(night.products_of("score", series.key))
        agreement = helped(align_agreeing(scored, context, first=first), scored, common_of(settings, working))
        reference = agreement.reference
        by_path = {a.scored.facts.path: a for a in agreement.aligned}
        apart = told_apart(agreement, _unused_names(night, series, len(agreement.groups)))
        told = {path for f in apart for path in f.files}
        findings += [_of_raws(f, raw_of) for f in apart]
        findings += [_of_raws(_unaligned(f), raw_of) for f in agreement.failed if f.file not in told]
        best = _clear_level([a.flux_ratio for a in agreement.aligned])
        for one in scored:
            match = by_path.get(one.facts.path)
            values = _quality_values(one, match, reference.facts.path, best)
            table = Path(tables[one.facts.path]).relative_to(night.products)
            values |= {"table": str(table), "print": prints[raw_of[one.facts.path]]}
            products.append(Product("score", raw_of[one.facts.path], one.facts.path, values))
    night.store_products("score", products, series=series.key, clear=True)
    findings += _series_findings(night, series)
    text = f"{counted(len(products), 'exposure')} scored"
    aligned_count = sum(1 for p in products if p.values["matrix"] is not None)
    problem = "" if products else "no exposure could be scored"
    result = StationResult("combine", text, len(products), len(failed) + len(products) - aligned_count, problem)
    return finish(night, result, findings, series)


def _found(
    night: Night, series: Series, ready: Working, context: JobContext, options: DetectOptions, regions: Sequence[Shape],
) -> tuple[list[Scored], list[Failed], dict[str, str], dict[str, str]]:  # fmt: skip
    """Return stars and quality of the working exposures, paths to tables, raw paths to fingerprints.

    What was found before by the same settings is not looked for again.
    """
    folder, working = night.series_folder(series.key) / "stars", ready.facts
    tables = {
        path: str(folder / f"{s}.stars.csv") for path, s in distinct_stems(f.path for f in working.values()).items()
    }
    shapes = [[shape.kind, shape.points] for shape in regions]
    prints = {
        raw: fingerprint("stars", identity(f), vars(options), shapes, *([p] if (p := ready.print_of(raw)) else []))
        for raw, f in working.items()
    }
    kept = Kept(night, "found", prints, series.key)
    known = {}
    for raw, product in kept.known.items():
        facts = working[raw]
        if product.output == tables[facts.path]:
            try:
                refuse_silent_change(night, Path(product.output))
                known[facts.path] = scored_again(facts, product)
            except (FrameError, KeyError, ValueError):
                # A table that somebody spoiled is made anew.
                continue
    raw_of = {facts.path: raw for raw, facts in working.items()}
    scored, failed = find_all(
        list(working.values()), context, options=options, regions=regions, known=known, tables=tables,
        calibrations=ready.calibrations,
        arrived=lambda one: kept.store(raw_of[one.facts.path], tables[one.facts.path], scored_values(one)),
    )  # fmt: skip
    return scored, failed, tables, prints


def _unused_names(night: Night, series: Series, count: int) -> list[str]:
    """Return names for further fields of a series that no field of the night has."""
    taken = {one.field.name for one in night.series()}
    names = (f"{series.field.name or 'Field'} {n}" for n in itertools.count(2))
    return list(itertools.islice((name for name in names if name not in taken), count))


def _of_raws(finding: Finding, raw_of: Mapping[str, str]) -> Finding:
    """Return a finding about working exposures as one about the raw ones."""
    files = tuple(raw_of.get(path, path) for path in finding.files)
    return replace(finding, files=files, mend=replace(finding.mend, files=files) if finding.mend else None)


def _clear_level(ratios: list[float]) -> float:
    finite = [r for r in ratios if math.isfinite(r)]
    return float(np.percentile(finite, 90)) if finite else 1.0


def _quality_values(one: Scored, match: Aligned | None, reference: str, best: float) -> dict[str, Any]:
    q = one.quality
    way = match.transform if match else None
    middle = way.at_middle(one.facts.width, one.facts.height) if way else None
    return {
        "stars": q.stars, "fwhm_px": q.fwhm_px, "ellipticity": q.ellipticity, "sky_adu": q.sky_adu,
        "noise_adu": q.noise_adu, "bright_flux_adu": q.bright_flux_adu, "saturated": q.saturated, "score": q.score,
        "gradient_adu": q.gradient_adu, "expected_noise_adu": q.expected_noise_adu, "trails": q.trails,
        "trail_lines": [[t.x0, t.y0, t.x1, t.y1, t.width_px] for t in one.trails],
        "filter": one.facts.filter, "reference": reference,
        "matrix": middle.matrix.tolist() if middle else None, "bent": map_values(way) if way else None,
        "residual_px": way.rms_px if way else None, "matched": way.matched if way else 0,
        "map": way.kind if way else None, "maps_tried": list(way.fit.tried) if way else [],
        "rotation_deg": middle.rotation_deg if middle else None,
        "flux_ratio": match.flux_ratio if match else None,
        "transparency": match.flux_ratio / best if match and best > 0 else None,
    }  # fmt: skip


def _unreadable(failure: Failed) -> Finding:
    return notice("not_scored", f"{Path(failure.file).name} was not scored", f"{failure.reason}.", (failure.file,))  # fmt: skip


def _unaligned(failure: Failed) -> Finding:
    why = f"{failure.reason[:1].upper()}{failure.reason[1:]}."
    return notice("not_aligned", f"{Path(failure.file).name} is not aligned", why, (failure.file,))


def _series_findings(night: Night, series: Series) -> list[Finding]:
    rejected = night.products_of("stack_frame", series.key)
    summaries = []
    for raw, product in night.products_of("score", series.key).items():
        v = product.values
        facts = night.facts(raw)
        shift = (math.nan, math.nan)
        if v["matrix"] is not None and facts is not None:
            shift = field_shift(v["matrix"], facts.width, facts.height)
        summaries.append(
            ExposureSummary(
                raw, facts.mid_utc if facts else None, number_of(v["fwhm_px"]), number_of(v["ellipticity"]),
                number_of(v["sky_adu"]), number_of(v["transparency"]), shift, number_of(v["rotation_deg"]),
                number_of(rejected[raw].values.get("rejected_fraction")) if raw in rejected else math.nan,
                v.get("trails") or 0, *_sky_geometry(facts),
            )
        )  # fmt: skip
    return series_findings(summaries) if summaries else []


def _sky_geometry(facts: ExposureFacts | None) -> tuple[float, float]:
    """Return airmass and the Sun's altitude [deg] of an exposure; NaN where place or time is unknown."""
    if facts is None or facts.site is None or facts.mid_utc is None:
        return math.nan, math.nan
    sun = float(sun_altitude_deg([facts.mid_utc], facts.site)[0])
    if facts.ra_deg is None or facts.dec_deg is None:
        return math.nan, sun
    return float(airmass_at([facts.mid_utc], facts.ra_deg, facts.dec_deg, facts.site)[0]), sun


@one_at_a_time
@naming_damage("combine")
def run_stack(night: Night, context: JobContext, series: Series | None = None) -> StationResult:
    """Stack the scored exposures of a series that no rule takes out."""
    series = series or night.current_series()
    if series is None:
        return no_series(night, "combine")
    keep, ruled = stack_candidates(night, series)
    findings = [
        f
        for f in night.findings("combine", series.key)
        if f.code not in ("trail", "outliers", "damaged", "uneven_drops", "no_body", "body_long")
    ]
    if not keep:
        problem = "no exposure is left to stack"
        return finish(night, StationResult("combine", "nothing to stack", problem=problem), findings, series)
    made = _stack(night, series, context, keep, ruled)
    if isinstance(made, Failed):
        return finish(night, StationResult("combine", made.reason, problem=made.reason), findings, series)
    stack, frames, told = made
    night.store_products("stack_frame", frames, series=series.key, clear=True)
    night.store_products("stack", [stack], series=series.key, clear=True)
    findings = [f for f in findings if f.code not in OF_A_SERIES] + _series_findings(night, series) + told
    if stack.values["uneven"]:
        text = f"{stack.values['uneven']}.".capitalize()
        findings.append(notice("uneven_drops", "The exposures do not support so fine a grid", text, tuple(keep)))
    text = f"{counted(len(frames), 'exposure')} stacked, {len(ruled)} ruled out"
    return finish(night, StationResult("combine", text, len(frames), 0, "", stack.values), findings, series)


def _all_aligned(night: Night, series: Series, keep: dict[str, Product]) -> tuple[list[Aligned], Aligned]:
    """Return the exposures with their way onto one of them, and that one: the reference, or the best that is left."""
    rows = quality_rows(night, series)
    ready = working_of(night, series)
    aligned = []
    for raw, product in keep.items():
        facts = ready.facts.get(raw) or night.facts(raw)
        assert facts is not None
        calibration = ready.calibrations.get(facts.path)
        aligned.append(aligned_of(night, facts, product, rows[raw]["score"] or 0.0, calibration))
    reference = next(iter(keep.values())).values["reference"]
    wanted = night.settings.combine.reference
    chosen = next((a for raw, a in zip(keep, aligned) if raw == wanted), None)
    best = chosen or next((a for a in aligned if a.scored.facts.path == reference), None)
    if best is None or best.scored.facts.path != reference:
        # Another one is wanted, or the reference itself was left out: everything is carried onto it.
        best = best or max(aligned, key=lambda a: a.scored.quality.score)
        back = best.transform.inverse()
        aligned = [
            replace(a, transform=a.transform.then(back), flux_ratio=a.flux_ratio / best.flux_ratio) for a in aligned
        ]
    return aligned, best


def _stacked(
    night: Night, keep: dict[str, Product], aligned: list[Aligned], output: Path, context: JobContext,
    options: StackOptions, name: str,
) -> StackResult:  # fmt: skip
    scored = [a.scored for a in aligned]
    raw = _raw_of_reference(keep, aligned, options)
    return stack_exposures(
        [one.facts for one in scored], output, context, options=options, replace=True, scored=scored, aligned=aligned,
        solution=solutions(night).get(raw), name=name, calibrations=_calibrations(aligned),
    )  # fmt: skip


def _calibrations(aligned: Sequence[Aligned]) -> dict[str, CalibrateTask]:
    return {a.scored.facts.path: a.scored.calibration for a in aligned if a.scored.calibration is not None}


def _raw_of_reference(keep: Mapping[str, Product], aligned: Sequence[Aligned], options: StackOptions) -> str:
    return next(raw for raw, a in zip(keep, aligned) if a.scored.facts.path == options.reference)


def _stack(
    night: Night, series: Series, context: JobContext, keep: dict[str, Product], ruled: dict[str, str]
) -> tuple[Product, list[Product], list[Finding]] | Failed:
    settings = night.settings.combine
    aligned, best = _all_aligned(night, series, keep)
    aligned, unaligned = brought_together(night, settings.align, keep, aligned, best)
    if not aligned:
        return Failed(unaligned[0].reason)
    keep = {raw: product for raw, product in keep.items() if raw not in {f.file for f in unaligned}}
    ruled |= {f.file: f.reason for f in unaligned}
    body = body_of(
        settings, {raw: a.scored.facts.path for raw, a in zip(keep, aligned)}, [a.scored.facts for a in aligned]
    )
    options = stack_options(
        settings, best.scored.facts.path, body if isinstance(body, Body) else None, align=settings.align
    )
    stamp = stack_print([a.scored.facts for a in aligned], options, _calibrations(aligned))
    output = result_file(night, series, stamp)
    result = _stacked(night, keep, aligned, output, context, options, series.key)
    if not result.ok:
        return Failed(result.reason)
    planes = stack_planes(
        result, context, options=options, replace_existing=True, solution=solutions(night).get(_raw_of_reference(keep, aligned, options)),
        name=series.key,
    )  # fmt: skip
    raw_of = {a.scored.facts.path: raw for a, raw in zip(aligned, keep)}
    frames = [Product("stack_frame", raw_of[o.file], "", dict(o.values)) for o in result.frames if o.ok]
    assert result.stacked is not None
    weights, limits, growth = result.stacked.weights, result.stacked.rejection, result.stacked.growth
    values = {
        "count": len(frames), "width": result.width, "height": result.height, "filter": series.filter,
        "reference": raw_of[best.scored.facts.path], "ruled_out": ruled,
        "proper": result.proper, "no_proper": result.no_proper,
        "drops": result.drops, "no_drops": result.no_drops, "uneven": result.uneven,
        "body": result.body.output if result.body is not None else "",
        "planes": {colour: one.output for colour, one in planes.items() if one.ok},
        "kernel": settings.kernel.value, "clamp": settings.clamp, "method": limits.method.value, "noise_adu": stored_number(result.noise_adu),
        "growth": None if growth is None else [growth.counts, growth.noise_adu, growth.expected_adu],
        "reject_low": limits.low, "reject_high": limits.high,
        **_depth(result.aligned, weights, result.noise_adu, settings.scale),
        "snr_gain": float(math.sqrt(weights.sum() ** 2 / (weights**2).sum())),
        "residual_px": float(np.median([o.values["residual_px"] for o in result.frames if o.ok])),
    }  # fmt: skip
    stack = Product("stack", series.key, str(output), values)
    remember_result(night, series, stack, stamp)
    return stack, frames, body_findings(result, body, list(keep))


def _depth(aligned: Sequence[Aligned], weights: np.ndarray, noise_adu: float, scale: float) -> dict[str, float | None]:
    """Return the width of stars in a stack [px], and the light of one that stands out five times over the noise [ADU]."""
    widths = np.array([a.scored.quality.fwhm_px for a in aligned])
    known = np.isfinite(widths)
    if not known.any():
        return {"fwhm_px": None, "faintest_adu": None}
    fwhm = float((widths[known] * weights[known]).sum() / weights[known].sum()) * scale
    # A profile fitted to a Gaussian gathers the noise of 4 pi sigma^2 pixels (King 1983, PASP 95, 163).
    pixels = 4 * math.pi * (fwhm / 2.3548) ** 2
    return {"fwhm_px": stored_number(fwhm), "faintest_adu": stored_number(5 * noise_adu * math.sqrt(pixels))}


@one_at_a_time
@naming_damage("combine")
def run_deep(night: Night, context: JobContext, series: Series | None = None) -> StationResult:
    """Make the deep view: the median of the aligned exposures that the rules keep, on the reference's own pixels.

    It serves to place marks on stars that no single exposure shows; it is no product to measure in.
    """
    series = series or night.current_series()
    keep = stack_candidates(night, series)[0] if series is not None else {}
    if series is None or len(keep) < 2:
        return StationResult(
            "combine", "no deep view", problem="a deep view needs two aligned exposures: score them first"
        )
    aligned, best = _all_aligned(night, series, keep)
    options = StackOptions(
        rejection=Rejection(Method.MEDIAN), normalise=Normalise.BOTH,
        weighting=Weighting.EQUAL, reference=best.scored.facts.path, maps=False,
    )  # fmt: skip
    output = series_file(night, series, "deep.fits")
    result = _stacked(night, keep, aligned, output, context, options, series.key)
    if not result.ok:
        return StationResult("combine", result.reason, problem=result.reason)
    raw_of = {a.scored.facts.path: raw for a, raw in zip(aligned, keep)}
    values = {"count": len(aligned), "reference": raw_of[best.scored.facts.path], "filter": series.filter}
    night.store_products("deep", [Product("deep", series.key, str(output), values)], series=series.key, clear=True)
    return StationResult("combine", f"deep view of {counted(len(aligned), 'exposure')}", len(aligned), 0, "", values)


def aligned_of(
    night: Night, facts: ExposureFacts, product: Product, score: float, calibration: CalibrateTask | None
) -> Aligned:
    """Return a scored exposure as stacking takes it: its stars and quality, and its way onto the reference."""
    v = product.values
    quality = ExposureQuality(
        v["stars"], number_of(v["fwhm_px"]), number_of(v["ellipticity"]), number_of(v["sky_adu"]), number_of(v["noise_adu"]),
        number_of(v["bright_flux_adu"]), v["saturated"], score,
    )  # fmt: skip
    stars = star_table(night, product)
    transform = stored_map(v["matrix"], v.get("bent"), fit_of(v))
    return Aligned(Scored(facts, stars, quality, trails_of(v), calibration), transform, number_of(v["flux_ratio"]))


@one_at_a_time
def run_combine(night: Night, context: JobContext, series: Series | None = None) -> StationResult:
    """Score, then stack."""
    series = series or night.current_series()
    scored = run_score(night, context, series)
    return scored if scored.problem else run_stack(night, context, series)
