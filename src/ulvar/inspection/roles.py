"""Roles against pixels: a dark with stars, a flat that saw no light, a light that shows no star."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from statistics import median

from ulvar.engine import counted
from ulvar.frames import ExposureFacts, Group, Role
from ulvar.inspection.depth import camera_key
from ulvar.inspection.findings import Finding, Mend, Severity, notice
from ulvar.inspection.pixels import PixelLook

_FULL_RANGE = 65535.0


def names_of(files: Sequence[str]) -> str:
    """Return the first file's name, and how many more there are."""
    first = files[0].rpartition("/")[2]
    return first if len(files) == 1 else f"{first} and {len(files) - 1} more"


def zero_levels(exposures: Iterable[ExposureFacts], looks: Mapping[str, PixelLook]) -> dict[str, float]:
    """Return, per camera setting, the level without light [ADU]: the lowest typical level of bias and dark frames."""
    levels: dict[str, dict[Role, list[float]]] = {}
    for facts in exposures:
        look = looks.get(facts.path)
        if look is None or facts.is_master or not look.finite or look.stars > 5:
            continue
        if facts.role in (Role.BIAS, Role.DARK, Role.DARK_FLAT):
            levels.setdefault(camera_key(facts), {}).setdefault(facts.role, []).append(look.level_adu)
    return {key: min(median(v) for v in kinds.values()) for key, kinds in levels.items()}


def role_findings(groups: Sequence[Group], looks: Mapping[str, PixelLook]) -> list[Finding]:
    """Return contradictions between what exposures are called and what their pixels show.

    Parameters
    ----------
    groups : sequence of Group
    looks : mapping of str to PixelLook
        Path to look; exposures without one are passed over.

    Returns
    -------
    list of Finding
        Codes ``dark_has_stars``, ``bias_exposed``, ``flat_no_light``, ``flat_too_bright``, ``light_no_stars``,
        ``constant`` and ``no_pixels``; each names its files and offers the role that fits.
    """
    exposures = [f for g in groups for f in g.members if not f.is_master]
    zero = zero_levels(exposures, looks)
    found: list[Finding] = []
    for group in groups:
        if group.is_master:
            continue
        seen = [(f, looks[f.path]) for f in group.members if f.path in looks]
        found += _empty(seen)
        seen = [(f, look) for f, look in seen if look.finite and not look.constant]
        if group.role in (Role.DARK, Role.BIAS, Role.DARK_FLAT):
            found += _stars_in_darks(group, seen)
        if group.role is Role.BIAS:
            found += _exposed_bias(group)
        if group.role is Role.FLAT:
            found += _flats(group, seen, zero)
        if group.role is Role.LIGHT:
            found += _dark_lights(group, seen, zero)
    return found


def _empty(seen: Sequence[tuple[ExposureFacts, PixelLook]]) -> list[Finding]:
    found = []
    for code, title, text, files in (
        (
            "no_pixels",
            "No pixel has a value",
            "every pixel is blank or not a number",
            tuple(f.path for f, look in seen if look.finite == 0.0),
        ),
        (
            "constant",
            "All pixels are alike",
            "every pixel has the same value: nothing was recorded",
            tuple(f.path for f, look in seen if look.finite and look.constant),
        ),
    ):
        if files:
            found.append(notice(code, title, f"{names_of(files)}: {text}.", files, mend=Mend.leave_out(files)))
    return found


def _stars_in_darks(group: Group, seen: Sequence[tuple[ExposureFacts, PixelLook]]) -> list[Finding]:
    starry = [(f, look) for f, look in seen if look.stars >= 6]
    if not starry:
        return []
    files = tuple(f.path for f, _ in starry)
    word = group.role.plural.lower()
    counts = [look.stars for _, look in starry]
    return [
        notice(
            "dark_has_stars",
            f"{len(files)} {word} show stars" if len(files) > 1 else f"One of the {word} shows stars",
            f"{names_of(files)}: about {median(counts):.0f} stars in a strip across the middle, where "
            f"{'a bias' if group.role is Role.BIAS else 'a dark'} has none. Were they taken with the shutter open?",
            files,
            {"stars": median(counts)},
            Mend.make(Role.LIGHT, files),
        )
    ]


def _exposed_bias(group: Group) -> list[Finding]:
    # Some cameras cannot go to zero; a hundredth of a second is as good.
    if group.exposure_s is None or group.exposure_s <= 0.5:
        return []
    return [
        notice(
            "bias_exposed",
            f"{counted(group.count, 'bias frame', 'was', 'were')} exposed {group.exposure_s:g} s",
            "A bias has the shortest exposure that the camera can do; these hold dark current and are darks.",
            group.files,
            {"exposure_s": group.exposure_s},
            Mend.make(Role.DARK, group.files),
        )
    ]


def _flats(group: Group, seen: Sequence[tuple[ExposureFacts, PixelLook]], zero: Mapping[str, float]) -> list[Finding]:
    found = []
    unlit, bright = [], []
    for facts, look in seen:
        ground = zero.get(camera_key(facts), 0.0)
        full = facts.saturation_adu or _FULL_RANGE
        # Two hundredths of the range above the level without light: a cap was on, or the lamp was off.
        if look.level_adu - ground < 0.02 * full and (zero or look.level_adu < 0.02 * full):
            unlit.append((facts.path, look.level_adu, ground))
        elif look.high_adu > 0.92 * full:
            bright.append((facts.path, look.high_adu, full))
    label = f"{group.filter} flats".strip()
    if unlit:
        files = tuple(p for p, _, _ in unlit)
        found.append(
            notice(
                "flat_no_light",
                f"{len(files)} {label} saw no light",
                f"{names_of(files)}: level {median(v for _, v, _ in unlit):.0f} ADU, and {unlit[0][2]:.0f} ADU is the level "
                "without light. Was the cap on?",
                files,
                {"level_adu": unlit[0][1]},
                Mend.leave_out(files),
            )
        )
    if bright:
        files = tuple(p for p, _, _ in bright)
        found.append(
            notice(
                "flat_too_bright",
                f"{len(files)} {label} are too bright",
                f"{names_of(files)}: the bright part is at {median(v for _, v, _ in bright):.0f} ADU of {bright[0][2]:.0f}; "
                "near saturation a sensor is not linear, and the flat would be too flat.",
                files,
                {"level_adu": bright[0][1]},
                Mend.leave_out(files),
            )
        )
    return found


def _dark_lights(
    group: Group, seen: Sequence[tuple[ExposureFacts, PixelLook]], zero: Mapping[str, float]
) -> list[Finding]:
    if not seen:
        return []
    usual = median(look.stars for _, look in seen)
    capped, blind = [], []
    for facts, look in seen:
        if look.stars > 1:
            continue
        ground = zero.get(camera_key(facts))
        # Levels are medians of many pixels: far better known than the noise of one.
        near = ground is not None and look.level_adu - ground < (2.0 if usual >= 8 else 0.5) * look.noise_adu
        if near:
            capped.append(facts.path)
        elif usual >= 8:
            blind.append(facts.path)
    found = []
    if capped:
        found.append(
            notice(
                "light_is_dark",
                f"{counted(len(capped), 'light', 'shows', 'show')} neither sky nor stars",
                f"{names_of(capped)}: no star, and the level is that of the darks. Are they darks?",
                tuple(capped),
                {},
                Mend.make(Role.DARK, capped),
                severity=Severity.BLOCKS if usual >= 8 else Severity.CHECK,
            )
        )
    if blind:
        found.append(
            notice(
                "light_no_stars",
                f"{counted(len(blind), 'light', 'shows', 'show')} no stars",
                f"{names_of(blind)}: no star in a strip where the others of their group have {usual:.0f}: cloud, or not "
                "a light.",
                tuple(blind),
                {},
                Mend.leave_out(blind),
            )
        )
    return found
