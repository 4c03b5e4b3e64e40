"""Which calibration frames fit which exposures, how far off they are, and why others were refused."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum

from ulvar.calibration.candidates import Candidate, Verdict, suits
from ulvar.calibration.levels import bias_is_unsafe, lacks_bias
from ulvar.engine import counted
from ulvar.frames import ExposureFacts, Role, Tolerances


class Fit(StrEnum):
    """How well a choice fits."""

    FITS = "fits"
    NEAR = "near"
    NOTHING_SAFE = "nothing_safe"
    NONE_TAKEN = "none_taken"
    NOT_NEEDED = "not_needed"


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
            f"no safe {choice.kind.word}: {choice.reason}"
            for choice in (self.bias, self.dark, self.flat)
            if choice.fit is Fit.NOTHING_SAFE
        ]


# Flats up to this long gather no dark current that counts: at 1 e-/s a pixel 10 of some 20 000 electrons, 0.05 %.
SHORT_FLAT_S = 10.0


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
    if dark.usable and dark.scale == 1.0 and not bias.pinned and not lacks_bias(dark.candidate, candidates):
        bias = Choice(Role.BIAS, Fit.NOT_NEEDED, reason="it is in the dark")
    if flat.candidate is None:
        dark_flat = Choice(Role.DARK_FLAT, Fit.NOT_NEEDED, reason="waits for a flat")
    elif flat.candidate.facts.is_master:
        dark_flat = Choice(Role.DARK_FLAT, Fit.NOT_NEEDED, reason="the master flat is made")
    else:
        dark_flat = match_flat(flat.candidate.facts, candidates, options=rules, pin=pins.get("dark_flat", ""))
    return Match(bias, dark, flat, dark_flat)


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
    most = largest_scale(best.count)
    if factor > most:
        why = f"{best.facts.exposure_s:g} s would be scaled × {factor:.0f}, {counted(best.count, 'frame', 'bears', 'bear')} × {most:.1f}"
        return replace(dark, reason=f"{dark.reason}; {why}")
    told = tuple((c, r) for c, r in dark.refused if c is not best)
    off = {"exposure_s": (best.facts.exposure_s or 0.0) - lights.exposure_s}
    return Choice(Role.DARK, Fit.NEAR, best, off, f"scaled × {factor:.2f}", told, scale=factor)


def largest_scale(count: int) -> float:
    """Return by how much a master dark of `count` frames may be multiplied.

    A master's noise is that of one frame over the root of the count; scaled by that root it adds as much noise as
    the light has itself. Less than 2 is never asked, more than 10 never trusted: hot pixels are not that linear.
    """
    return min(10.0, max(2.0, math.sqrt(count)))


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
    bare = [c for c in candidates if c is not named and lacks_bias(c, candidates)]
    candidates = [c for c in candidates if c not in bare]
    kind = named.kind if named else Role.DARK_FLAT
    choice = _choose(kind, flat, candidates, rules, use_exposure=kind is not Role.BIAS, pin=pin)
    told = tuple((c, "its bias was taken off before, a flat's is not") for c in bare if c.kind in (kind, Role.DARK))
    choice = replace(choice, refused=choice.refused + told)
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
        # Of a flat of seconds a bias is all that there is to take off, and nobody who has one misses a dark flat.
        short = flat.exposure_s is not None and flat.exposure_s <= SHORT_FLAT_S
        if short and choice.fit is Fit.NONE_TAKEN:
            return Choice(
                Role.DARK_FLAT, bias.fit, bias.candidate, bias.off, bias.reason or "bias: the flats are short", choice.refused
            )  # fmt: skip
        return Choice(Role.DARK_FLAT, Fit.NEAR, bias.candidate, bias.off, "bias in its place", choice.refused)
    return choice
