"""What the night's calibration frames tell of the camera: gain, read noise, and the exposure for flats."""

from __future__ import annotations

from datetime import UTC, datetime

from ulvar.calibration import FlatPlan, PairPoint, Transfer
from ulvar.engine import Failed, JobContext, counted
from ulvar.flows import CameraMeasure, CameraNumbers, measure_settings, plan_by_filter
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.stations.masters import excluded_frames, library_of
from ulvar.night.stations.shared import StationResult
from ulvar.night.working import one_at_a_time


def measure_camera(night: Night, context: JobContext | None = None) -> list[CameraMeasure | Failed]:
    """Measure gain and read noise from the night's kept flats and bias frames (see `measure_settings`)."""
    barred = excluded_frames(night)
    usable = [f for f in night.kept() if f.path not in barred]
    return measure_settings(usable, night.looks(), context)


@one_at_a_time
def run_camera(night: Night, context: JobContext) -> StationResult:
    """Measure the camera and keep the result with the night; nothing else changes."""
    results = measure_camera(night, context)
    good = [r for r in results if isinstance(r, CameraMeasure)]
    products = []
    for measured in good:
        t = measured.transfer
        points = [[p.signal_adu, p.variance_adu2, p.error_adu2] for p in t.points]
        values = {
            "gain_e_per_adu": t.gain_e_per_adu, "gain_error": t.gain_error, "read_noise_e": t.read_noise_e,
            "read_noise_error": t.read_noise_error, "points": points, "used": list(t.used),
            "path": measured.facts.path, "camera": measured.facts.camera, "gain": measured.facts.gain,
            "told_gain": measured.facts.gain_e_per_adu, "told_read_noise": measured.facts.read_noise_e,
        }  # fmt: skip
        products.append(Product("camera", measured.key, "", values))
    night.store_products("camera", products, clear=True)
    missed = [r.reason for r in results if isinstance(r, Failed)]
    text = f"{counted(len(good), 'camera setting')} measured" + (f"; {missed[0]}" if missed else "")
    problem = "" if good else missed[0] if missed else "there are no pairs of flats to measure the camera with"
    return StationResult("calibrate", text, len(good), len(missed), problem)


def stored_camera(night: Night, key: str) -> CameraMeasure | None:
    """Return a measured camera setting as it was kept with the night."""
    product = night.products_of("camera").get(key)
    facts = night.facts(product.values["path"]) if product else None
    if product is None or facts is None:
        return None
    v = product.values
    points = tuple(PairPoint(*p) for p in v["points"])

    def number(name: str) -> float:
        return float("nan") if v[name] is None else float(v[name])

    transfer = Transfer(
        number("gain_e_per_adu"), number("gain_error"), number("read_noise_e"), number("read_noise_error"), points,
        tuple(v["used"]),
    )  # fmt: skip
    return CameraMeasure(facts, transfer)


def remember_camera(night: Night, measured: CameraMeasure) -> None:
    """Keep a camera's gain and read noise in the library; exposures whose headers do not tell them take them."""
    t = measured.transfer
    today = datetime.now(UTC).strftime("%Y-%m-%d")
    numbers = CameraNumbers(t.gain_e_per_adu, t.gain_error, t.read_noise_e, t.read_noise_error, today)
    library_of(night).remember_camera(measured.facts, numbers)
    night.forget_exposures()


def plan_flats(night: Night | None, fraction: float) -> dict[str, tuple[list[tuple[float, float]], FlatPlan | Failed]]:
    """Return, per filter, the kept test flats and the plan for the wanted level (see `plan_by_filter`)."""
    return plan_by_filter(night.kept(), night.looks(), fraction) if night is not None else {}
