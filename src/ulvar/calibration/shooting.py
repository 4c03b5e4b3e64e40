"""The shooting list: calibration frames still to be taken, and why."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ulvar.calibration.matching import Fit, Match
from ulvar.frames import Group, Role

# The noise of a master goes into every light: with 20 darks 2.5 % of the light's own, with 15 flats less yet.
_COUNTS = {Role.BIAS: 50, Role.DARK: 20, Role.FLAT: 15, Role.DARK_FLAT: 15}


@dataclass(frozen=True)
class Shot:
    """One line of the list.

    Attributes
    ----------
    kind : Role
    filter : str
        For flats.
    exposure_s : float or None
        None where it has to be found, as for flats.
    gain, offset, temperature_c : float or None
        Settings of the lights.
    binning : int
    readout_mode, camera : str
    count : int
        How many to take.
    why : str
    lights : int
        Lights that wait for them.
    """

    kind: Role
    filter: str
    exposure_s: float | None
    gain: float | None
    offset: float | None
    temperature_c: float | None
    binning: int
    readout_mode: str
    camera: str
    count: int
    why: str
    lights: int

    @property
    def minutes(self) -> float:
        """About how long they take [min]: exposure and ten seconds for reading and focus on the next."""
        each = (self.exposure_s if self.exposure_s is not None else 5.0) + (3.0 if self.kind is Role.BIAS else 5.0)
        return self.count * each / 60


def shooting_list(matches: Sequence[tuple[Group, Match]]) -> list[Shot]:
    """Return what to take for lights of which a kind has nothing safe, was never taken, or fits with reserve of age.

    Parameters
    ----------
    matches : sequence of (Group, Match)
        Groups of lights with their choices.

    Returns
    -------
    list of Shot
        Lights that need the same frames share a line; the most urgent come first: what blocks, then what is
        missing, then what is old.
    """
    lines: dict[tuple, Shot] = {}
    urgent: dict[tuple, int] = {}
    for group, match in matches:
        typical = group.typical
        for choice in match.choices:
            rank, why = _need(choice.kind, choice.fit, choice.reason, choice.pinned, match)
            if rank is None:
                continue
            kind = choice.kind
            exposure: float | None = typical.exposure_s
            if kind is Role.BIAS:
                exposure = 0.0
            elif kind is Role.FLAT:
                exposure = None
            elif kind is Role.DARK_FLAT:
                exposure = match.flat.candidate.facts.exposure_s if match.flat.candidate else None
            temperature = None if typical.sensor_temperature_c is None else round(typical.sensor_temperature_c)
            filtered = group.filter if kind is Role.FLAT else ""
            key = (
                kind, filtered, None if exposure is None else round(exposure, 3), typical.gain, typical.offset,
                temperature, typical.binning, typical.readout_mode, typical.camera,
            )  # fmt: skip
            known = lines.get(key)
            lines[key] = Shot(
                kind, filtered, exposure, typical.gain, typical.offset,
                None if temperature is None else float(temperature), typical.binning, typical.readout_mode,
                typical.camera, _COUNTS[kind], known.why if known else why,
                group.count + (known.lights if known else 0),
            )  # fmt: skip
            urgent[key] = min(rank, urgent.get(key, 9))
    return [lines[key] for key in sorted(lines, key=lambda k: (urgent[k], list(Role).index(k[0]), str(k)))]


def _need(kind: Role, fit: Fit, reason: str, pinned: bool, match: Match) -> tuple[int | None, str]:
    if pinned and fit is not Fit.NOTHING_SAFE:
        return None, ""
    if fit is Fit.NOTHING_SAFE:
        # A bias is asked for only where nothing better can take its place.
        return (None, "") if kind is Role.BIAS and match.dark.fit is Fit.NOTHING_SAFE else (0, reason)
    if fit is Fit.NONE_TAKEN and kind in (Role.DARK, Role.FLAT):
        return 1, "there are none"
    if fit is Fit.NONE_TAKEN and kind is Role.DARK_FLAT:
        return 1, "the flats have nothing to subtract"
    if fit is Fit.NEAR and kind is Role.DARK_FLAT and "bias" in reason:
        return 2, "a bias stands in for them"
    if fit is Fit.NEAR and "d old" in reason:
        return 2, reason
    if fit is Fit.NEAR and "scaled" in reason:
        return 2, f"one of another exposure is {reason}"
    return None, ""
