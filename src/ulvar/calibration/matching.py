"""Which calibration frames fit which exposures, how far off they are, and why others were refused."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
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


# A pin to this key means: none, by hand.
NO_MASTER = "none"


@dataclass(frozen=True)
class MatchOptions:
    """What is allowed in matching.

    Attributes
    ----------
    tolerances : Tolerances
    scale_darks : bool
        Whether a dark of another exposure may be scaled. It needs a bias, and is refused without one.
    bound_tags : tuple of str
        Tags (``session`` among them) that calibration frames must share with the lights.
    pins : mapping of str to mapping of str to str
        Lights' group key to kind to the key of the candidate chosen by hand, or `NO_MASTER`.
    name_sessions : bool or None
        Whether keys of groups name the session (see `group_exposures`).
    """

    tolerances: Tolerances = field(default_factory=Tolerances)
    scale_darks: bool = False
    bound_tags: tuple[str, ...] = ()
    pins: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    name_sessions: bool | None = None


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
    pinned : bool
        Whether the user chose it by hand.
    scale : float
        What a dark is multiplied with after its bias was taken off; 1 for a dark of the right exposure.
    """

    kind: Role
    fit: Fit
    candidate: Candidate | None = None
    off: dict[str, float] = field(default_factory=dict)
    reason: str = ""
    refused: tuple[tuple[Candidate, str], ...] = ()
    pinned: bool = False
    scale: float = 1.0

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
    return f"{text} ({b:.0f} °C)"


def _choose(
    kind: Role,
    wanted: ExposureFacts,
    candidates: Sequence[Candidate],
    options: MatchOptions,
    *,
    use_exposure: bool,
    use_filter: bool = False,
    pin: str = "",
) -> Choice:
    refused: list[tuple[Candidate, Verdict]] = []
    good: list[tuple[tuple, Candidate, str, dict[str, float]]] = []
    mine = [candidate for candidate in candidates if candidate.kind is kind]
    for candidate in mine:
        verdict = suits(
            wanted, candidate, options.tolerances, use_exposure=use_exposure, use_filter=use_filter,
            bound_tags=options.bound_tags,
        )  # fmt: skip
        if candidate.key == pin:
            told = tuple((c, "another was chosen by hand") for c in mine if c is not candidate)
            reason = verdict.refusal or verdict.doubt
            fit = Fit.NEAR if reason else Fit.FITS
            return Choice(kind, fit, candidate, verdict.off, reason, told, pinned=True)
        if verdict.refusal:
            refused.append((candidate, verdict))
            continue
        doubt, off = verdict.doubt, verdict.off
        # Of frames that fit alike those of the same session come first: dust moves from night to night.
        apart = bool(wanted.session) and candidate.facts.session != wanted.session
        rank = (bool(doubt), apart, abs(off.get("temperature_c", 0.0)), off.get("age_d", 0.0), -candidate.count)
        good.append((rank, candidate, doubt, off))
    if pin == NO_MASTER:
        told = tuple((c, "none was chosen by hand") for c in mine)
        return Choice(kind, Fit.NONE_TAKEN, None, {}, "none, by hand", told, pinned=True)
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


def bias_is_unsafe(wanted: ExposureFacts, candidates: Sequence[Candidate]) -> str:
    """Return why a bias must not be used with this sensor, or an empty text.

    Some sensors change their level with the mode of short exposures: their darks lie below their bias, so a
    bias is no part of a dark. Neither may it then be taken off flats, nor a dark be scaled.
    """
    levels: dict[Role, list[float]] = {}
    for candidate in candidates:
        have = candidate.facts
        same = all(
            getattr(have, n) is None or getattr(wanted, n) is None or getattr(have, n) == getattr(wanted, n)
            for n in ("gain", "offset")
        )
        if same and candidate.level_adu is not None and have.camera == wanted.camera:
            levels.setdefault(candidate.kind, []).append(candidate.level_adu)
    if Role.BIAS not in levels or Role.DARK not in levels:
        return ""
    bias, dark = min(levels[Role.BIAS]), max(levels[Role.DARK])
    # Levels of whole numbers and a drift from set to set make up to 2 ADU; a dark adds to the bias, never takes.
    if dark >= bias - 3.0:
        return ""
    return f"the darks lie {bias - dark:.0f} ADU below the bias"


def match_lights(
    lights: ExposureFacts,
    candidates: Sequence[Candidate],
    limits: Tolerances | None = None,
    *,
    options: MatchOptions | None = None,
    key: str = "",
) -> Match:
    """Choose bias, dark, flat and dark flat for a group of lights.

    Parameters
    ----------
    lights : ExposureFacts
        A member of the group.
    candidates : sequence of Candidate
        Masters, or sets that would make them.
    limits : Tolerances, optional
        Short for options with these tolerances only.
    options : MatchOptions, optional
    key : str
        The group's key, under which its pins are found.

    Returns
    -------
    Match
        A dark holds the bias, so with a fitting dark no bias is needed. A kind of which there are frames
        but none that is safe blocks the calibration; a kind nobody took does not, but is told.

    Raises
    ------
    ValueError
        If both limits and options are given.
    """
    if limits is not None and options is not None:
        raise ValueError("tolerances stand in the options")
    rules = options or MatchOptions(limits or Tolerances())
    pins = rules.pins.get(key, {})
    unsafe = bias_is_unsafe(lights, candidates)
    dark = _choose(Role.DARK, lights, candidates, rules, use_exposure=True, pin=pins.get("dark", ""))
    flat = _choose(
        Role.FLAT, lights, candidates, rules, use_exposure=False, use_filter=True, pin=pins.get("flat", "")
    )  # fmt: skip
    bias = _choose(Role.BIAS, lights, candidates, rules, use_exposure=False, pin=pins.get("bias", ""))
    if unsafe and not bias.pinned and bias.fit is not Fit.NONE_TAKEN:
        told = tuple((c, unsafe) for c in candidates if c.kind is Role.BIAS)
        bias = Choice(Role.BIAS, Fit.NOT_NEEDED, reason=unsafe, refused=told)
    if not dark.usable and not dark.pinned and rules.scale_darks:
        dark = _scaled(dark, lights, candidates, rules, bias)
    if dark.usable and dark.scale == 1.0 and not bias.pinned and not _without_bias(dark, bias):
        bias = Choice(Role.BIAS, Fit.NOT_NEEDED, reason="the dark holds it")
    if flat.candidate is None:
        dark_flat = Choice(Role.DARK_FLAT, Fit.NOT_NEEDED, reason="waits for a flat")
    elif flat.candidate.facts.is_master:
        dark_flat = Choice(Role.DARK_FLAT, Fit.NOT_NEEDED, reason="the master flat is made")
    else:
        dark_flat = match_flat(flat.candidate.facts, candidates, options=rules, pin=pins.get("dark_flat", ""))
    return Match(bias, dark, flat, dark_flat)


def _without_bias(dark: Choice, bias: Choice) -> bool:
    """Whether a master dark had its bias taken off before, by whoever made it."""
    a = dark.candidate.level_adu if dark.candidate else None
    b = bias.candidate.level_adu if bias.candidate else None
    return a is not None and b is not None and b > 20 and a < 0.5 * b


def _scaled(
    dark: Choice, lights: ExposureFacts, candidates: Sequence[Candidate], options: MatchOptions, bias: Choice
) -> Choice:
    """Return a dark of another exposure, to be scaled, where that is safe; else the refusal with its reason."""
    if dark.fit is not Fit.NOTHING_SAFE or lights.exposure_s is None:
        return dark
    if not bias.usable:
        why = bias.reason or "there is none"
        return replace(dark, reason=f"{dark.reason}; scaling needs a bias: {why}")
    others = [c for c in candidates if c.kind is Role.DARK and c.facts.exposure_s]
    loose = _choose(Role.DARK, lights, others, options, use_exposure=False)
    if loose.candidate is None:
        return dark
    # Among those that fit otherwise the nearest exposure is scaled least.
    limits, tags = options.tolerances, options.bound_tags
    fitting = [
        c for c in others if not suits(lights, c, limits, use_exposure=False, use_filter=False, bound_tags=tags).refusal
    ]
    best = min(fitting, key=lambda c: abs(math.log((c.facts.exposure_s or 1.0) / (lights.exposure_s or 1.0))))
    factor = lights.exposure_s / (best.facts.exposure_s or lights.exposure_s)
    told = tuple((c, r) for c, r in dark.refused if c is not best)
    off = {"exposure_s": (best.facts.exposure_s or 0.0) - lights.exposure_s}
    return Choice(Role.DARK, Fit.NEAR, best, off, f"scaled × {factor:.2f}", told, scale=factor)


def match_flat(
    flat: ExposureFacts,
    candidates: Sequence[Candidate],
    limits: Tolerances | None = None,
    *,
    options: MatchOptions | None = None,
    pin: str = "",
) -> Choice:
    """Choose what to subtract from flats: a dark flat of their exposure, a dark of it, else a bias if that is safe.

    Parameters and errors as `match_lights`; `pin` is the key chosen by hand.
    """
    if limits is not None and options is not None:
        raise ValueError("tolerances stand in the options")
    rules = options or MatchOptions(limits or Tolerances())
    named = next((c for c in candidates if pin and c.key == pin), None)
    kind = named.kind if named else Role.DARK_FLAT
    choice = _choose(kind, flat, candidates, rules, use_exposure=kind is not Role.BIAS, pin=pin)
    if choice.usable or choice.pinned:
        return replace(choice, kind=Role.DARK_FLAT)
    dark = _choose(Role.DARK, flat, candidates, rules, use_exposure=True)
    if dark.usable:
        return Choice(Role.DARK_FLAT, dark.fit, dark.candidate, dark.off, dark.reason, choice.refused)
    unsafe = bias_is_unsafe(flat, candidates)
    if unsafe:
        reason = f"{choice.reason}; no bias in its place: {unsafe}"
        return replace(choice, fit=Fit.NOTHING_SAFE, reason=reason)
    bias = _choose(Role.BIAS, flat, candidates, rules, use_exposure=False)
    if bias.usable:
        return Choice(Role.DARK_FLAT, Fit.NEAR, bias.candidate, bias.off, "bias in its place", choice.refused)
    return choice
