"""Camera settings that differ between lights and calibration frames, with the level difference as evidence."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from statistics import median

from ulvar.engine import true_minus
from ulvar.frames import Group, Role
from ulvar.inspection.findings import Finding, Mend, notice
from ulvar.inspection.pixels import PixelLook

_CALIBRATION = (Role.BIAS, Role.DARK, Role.DARK_FLAT, Role.FLAT)


def _level(groups: Sequence[Group], looks: Mapping[str, PixelLook]) -> float | None:
    levels = [looks[f].level_adu for g in groups for f in g.files if f in looks and looks[f].finite]
    return median(levels) if levels else None


def _evidence(group: Group, others: Sequence[Group], looks: Mapping[str, PixelLook]) -> tuple[str, dict[str, float]]:
    """Return a sentence on how far the levels lie apart, and the numbers behind it.

    The frames are held against those of the same role and exposure with the lights' setting, else against the
    darkest pixels of the lights.
    """
    mine = _level([group], looks)
    if mine is None:
        return "", {}
    same = [g for g in others if g.role is group.role and g.exposure_s == group.exposure_s]
    theirs = _level(same, looks)
    if theirs is not None:
        return true_minus(f" Their level is {mine - theirs:+.0f} ADU from like frames with the lights' setting."), {
            "level_adu": mine, "other_level_adu": theirs,
        }  # fmt: skip
    lights = [looks[f].low_adu for g in others if g.role is Role.LIGHT for f in g.files if f in looks]
    if group.role is Role.FLAT or not lights:
        return f" Their level is {mine:.0f} ADU.", {"level_adu": mine}
    darkest = median(lights)
    return f" Their level is {mine:.0f} ADU, the darkest pixels of the lights are at {darkest:.0f} ADU.", {
        "level_adu": mine, "darkest_light_adu": darkest,
    }  # fmt: skip


def setting_findings(groups: Sequence[Group], looks: Mapping[str, PixelLook]) -> list[Finding]:
    """Return calibration sets whose gain, offset, capture software or driver no light has.

    Parameters
    ----------
    groups : sequence of Group
    looks : mapping of str to PixelLook
        Path to what its pixels show; may be empty, the findings then come without levels.
    """
    lights = [g for g in groups if g.role is Role.LIGHT]
    found: list[Finding] = []
    for name in ("gain", "offset"):
        wanted = {getattr(g, name) for g in lights if getattr(g, name) is not None}
        if not wanted:
            continue
        for group in groups:
            value = getattr(group, name)
            if group.role not in _CALIBRATION or value is None or value in wanted:
                continue
            label = f"{group.filter} {group.role.plural.lower()}" if group.filter else group.role.plural
            told = ", ".join(f"{w:g}" for w in sorted(wanted))
            like = [g for g in groups if getattr(g, name) in wanted]
            text, numbers = _evidence(group, like, looks)
            found.append(
                notice(
                    f"{group.role.value}_{name}",
                    f"{label} have {name} {value:g}",
                    f"The lights have {name} {told}; {group.count} frames of {name} {value:g} do not fit them.{text}",
                    group.files,
                    {"value": value, "wanted": sorted(wanted), **numbers},
                    Mend.leave_out(group.files),
                )  # fmt: skip
            )
    return found + _other_software(groups, lights, looks)


def _other_software(
    groups: Sequence[Group], lights: Sequence[Group], looks: Mapping[str, PixelLook]
) -> list[Finding]:  # fmt: skip
    """Another program or driver may set the offset otherwise though the header says the same number."""
    found: list[Finding] = []
    for name, word in (("software", "capture program"), ("driver", "driver")):
        wanted = {getattr(f, name) for g in lights for f in g.members} - {""}
        if not wanted:
            continue
        for group in groups:
            other = [f for f in group.members if getattr(f, name) and getattr(f, name) not in wanted]
            if group.role not in _CALIBRATION or group.is_master or not other:
                continue
            like = [g for g in groups if g is not group]
            text, numbers = _evidence(group, like, looks)
            told = ", ".join(sorted(wanted))
            label = f"{group.filter} {group.role.plural.lower()}" if group.filter else group.role.plural
            found.append(
                notice(
                    f"other_{name}",
                    f"{label} come from another {word}",
                    f"{len(other)} by {getattr(other[0], name)}, the lights by {told}: the offset may differ.{text}",
                    tuple(f.path for f in other),
                    numbers,
                )  # fmt: skip
            )
    return found
