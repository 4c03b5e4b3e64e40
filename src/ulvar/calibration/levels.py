"""What the levels of biases and darks tell: whether a dark still holds its bias, and whether a bias may be used."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ulvar.calibration.candidates import Candidate
from ulvar.frames import ExposureFacts, Role


def bias_taken_off(dark_adu: float | None, bias_adu: float | None) -> bool:
    """Whether a dark of this level [ADU] had its bias taken off before, by whoever made it.

    A dark adds to the bias it holds, so one at less than half of the bias's level holds none. A bias of 20 ADU
    or less tells nothing, nor does a level that is unknown.
    """
    return dark_adu is not None and bias_adu is not None and bias_adu > 20 and dark_adu < 0.5 * bias_adu


def _bias_level(like: ExposureFacts, candidates: Sequence[Candidate]) -> float | None:
    """Return the lowest level of the biases of this camera and setting [ADU]."""
    return min((c.level_adu for c in _alike(like, candidates, Role.BIAS) if c.level_adu is not None), default=None)


def _alike(like: ExposureFacts, candidates: Sequence[Candidate], kind: Role) -> list[Candidate]:
    def same(have: ExposureFacts) -> bool:
        return have.camera == like.camera and all(
            getattr(have, n) is None or getattr(like, n) is None or getattr(have, n) == getattr(like, n)
            for n in ("gain", "offset")
        )

    return [c for c in candidates if c.kind is kind and c.level_adu is not None and same(c.facts)]


def lacks_bias(dark: Candidate | None, candidates: Sequence[Candidate]) -> bool:
    """Whether a dark or dark flat had its bias taken off, told by the biases of its camera among the others.

    Those of its own gain and offset count; where there are none any does, since half of a level is a wide margin.
    """
    if dark is None or dark.kind not in (Role.DARK, Role.DARK_FLAT):
        return False
    bias = _bias_level(dark.facts, candidates)
    if bias is None:
        bias = _bias_level(replace(dark.facts, gain=None, offset=None), candidates)
    return bias_taken_off(dark.level_adu, bias)


def dark_current(dark: Candidate | None, candidates: Sequence[Candidate]) -> float:
    """Return the level that a dark has beyond its bias [ADU]; 0 where that is unknown."""
    if dark is None or dark.level_adu is None:
        return 0.0
    bias = _bias_level(dark.facts, candidates)
    if bias is None:
        return 0.0
    return dark.level_adu if bias_taken_off(dark.level_adu, bias) else dark.level_adu - bias


def bias_is_unsafe(wanted: ExposureFacts, candidates: Sequence[Candidate]) -> str:
    """Return why a bias must not be used with this sensor, or an empty text.

    Some sensors change their level with the mode of short exposures: their darks lie below their bias, so a
    bias is no part of a dark. Neither may it then be taken off flats, nor a dark be scaled. A dark whose bias
    was taken off before lies far below too, and says nothing of the sensor.
    """
    bias = _bias_level(wanted, candidates)
    darks = [c.level_adu for c in _alike(wanted, candidates, Role.DARK) if not bias_taken_off(c.level_adu, bias)]
    dark = max((level for level in darks if level is not None), default=None)
    # Levels of whole numbers and a drift from set to set make up to 2 ADU; a dark adds to the bias, never takes.
    if bias is None or dark is None or dark >= bias - 3.0:
        return ""
    return f"the darks lie {bias - dark:.0f} ADU below the bias"
