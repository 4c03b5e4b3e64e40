"""Photon transfer and flat planning for sets of exposures."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ulvar.calibration import FlatPlan, PairPoint, Transfer, fit_transfer, measure_pair, plan_flat
from ulvar.engine import F32Array, Failed, JobContext
from ulvar.frames import ExposureFacts, FrameError, Role, open_rows
from ulvar.inspection import PixelLook, camera_key, zero_levels

# Pairs beyond these add little: the error falls with the root of their number.
_PAIRS = 6


@dataclass(frozen=True)
class CameraMeasure:
    """Photon transfer of one camera setting."""

    facts: ExposureFacts
    transfer: Transfer

    @property
    def key(self) -> str:
        """The setting (see `camera_key`)."""
        return camera_key(self.facts)


def _middle(path: str, step: int) -> F32Array:
    source = open_rows(path)
    y0, y1 = source.height // 4 // 2 * 2, max(2, 3 * source.height // 4)
    x0, x1 = source.width // 4 // 2 * 2, max(2, 3 * source.width // 4)
    return source.rows(y0, y1)[::step, x0:x1:step]


def _pairs(members: Sequence[ExposureFacts]) -> list[tuple[ExposureFacts, ExposureFacts]]:
    ordered = sorted(
        members, key=lambda f: (f.start_utc is None, f.start_utc.timestamp() if f.start_utc else 0, f.path)
    )
    pairs = list(zip(ordered[0::2], ordered[1::2]))
    step = max(1, len(pairs) // _PAIRS)
    return pairs[::step][:_PAIRS]


def measure_settings(
    exposures: Sequence[ExposureFacts], looks: Mapping[str, PixelLook], context: JobContext | None = None
) -> list[CameraMeasure | Failed]:
    """Measure gain and read noise of every camera setting of which there are pairs of flats.

    Flats of each filter and exposure are paired in the order of time; bias frames (dark flats in their place)
    give the level without light and the read noise. A setting that cannot be measured comes back as `Failed`.
    """
    run = context or JobContext()
    usable = [f for f in exposures if not f.is_master]
    zeros = zero_levels(usable, looks)
    results: list[CameraMeasure | Failed] = []
    keys = list(dict.fromkeys(camera_key(f) for f in usable if f.role is Role.FLAT))
    for done, key in enumerate(keys):
        run.progress(done, len(keys), "Measuring the camera")
        results.append(_measure_one([f for f in usable if camera_key(f) == key], zeros.get(key), run))
    run.progress(len(keys), len(keys), "Measuring the camera")
    return results


def _measure_one(members: Sequence[ExposureFacts], zero: float | None, run: JobContext) -> CameraMeasure | Failed:
    flats = [f for f in members if f.role is Role.FLAT]
    quiet = [f for f in members if f.role is Role.BIAS] or [f for f in members if f.role is Role.DARK_FLAT]
    gain = "" if flats[0].gain is None else f" at gain {flats[0].gain:g}"
    label = f"{flats[0].camera or 'the camera'}{gain}"
    if zero is None:
        return Failed(f"{label}: no bias or dark flat tells the level without light")
    # On a mosaic every second pixel of every second row is a sensor of one colour.
    step = 2 if any(f.cfa for f in flats) else 1
    try:
        bias_points = [measure_pair(_middle(a.path, step), _middle(b.path, step)) for a, b in _pairs(quiet)]
        flat_points: list[PairPoint] = []
        for name in sorted({(f.filter, f.exposure_s) for f in flats}, key=str):
            for a, b in _pairs([f for f in flats if (f.filter, f.exposure_s) == name]):
                run.stop.check()
                flat_points.append(measure_pair(_middle(a.path, step), _middle(b.path, step), zero_adu=zero))
    except FrameError as error:
        return Failed(error.reason, error.path)
    transfer = fit_transfer(flat_points, bias_points, saturation_adu=flats[0].saturation_adu or 65535.0)
    return Failed(f"{label}: {transfer.reason}") if isinstance(transfer, Failed) else CameraMeasure(flats[0], transfer)


def plan_by_filter(
    exposures: Sequence[ExposureFacts], looks: Mapping[str, PixelLook], fraction: float
) -> dict[str, tuple[list[tuple[float, float]], FlatPlan | Failed]]:
    """Return, per filter, the test flats (exposure s, level ADU) and the plan for the wanted level."""
    flats = [f for f in exposures if f.role is Role.FLAT and not f.is_master and f.exposure_s and f.path in looks]
    zeros = zero_levels(exposures, looks)
    plans: dict[str, tuple[list[tuple[float, float]], FlatPlan | Failed]] = {}
    for name in sorted({(f.filter, camera_key(f)) for f in flats}):
        members = [f for f in flats if (f.filter, camera_key(f)) == name]
        tests = [(float(f.exposure_s or 0), looks[f.path].level_adu) for f in members]
        full = members[0].saturation_adu or 65535.0
        plan = plan_flat(tests, zero_adu=zeros.get(name[1], 0.0), full_adu=full, fraction=fraction)
        if isinstance(plan, Failed):
            plan = Failed(plan.reason, members[0].path)
        label = name[0] or "no filter"
        if label in plans:
            gain = members[0].gain
            label += ", gain unknown" if gain is None else f", gain {gain:g}"
        same = sum(other == label or other.startswith(f"{label} (") for other in plans)
        plans[f"{label} ({same + 1})" if same else label] = (tests, plan)
    return plans
