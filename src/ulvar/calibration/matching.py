"""Which calibration frames fit which exposures, how far off they are, and why others were refused."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import StrEnum

from ulvar.frames import ExposureFacts, Role, Tolerances


class Fit(StrEnum):
    """How well a choice fits."""

    FITS = "fits"
    NEAR = "near"
    NOTHING_SAFE = "nothing_safe"
    NONE_TAKEN = "none_taken"
    NOT_NEEDED = "not_needed"


@dataclass(frozen=True)
class Candidate:
    """A master, or a set of frames that would make one."""

    kind: Role
    facts: ExposureFacts
    count: int
    key: str


@dataclass(frozen=True)
class Choice:
    """What was chosen for one kind.

    Attributes
    ----------
    kind : Role
    fit : Fit
    candidate : Candidate or None
    off : dict
        How far off: ``exposure_s``, ``temperature_c``, ``age_d``.
    reason : str
        Why it is only near, or why nothing is safe.
    refused : tuple of (Candidate, str)
        Every other candidate of this kind with the reason against it.
    """

    kind: Role
    fit: Fit
    candidate: Candidate | None = None
    off: dict[str, float] = field(default_factory=dict)
    reason: str = ""
    refused: tuple[tuple[Candidate, str], ...] = ()

    @property
    def usable(self) -> bool:
        """Whether there is something to use."""
        return self.candidate is not None


@dataclass(frozen=True)
class Match:
    """The choices for one group of lights."""

    bias: Choice
    dark: Choice
    flat: Choice
    dark_flat: Choice

    @property
    def choices(self) -> tuple[Choice, ...]:
        """In the order of the match board."""
        return self.bias, self.dark, self.flat, self.dark_flat

    @property
    def safe(self) -> bool:
        """Whether the lights can be calibrated: no kind was taken of which none is safe, and one is usable."""
        needed = (self.bias, self.dark, self.flat)
        blocked = any(choice.fit is Fit.NOTHING_SAFE for choice in needed)
        return not blocked and any(choice.usable for choice in needed)

    @property
    def blockers(self) -> list[str]:
        """What stands in the way, in words."""
        return [
            f"no safe {choice.kind.value.replace('_', ' ')}: {choice.reason}"
            for choice in (self.bias, self.dark, self.flat)
            if choice.fit is Fit.NOTHING_SAFE
        ]


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
    wanted: ExposureFacts, candidate: Candidate, limits: Tolerances, *, use_exposure: bool, use_filter: bool
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
    return f"{text} ({b:.0f} °C)"


def _choose(
    kind: Role,
    wanted: ExposureFacts,
    candidates: Sequence[Candidate],
    limits: Tolerances,
    *,
    use_exposure: bool,
    use_filter: bool = False,
) -> Choice:
    refused: list[tuple[Candidate, Verdict]] = []
    good: list[tuple[tuple, Candidate, str, dict[str, float]]] = []
    mine = [candidate for candidate in candidates if candidate.kind is kind]
    for candidate in mine:
        verdict = suits(wanted, candidate, limits, use_exposure=use_exposure, use_filter=use_filter)
        if verdict.refusal:
            refused.append((candidate, verdict))
            continue
        doubt, off = verdict.doubt, verdict.off
        rank = (bool(doubt), abs(off.get("temperature_c", 0.0)), off.get("age_d", 0.0), -candidate.count)
        good.append((rank, candidate, doubt, off))
    # The candidate that came closest is named first: its refusal tells the user most.
    refused.sort(key=lambda entry: (-entry[1].passed, abs(entry[1].off.get("exposure_s", 0.0))))
    told = tuple((candidate, verdict.refusal) for candidate, verdict in refused)
    if good:
        good.sort(key=lambda entry: entry[0])
        _, best, doubt, off = good[0]
        others = tuple((candidate, "another fits better") for _, candidate, _, _ in good[1:])
        return Choice(kind, Fit.NEAR if doubt else Fit.FITS, best, off, doubt, told + others)
    if not mine:
        return Choice(kind, Fit.NONE_TAKEN, reason="there are none")
    return Choice(kind, Fit.NOTHING_SAFE, off=refused[0][1].off, reason=told[0][1], refused=told)


def match_lights(lights: ExposureFacts, candidates: Sequence[Candidate], limits: Tolerances | None = None) -> Match:
    """Choose bias, dark, flat and dark flat for a group of lights.

    Parameters
    ----------
    lights : ExposureFacts
        A member of the group.
    candidates : sequence of Candidate
        Masters, or sets that would make them.
    limits : Tolerances, optional

    Returns
    -------
    Match
        A dark holds the bias, so with a fitting dark no bias is needed. A kind of which there are frames
        but none that is safe blocks the calibration; a kind nobody took does not, but is told.
    """
    tolerances = limits or Tolerances()
    dark = _choose(Role.DARK, lights, candidates, tolerances, use_exposure=True)
    flat = _choose(Role.FLAT, lights, candidates, tolerances, use_exposure=False, use_filter=True)
    if dark.usable:
        bias = Choice(Role.BIAS, Fit.NOT_NEEDED, reason="the dark holds it")
    else:
        bias = _choose(Role.BIAS, lights, candidates, tolerances, use_exposure=False)
    if flat.candidate is None:
        dark_flat = Choice(Role.DARK_FLAT, Fit.NOT_NEEDED, reason="waits for a flat")
    else:
        dark_flat = match_flat(flat.candidate.facts, candidates, tolerances)
    return Match(bias, dark, flat, dark_flat)


def match_flat(flat: ExposureFacts, candidates: Sequence[Candidate], limits: Tolerances) -> Choice:
    """Choose what to subtract from flats: a dark flat of their exposure, else a bias."""
    choice = _choose(Role.DARK_FLAT, flat, candidates, limits, use_exposure=True)
    if choice.usable:
        return choice
    bias = _choose(Role.BIAS, flat, candidates, limits, use_exposure=False)
    if bias.usable:
        return Choice(Role.DARK_FLAT, Fit.NEAR, bias.candidate, bias.off, "bias in its place", choice.refused)
    return choice
