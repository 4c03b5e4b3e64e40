"""What the night's calibration frames tell of the camera: gain, read noise, and the exposure for flats."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime

from ulvar.calibration import FlatPlan, PairPoint, Transfer, fit_transfer, measure_pair, plan_flat
from ulvar.engine import F32Array, Failed, JobContext
from ulvar.frames import ExposureFacts, FrameError, Role, open_rows
from ulvar.inspection import camera_key, zero_levels
from ulvar.night.library import CameraNumbers
from ulvar.night.project import Night, Product
from ulvar.night.stations.masters import excluded_frames, library_of
from ulvar.night.stations.shared import StationResult

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


def _pairs(members: list[ExposureFacts]) -> list[tuple[ExposureFacts, ExposureFacts]]:
    ordered = sorted(
        members, key=lambda f: (f.start_utc is None, f.start_utc.timestamp() if f.start_utc else 0, f.path)
    )
    pairs = list(zip(ordered[0::2], ordered[1::2]))
    step = max(1, len(pairs) // _PAIRS)
    return pairs[::step][:_PAIRS]


def measure_camera(night: Night, context: JobContext | None = None) -> list[CameraMeasure | Failed]:
    """Measure gain and read noise of every camera setting of which there are pairs of flats.

    Flats of each filter and exposure are paired in the order of time, bias frames (dark flats in their place) give the level
    without light and the read noise.
    """
    run = context or JobContext()
    out, barred = night.left_out, excluded_frames(night)
    usable = [f for f in night.exposures if f.path not in out and f.path not in barred and not f.is_master]
    zeros = zero_levels(usable, night.looks())
    results: list[CameraMeasure | Failed] = []
    keys = list(dict.fromkeys(camera_key(f) for f in usable if f.role is Role.FLAT))
    for done, key in enumerate(keys):
        run.progress(done, len(keys), "Measuring the camera")
        members = [f for f in usable if camera_key(f) == key]
        flats = [f for f in members if f.role is Role.FLAT]
        quiet = [f for f in members if f.role is Role.BIAS] or [f for f in members if f.role is Role.DARK_FLAT]
        label = flats[0].camera or "the camera"
        if key not in zeros:
            gain = "" if flats[0].gain is None else f" at gain {flats[0].gain:g}"
            results.append(Failed(f"{label}{gain}: no bias or dark flat tells the level without light"))
            continue
        # On a mosaic every second pixel of every second row is a sensor of one colour.
        step = 2 if any(f.cfa for f in flats) else 1
        try:
            bias_points = [measure_pair(_middle(a.path, step), _middle(b.path, step)) for a, b in _pairs(quiet)]
            flat_points: list[PairPoint] = []
            for name in sorted({(f.filter, f.exposure_s) for f in flats}, key=str):
                same = [f for f in flats if (f.filter, f.exposure_s) == name]
                for a, b in _pairs(same):
                    run.stop.check()
                    flat_points.append(measure_pair(_middle(a.path, step), _middle(b.path, step), zero_adu=zeros[key]))
        except FrameError as error:
            results.append(Failed(error.reason, error.path))
            continue
        transfer = fit_transfer(flat_points, bias_points, saturation_adu=flats[0].saturation_adu or 65535.0)
        if isinstance(transfer, Failed):
            results.append(Failed(f"{label}: {transfer.reason}"))
        else:
            results.append(CameraMeasure(flats[0], transfer))
    run.progress(len(keys), len(keys), "Measuring the camera")
    return results


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
    text = f"{len(good)} camera settings measured" + (f"; {missed[0]}" if missed else "")
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
    """Return, per filter, the test flats (exposure s, level ADU) and the plan for the wanted level."""
    if night is None:
        return {}
    looks = night.looks()
    out = night.left_out
    flats = [f for f in night.exposures if f.role is Role.FLAT and not f.is_master and f.exposure_s and f.path in looks]
    zeros = zero_levels(night.exposures, looks)
    plans: dict[str, tuple[list[tuple[float, float]], FlatPlan | Failed]] = {}
    for name in sorted({(f.filter, camera_key(f)) for f in flats}):
        members = [f for f in flats if (f.filter, camera_key(f)) == name and f.path not in out]
        if not members:
            continue
        tests = [(float(f.exposure_s or 0), looks[f.path].level_adu) for f in members]
        full = members[0].saturation_adu or 65535.0
        plan = plan_flat(tests, zero_adu=zeros.get(name[1], 0.0), full_adu=full, fraction=fraction)
        label = name[0] or "no filter"
        plans[label if label not in plans else f"{label}, gain {members[0].gain:g}"] = (tests, plan)
    return plans
