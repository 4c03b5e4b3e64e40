"""The true full range of a camera, from the values its pixels take."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from ulvar.engine import counted
from ulvar.frames import ExposureFacts
from ulvar.inspection.findings import Finding, notice
from ulvar.inspection.pixels import PixelLook

# A pile of this many pixels at one value is a ceiling, not the brightest star.
_PILE = 30


@dataclass(frozen=True)
class Ceiling:
    """The level at which a camera's pixels saturate, and how it shows.

    Attributes
    ----------
    saturation_adu : float
    bits : int
        Bits that the converter delivers; 16 when nothing says fewer.
    step_adu : int
        Distance between neighbouring values [ADU].
    """

    saturation_adu: float
    bits: int
    step_adu: int


def camera_key(facts: ExposureFacts) -> str:
    """Return what exposures of one full range share: camera, gain, readout mode, binning."""
    gain = "" if facts.gain is None else f"{facts.gain:g}"
    return "|".join((facts.camera, gain, facts.readout_mode, str(facts.binning)))


def find_ceiling(looks: Sequence[PixelLook]) -> Ceiling | None:
    """Return the full range that looks at raw exposures of one camera setting show, or None when nothing does.

    Two signs are used: all values are multiples of a power of two (a 12- or 14-bit converter whose values were
    shifted up into 16 bits), or many pixels pile up at one highest value.
    """
    usable = [look for look in looks if look.step_adu > 0 and not look.constant]
    if not usable:
        return None
    steps = {look.step_adu for look in usable}
    step = min(steps)
    together = all(s % step == 0 for s in steps)
    shifted = together and step in (2, 4, 8, 16, 32, 64) and all(look.maximum_adu % step == 0 for look in usable)
    if shifted:
        bits = 16 - step.bit_length() + 1
        return Ceiling(float((2**bits - 1) * step), bits, step)
    top = max(look.maximum_adu for look in usable)
    piled = sum(look.at_maximum for look in usable if look.maximum_adu == top)
    if piled < _PILE:
        return None
    bits = next((b for b in (10, 12, 14, 16) if top <= 2**b - 1), 16)
    return Ceiling(top, bits, 1)


def find_ceilings(exposures: Iterable[ExposureFacts], looks: Mapping[str, PixelLook]) -> dict[str, Ceiling]:
    """Return the full range of each camera setting (see `camera_key`) for which the pixels tell one."""
    by_camera: dict[str, list[PixelLook]] = {}
    for facts in exposures:
        if facts.path in looks and not facts.is_master and facts.bitpix in (16, 20):
            by_camera.setdefault(camera_key(facts), []).append(looks[facts.path])
    found = {key: find_ceiling(members) for key, members in by_camera.items()}
    return {key: ceiling for key, ceiling in found.items() if ceiling is not None}


def with_ceilings(exposures: Iterable[ExposureFacts], ceilings: Mapping[str, Ceiling]) -> list[ExposureFacts]:
    """Return exposures with the measured saturation where the header knows none or names a higher one.

    What the user gave stays.
    """
    result = []
    for facts in exposures:
        ceiling = ceilings.get(camera_key(facts))
        known = facts.saturation_adu
        theirs = facts.origins.get("saturation_adu") == "user"
        # A header that names a lower level may mean the end of the linear range; it is kept.
        if ceiling is not None and not theirs and (known is None or ceiling.saturation_adu < known):
            origins = {**facts.origins, "saturation_adu": "measured"}
            facts = replace(facts, saturation_adu=ceiling.saturation_adu, origins=origins)
        result.append(facts)
    return result


def depth_findings(
    exposures: Sequence[ExposureFacts], ceilings: Mapping[str, Ceiling], looks: Mapping[str, PixelLook]
) -> list[Finding]:
    """Return a word on each camera setting that delivers fewer than 16 bits, and on mixed depths.

    Parameters
    ----------
    exposures : sequence of ExposureFacts
        With the saturation that their headers tell.
    """
    found: list[Finding] = []
    for key, ceiling in ceilings.items():
        members = [f for f in exposures if camera_key(f) == key]
        said = {f.saturation_adu for f in members if f.origins.get("saturation_adu") != "user"}
        if ceiling.bits == 16 or not members:
            continue
        header = next((f"the header says {s:.0f}" for s in said if s is not None), "the header does not say")
        how = (
            f"values come in steps of {ceiling.step_adu}"
            if ceiling.step_adu > 1
            else f"pixels pile up at {ceiling.saturation_adu:.0f}"
        )
        found.append(
            notice(
                "bit_depth",
                f"{members[0].camera or 'The camera'} delivers {ceiling.bits} bits",
                f"In 16-bit files {how}: pixels saturate at {ceiling.saturation_adu:.0f} ADU; {header}.",
                tuple(f.path for f in members),
                {"saturation_adu": ceiling.saturation_adu, "step": ceiling.step_adu},
            )
        )
    return found + _mixed_depth(exposures, looks)


def _mixed_depth(exposures: Sequence[ExposureFacts], looks: Mapping[str, PixelLook]) -> list[Finding]:
    """Files of one camera setting some of which are shifted up to 16 bits and some are not."""
    by_camera: dict[str, dict[int, list[str]]] = {}
    for facts in exposures:
        look = looks.get(facts.path)
        if look is None or facts.is_master or look.step_adu <= 0 or look.constant:
            continue
        # Among many values chance makes a common step of 2 once in a while, one of 4 and more never.
        step = look.step_adu if look.step_adu in (4, 8, 16, 32, 64) else 1
        by_camera.setdefault(camera_key(facts), {}).setdefault(step, []).append(facts.path)
    found = []
    for steps in by_camera.values():
        if len(steps) < 2:
            continue
        # Of as many the coarser ones, in whatever order they come.
        fewest = min(steps, key=lambda s: (len(steps[s]), -s))
        rest = sum(len(v) for s, v in steps.items() if s != fewest)
        files = tuple(steps[fewest])
        found.append(
            notice(
                "mixed_depth",
                f"{counted(len(files), 'file', 'has', 'have')} another bit depth",
                f"Their values come in steps of {fewest}, those of {rest} others of the same camera in steps of "
                f"{', '.join(str(s) for s in sorted(steps) if s != fewest)}: their levels do not fit each other.",
                files,
                {"step": fewest},
            )
        )
    return found
