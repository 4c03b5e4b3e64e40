"""Findings from headers alone: what cannot be read, what does not fit, what is missing."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

from ulvar.calibration import Fit, Match
from ulvar.engine import Failed, counted, true_minus
from ulvar.frames import Group, Role, Tolerances, file_of
from ulvar.inspection.agreement import setting_findings
from ulvar.inspection.findings import Finding, Mend, notice
from ulvar.inspection.pixels import PixelLook
from ulvar.inspection.roles import names_of, role_findings


def intake_findings(
    groups: Sequence[Group],
    failed: Iterable[Failed],
    tolerances: Tolerances | None = None,
    looks: Mapping[str, PixelLook] | None = None,
) -> list[Finding]:
    """Return what intake notices in groups, unreadable files and, where pixels were looked at, in those.

    Parameters
    ----------
    groups : sequence of Group
    failed : iterable of Failed
        Files that could not be read.
    tolerances : Tolerances, optional
    looks : mapping of str to PixelLook, optional
        Path to what its pixels show.
    """
    limits = tolerances or Tolerances()
    seen = looks or {}
    found: list[Finding] = []
    for failure in failed:
        short = "cut short" in failure.reason
        found.append(
            notice(
                "truncated" if short else "unreadable",
                "One file is cut short" if short else "A file cannot be read",
                f"{Path(failure.file).name}: {failure.reason}.",
                (failure.file,),
            )  # fmt: skip
        )
    unsure = [f for g in groups if g.role is Role.UNKNOWN for f in g.files]
    if unsure:
        found.append(
            notice(
                "role_unknown",
                f"{counted(len(unsure), 'file', 'has', 'have')} no role",
                f"Neither header nor name says what {names_of(unsure)} is for; give it a role.",
                tuple(unsure),
            )  # fmt: skip
        )
    found += setting_findings(groups, seen)
    found += _temperature_mismatch(groups, limits)
    found += _mixed_exposures(groups, limits)
    found += _missing_facts(groups)
    found += _clocks_and_planes(groups)
    found += role_findings(groups, seen)
    return found


def _lights(groups: Sequence[Group]) -> list[Group]:
    return [group for group in groups if group.role is Role.LIGHT]


def _temperature_mismatch(groups: Sequence[Group], limits: Tolerances) -> list[Finding]:
    found: list[Finding] = []
    wanted = [g.temperature_c for g in _lights(groups) if g.temperature_c is not None]
    if not wanted:
        return found
    for group in groups:
        if group.role is not Role.DARK or group.temperature_c is None:
            continue
        off = min((group.temperature_c - w for w in wanted), key=abs)
        if abs(off) > limits.temperature_c:
            word = "warm" if off > 0 else "cold"
            exposure = f"{group.exposure_s:g} s " if group.exposure_s is not None else ""
            found.append(
                notice(
                    "dark_temperature",
                    f"{counted(group.count, 'dark', 'is', 'are')} {abs(off):.1f} °C too {word}",
                    true_minus(
                        f"{exposure}at {group.temperature_c:.0f} °C; the nearest lights are at "
                        f"{group.temperature_c - off:.0f} °C."
                    ),
                    group.files,
                    {"off_c": off},
                    Mend.leave_out(group.files),
                )  # fmt: skip
            )
    return found


def _mixed_exposures(groups: Sequence[Group], limits: Tolerances) -> list[Finding]:
    """A few darks of another exposure among many in one folder, which no light and no flat asks for."""
    wanted = [g.exposure_s for g in groups if g.role in (Role.LIGHT, Role.FLAT)]
    folders: dict[tuple[str, Role], dict[float | None, list[str]]] = {}
    for group in groups:
        if group.role in (Role.DARK, Role.DARK_FLAT, Role.BIAS) and not group.is_master:
            for facts in group.members:
                place = folders.setdefault((str(Path(file_of(facts.path)).parent), group.role), {})
                place.setdefault(group.exposure_s, []).append(facts.path)
    found = []
    for (folder, role), sets in folders.items():
        most = max(len(files) for files in sets.values())
        for exposure, files in sets.items():
            asked = any(limits.same_exposure(exposure, w) for w in wanted)
            if asked or exposure is None or len(files) > most / 4:
                continue
            found.append(
                notice(
                    "mixed_exposures",
                    f"{len(files)} of another exposure among {role.plural.lower()}",
                    f"{names_of(files)} in {Path(folder).name} last {exposure:g} s, {most} others do not; no light "
                    "needs them.",
                    tuple(files),
                    mend=Mend.leave_out(files),
                )  # fmt: skip
            )
    return found


def _clocks_and_planes(groups: Sequence[Group]) -> list[Finding]:
    members = [f for g in groups for f in g.members]
    found = []
    guessed = tuple(f.path for f in members if f.origins.get("start_utc") == "guessed")
    if guessed:
        found.append(
            notice(
                "clock_assumed",
                "The camera's clock is taken for UTC",
                f"Times without a zone, as in {names_of(guessed[:1])} ({counted(len(guessed), 'file')}): correct "
                "start_utc if the clock ran on local time.",
                guessed,
            )  # fmt: skip
        )
    cubes: dict[str, list[str]] = {}
    for facts in members:
        if facts.path.endswith("]"):
            cubes.setdefault(file_of(facts.path), []).append(facts.path)
    for file, planes in cubes.items():
        if len(planes) > 1:
            found.append(
                notice(
                    "several_images",
                    f"{Path(file).name} holds {len(planes)} images",
                    "Each is an exposure of its own here; the header dates the first plane of a cube only.",
                    tuple(planes),
                )  # fmt: skip
            )
    return found


def _missing_facts(groups: Sequence[Group]) -> list[Finding]:
    found: list[Finding] = []
    members = [f for g in _lights(groups) for f in g.members]
    if not members:
        return found
    no_time = [f.path for f in members if f.start_utc is None]
    if no_time:
        found.append(
            notice(
                "no_time",
                f"{counted(len(no_time), 'light', 'has', 'have')} no time",
                f"{names_of(no_time)}: no start time in the header, so there is no light curve of them.",
                tuple(no_time),
            )  # fmt: skip
        )
    no_gain = [f.path for f in members if f.gain_e_per_adu is None]
    if no_gain:
        found.append(
            notice(
                "no_egain",
                "Electrons per ADU unknown",
                f"{counted(len(no_gain), 'light', 'lacks', 'lack')} EGAIN: measurements of them will have no error bars.",
                tuple(no_gain),
            )  # fmt: skip
        )
    if all(f.site is None for f in members):
        found.append(
            notice(
                "no_site",
                "The site is unknown",
                "No latitude and longitude in the headers: there is no airmass, and times are of the Earth's centre.",
            )  # fmt: skip
        )
    quiet = [
        g for g in groups
        if g.role in (Role.BIAS, Role.DARK, Role.FLAT, Role.DARK_FLAT) and g.gain is None
        and any(light.gain is not None for light in _lights(groups))
    ]  # fmt: skip
    for group in quiet:
        found.append(
            notice(
                "gain_missing",
                f"{group.role.plural} {group.exposure_s or 0:g} s: gain unknown",
                f"{counted(group.count, 'header', 'does', 'do')} not say the gain; they are used with reserve.",
                group.files,
            )  # fmt: skip
        )
    return found


_WORDS = {Role.DARK: "dark", Role.FLAT: "flat", Role.BIAS: "bias", Role.DARK_FLAT: "dark flat"}


def match_findings(matches: Sequence[tuple[Group, Match]]) -> list[Finding]:
    """Return what the match board has to tell: what blocks, what is only near, what nobody took."""
    found: list[Finding] = []
    for group, match in matches:
        label = group.filter or "Lights"
        for choice in match.choices:
            word = _WORDS[choice.kind]
            if choice.fit is Fit.NOTHING_SAFE and choice.kind is not Role.DARK_FLAT:
                kind_code = {Role.DARK: "no_safe_dark", Role.FLAT: "no_safe_flat", Role.BIAS: "no_safe_bias"}
                found.append(
                    notice(
                        kind_code[choice.kind],
                        f"{label} lights: no safe {word}" if group.filter else f"Lights: no safe {word}",
                        f"Uncalibrated stay {counted(group.count, 'light')} of {group.exposure_s or 0:g} s: "
                        + "; ".join(dict.fromkeys(reason for _, reason in choice.refused[:4]))
                        + ".",
                        group.files,
                    )  # fmt: skip
                )
            elif choice.fit is Fit.NEAR:
                found.append(
                    notice(
                        "near_match", f"{label}: the {word} fits with reserve", f"{choice.reason}.", group.files
                    )  # fmt: skip
                )
            elif choice.fit is Fit.NONE_TAKEN and choice.kind in (Role.DARK, Role.FLAT) and match.safe:
                found.append(
                    notice(
                        f"no_{choice.kind.value}",
                        f"{label}: no {word} was taken",
                        f"{counted(group.count, 'light', 'is', 'are')} calibrated without a {word}.",
                        group.files,
                    )  # fmt: skip
                )
    return found
