"""One master, or set that would make one, judged for an exposure: hard facts, settings, exposure, temperature, age."""

from __future__ import annotations

from dataclasses import dataclass

from ulvar.engine import true_minus
from ulvar.frames import ExposureFacts, Role, Tolerances


@dataclass(frozen=True)
class Candidate:
    """A master, or a set of frames that would make one.

    Attributes
    ----------
    kind : Role
    facts : ExposureFacts
    count : int
        Frames combined, or to be combined.
    key : str
        Names it within the night, the folder or the library: what a pin refers to.
    level_adu : float or None
        Typical level [ADU], where it is known.
    """

    kind: Role
    facts: ExposureFacts
    count: int
    key: str
    level_adu: float | None = None


def _age_days(first: ExposureFacts, second: ExposureFacts) -> float | None:
    if first.start_utc is None or second.start_utc is None:
        return None
    return abs((first.start_utc - second.start_utc).total_seconds()) / 86400


@dataclass(frozen=True)
class Verdict:
    """Judgement on one candidate.

    Attributes
    ----------
    refusal : str
        Empty when it may be used.
    doubt : str
        Empty when it fits without reserve.
    off : dict
        How far off.
    passed : int
        Checks passed before a refusal: the more, the closer the candidate came.
    """

    refusal: str
    doubt: str
    off: dict[str, float]
    passed: int


def suits(
    wanted: ExposureFacts,
    candidate: Candidate,
    limits: Tolerances,
    *,
    use_exposure: bool,
    use_filter: bool,
    bound_tags: tuple[str, ...] = (),
) -> Verdict:
    """Judge one candidate for an exposure: hard facts first, then gain and offset, exposure, temperature."""
    have = candidate.facts
    off: dict[str, float] = {}
    doubts: list[str] = []
    hard = [
        (
            (have.width, have.height) != (wanted.width, wanted.height),
            f"its size is {have.width} x {have.height} px, not {wanted.width} x {wanted.height}",
        ),
        (have.binning != wanted.binning, f"binning {have.binning}, not {wanted.binning}"),
        (bool(have.camera and wanted.camera) and have.camera != wanted.camera, f"taken with {have.camera}"),
        (
            bool(have.readout_mode and wanted.readout_mode) and have.readout_mode != wanted.readout_mode,
            f"readout mode {have.readout_mode}, not {wanted.readout_mode}",
        ),
        (
            use_filter and have.filter != wanted.filter,
            f"filter {have.filter or 'unknown'}, not {wanted.filter or 'unknown'}",
        ),
    ]
    for tag in bound_tags:
        a, b = _tag(wanted, tag), _tag(have, tag)
        hard.append((bool(a and b) and a != b, f"{tag} {b}, not {a}"))
    passed = 0
    for wrong, reason in hard:
        if wrong:
            return Verdict(reason, "", off, passed)
        passed += 1
    for name in ("gain", "offset"):
        a, b = getattr(wanted, name), getattr(have, name)
        if a is not None and b is not None and a != b:
            return Verdict(f"{name} {b:g}, not {a:g}", "", off, passed)
        passed += 1
        if a is not None and b is None:
            doubts.append(f"{name} unknown")
    # Temperature is looked at before exposure is refused, so that the board can tell both.
    temperature = "" if candidate.kind is Role.FLAT else _temperature(wanted, candidate, limits, off, doubts)
    if use_exposure:
        refusal = _exposure(wanted, have, limits, off, doubts)
        if refusal:
            return Verdict(refusal, "", off, passed)
        passed += 1
    if temperature:
        return Verdict(temperature, "", off, passed)
    age = _age_days(wanted, have)
    if age is not None:
        off["age_d"] = age
        if age > limits.age_d:
            doubts.append(f"{age:.0f} d old, limit {limits.age_d:.0f} d")
    return Verdict("", ", ".join(doubts), off, passed)


def _tag(facts: ExposureFacts, name: str) -> str:
    return facts.session if name == "session" else facts.tags.get(name, "")


def _exposure(
    wanted: ExposureFacts, have: ExposureFacts, limits: Tolerances, off: dict[str, float], doubts: list[str]
) -> str:
    if wanted.exposure_s is None or have.exposure_s is None:
        doubts.append("exposure unknown")
        return ""
    off["exposure_s"] = have.exposure_s - wanted.exposure_s
    if limits.same_exposure(wanted.exposure_s, have.exposure_s):
        return ""
    return f"{have.exposure_s:g} s is {abs(off['exposure_s']):g} s too {'short' if off['exposure_s'] < 0 else 'long'}"


def _temperature(
    wanted: ExposureFacts, candidate: Candidate, limits: Tolerances, off: dict[str, float], doubts: list[str]
) -> str:
    a, b = wanted.sensor_temperature_c, candidate.facts.sensor_temperature_c
    if a is None:
        return ""
    if b is None:
        doubts.append("temperature unknown")
        return ""
    off["temperature_c"] = b - a
    if abs(b - a) <= limits.temperature_c:
        return ""
    text = f"{abs(b - a):.1f} °C too {'warm' if b > a else 'cold'}"
    # A bias hardly changes with temperature: it is used, with a word.
    if candidate.kind is Role.BIAS:
        doubts.append(text)
        return ""
    return true_minus(f"{text} ({b:.0f} °C)")
