"""Calibrate: the lights that have safe masters, and whether the flat fits them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from ulvar.calibration import Candidate, read_master
from ulvar.engine import Failed, JobContext, counted
from ulvar.flows import NO_MATCH, Outcome, calibrate_lights
from ulvar.frames import ExposureFacts, FrameError, read_frame
from ulvar.inspection import Finding, FlatCheck, check_flat, flat_findings, notice
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.stations.masters import given_masters, library_of, made_masters, matching_of, preparation_of
from ulvar.night.stations.shared import StationResult, finish, kept_lights
from ulvar.night.working import one_at_a_time

# A few lights tell what a flat does; more of them only take longer.
_CHECKED = 6


def calibrated_folder(night: Night) -> Path:
    """Return where calibrated lights go: the folder that was chosen, else the night's own."""
    chosen = night.settings.calibrate.folder
    return Path(chosen) if chosen else night.products / "calibrated"


@one_at_a_time
def run_calibrate(night: Night, context: JobContext) -> StationResult:
    """Calibrate the kept lights that have safe masters, then hold the flats against the calibrated sky."""
    settings = night.settings
    masters = [*made_masters(night), *given_masters(night)]
    lights = kept_lights(night)
    if not lights:
        return finish(night, StationResult("calibrate", "no lights", problem="there are no lights"), [])
    if not masters:
        night.store_products("calibrated", [], clear=True)
        return finish(night, StationResult("calibrate", "nothing to calibrate with; lights are used as they are"), [])
    outcomes, findings = calibrate_lights(
        lights,
        masters,
        calibrated_folder(night),
        context,
        matching=matching_of(night),
        options=settings.calibrate.options(preparation_of(night, lights)),
        defect_library=str(library_of(night).folder) if settings.calibrate.use_defect_list else "",
        suffix=f"{settings.calibrate.suffix}.fits",
        partial=settings.calibrate.partial,
        replace_existing=not settings.calibrate.folder,
    )
    good = [o for o in outcomes if o.ok]
    night.store_products(
        "calibrated", [Product("calibrated", o.file, o.output, dict(o.values)) for o in good], clear=True
    )
    problem = "" if good else "no light has safe masters"
    text = f"{len(good)} of {len(outcomes)} lights calibrated"
    # What does not match was told at the masters station; here only what went wrong on the way.
    told = {(f.code, f.title) for f in night.findings("masters")}
    fresh = [f for f in findings if (f.code, f.title) not in told] + _not_calibrated(outcomes) + _noisy(outcomes)
    context.progress(0, 1, "Checking the flats")
    fresh += check_flats(night, lights, good, masters)
    context.progress(1, 1, "Checking the flats")
    return finish(night, StationResult("calibrate", text, len(good), len(outcomes) - len(good), problem), fresh)


def _not_calibrated(outcomes: list[Outcome]) -> list[Finding]:
    broken = [o for o in outcomes if not o.ok and o.code != NO_MATCH]
    return [
        notice("not_calibrated", f"{Path(o.file).name} is not calibrated", f"{o.reason}.", (o.file,)) for o in broken
    ]


def _noisy(outcomes: Sequence[Outcome]) -> list[Finding]:
    """Lights whose noise is well over what photons, dark current and reading explain: a bad master, or a wrong gain."""
    sets: dict[tuple[str, str], list[Outcome]] = {}
    for outcome in outcomes:
        v = outcome.values
        if outcome.ok and v.get("noise_expected") and v.get("noise_after"):
            sets.setdefault((str(v.get("dark") or v.get("bias")), str(v.get("flat"))), []).append(outcome)
    found = []
    for members in sets.values():
        ratios = sorted(float(o.values["noise_after"]) / float(o.values["noise_expected"]) for o in members)
        ratio = ratios[len(ratios) // 2]
        if ratio < 1.15:
            continue
        files = tuple(o.file for o in members)
        found.append(
            notice(
                "noise_over",
                f"{counted(len(files), 'light', 'is', 'are')} noisier than expected",
                f"Their pixels scatter {ratio:.2f} times what photons, dark current and read noise make: a noisy master, or "
                "gain and read noise that are not those of this camera.",
                files,
                {"ratio": ratio},
            )
        )
    return found


def check_flats(
    night: Night, lights: Sequence[ExposureFacts], outcomes: Sequence[Outcome], masters: Sequence[tuple[Candidate, str]]
) -> list[Finding]:
    """Hold each flat that was used against the sky of a few lights; the checks are kept with the night."""
    by_flat: dict[str, list[Outcome]] = {}
    for outcome in outcomes:
        flat = str(outcome.values.get("flat") or "")
        if flat:
            by_flat.setdefault(flat, []).append(outcome)
    found: list[Finding] = []
    products: list[Product] = []
    filters = {f.path: f.filter for f in lights}
    for flat, members in by_flat.items():
        step = max(1, len(members) // _CHECKED)
        chosen = members[::step][:_CHECKED]
        check = _check_one(flat, chosen)
        if isinstance(check, FlatCheck):
            label = filters.get(members[0].file, "") or "Lights"
            files = tuple(o.file for o in members)
            found += flat_findings(label, check, files)
            body = {k: v.tolist() if hasattr(v, "tolist") else v for k, v in vars(check).items()}
            products.append(Product("flat_check", flat, flat, {**body, "filter": label, "lights": len(files)}))
    night.store_products("flat_check", products, clear=True)
    return found


def _check_one(flat: str, members: Sequence[Outcome]) -> FlatCheck | Failed:
    try:
        frames = [read_frame(o.output) for o in members]
        return check_flat([(f.above_pedestal(), f.mask) for f in frames], read_master(flat).data)
    except FrameError as error:
        return Failed(error.reason, error.path)
