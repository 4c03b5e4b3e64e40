"""Findings from a series of exposures: cloud, focus, trailing, jumps, flips."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import numpy as np

from ulvar.engine import F64Array, counted, percent, true_minus
from ulvar.inspection.findings import Finding, Mend, notice


@dataclass(frozen=True)
class ExposureSummary:
    """What the judgements look at; NaN where unknown.

    Attributes
    ----------
    file : str
    mid_utc : datetime or None
    fwhm_px, ellipticity, sky_adu : float
    transparency : float
        Star brightness relative to the best exposures, 1 for clear.
    shift_px : (float, float)
        Where the reference's middle falls, relative to the reference, with a flip taken out [px].
    rotation_deg : float
        Rotation against the reference [deg].
    rejected_high : float
        Fraction of its pixels that stacking rejected as too bright.
    trails : int
        Trails of satellites and aeroplanes that were found in it.
    airmass, sun_altitude_deg : float
    """

    file: str
    mid_utc: datetime | None
    fwhm_px: float = math.nan
    ellipticity: float = math.nan
    sky_adu: float = math.nan
    transparency: float = math.nan
    shift_px: tuple[float, float] = (math.nan, math.nan)
    rotation_deg: float = math.nan
    rejected_high: float = math.nan
    trails: int = 0
    airmass: float = math.nan
    sun_altitude_deg: float = math.nan


# Stars that are wider than before by less than this share have not risen, whatever they should have done.
_RISEN = 0.1


def _clock(moment: datetime | None) -> str:
    return moment.strftime("%H:%M") if moment is not None else "an unknown time"


def _spans(bad: np.ndarray, gap: int = 1) -> list[tuple[int, int]]:
    """Return (first, last) indices of runs of True, joined over gaps of up to `gap`."""
    runs: list[tuple[int, int]] = []
    for i in np.flatnonzero(bad):
        if runs and i - runs[-1][1] <= gap + 1:
            runs[-1] = (runs[-1][0], int(i))
        else:
            runs.append((int(i), int(i)))
    return runs


def _column(series: Sequence[ExposureSummary], name: str) -> F64Array:
    return np.array([getattr(entry, name) for entry in series], dtype=float)


def series_findings(exposures: Sequence[ExposureSummary]) -> list[Finding]:
    """Return the troubles of one filter's series, in the order of time within a kind.

    Thresholds are in units of the series' own scatter with a floor that matters to photometry, so a steady
    night raises nothing; what changes with airmass is taken off first.
    """
    timed = sorted(exposures, key=lambda e: (e.mid_utc is None, e.mid_utc.timestamp() if e.mid_utc else 0, e.file))
    if len(timed) < 4:
        return []
    return [
        *_cloud(timed), *_focus(timed), *_trailing(timed), *_flip_and_jump(timed), *_dawn(timed), *_trail(timed),
        *_outliers(timed),
    ]  # fmt: skip


def _clear_level(series: Sequence[ExposureSummary], transparency: F64Array) -> F64Array:
    """Transparency that each exposure would have under a clear sky: a line through the clear ones over airmass.

    log T = a - k X with k of 0 to 0.5 mag; the line is drawn through the upper part of the points, for a cloud only
    takes light. Without airmass it is one level for all.
    """
    airmass = _column(series, "airmass")
    log = np.log(np.maximum(transparency, 1e-6))
    use = np.isfinite(log) & np.isfinite(airmass)
    if use.sum() < 8 or float(np.ptp(airmass[use])) < 0.15:
        return np.full(len(series), float(np.nanpercentile(transparency, 80)))
    keep = use.copy()
    slope, level = 0.0, float(np.percentile(log[use], 80))
    for _ in range(12):
        slope, level = np.polyfit(airmass[keep], log[keep], 1) if keep.sum() > 3 else (slope, level)
        slope = min(max(float(slope), -0.46), 0.0)
        level = float(np.median((log - slope * airmass)[keep]))
        left = log - slope * airmass - level
        spread = max(1.4826 * float(np.median(np.abs(left[keep]))), 0.005)
        new = use & (left > -2.0 * spread) & (left < 4.0 * spread)
        if (new == keep).all():
            break
        keep = new
    filled = np.where(np.isfinite(airmass), airmass, float(np.median(airmass[use])))
    return np.exp(level + slope * filled)


def _cloud(series: Sequence[ExposureSummary]) -> list[Finding]:
    transparency = _column(series, "transparency")
    if np.isfinite(transparency).sum() < 4:
        return []
    relative = transparency / np.maximum(_clear_level(series, transparency), 1e-9)
    clear = relative[np.isfinite(relative) & (relative > 0.85)]
    spread = 1.4826 * float(np.median(np.abs(clear - np.median(clear)))) if len(clear) > 3 else 0.02
    limit = min(0.92, 1 - 5 * max(spread, 0.01))
    found = []
    for first, last in _spans(np.nan_to_num(relative, nan=1.0) < limit):
        members = [series[i] for i in range(first, last + 1) if relative[i] < limit]
        loss = 1 - float(np.nanmin(relative[first : last + 1]))
        files = tuple(e.file for e in members)
        begins, ends = _clock(members[0].mid_utc), _clock(members[-1].mid_utc)
        one = len(members) == 1
        found.append(
            notice(
                "cloud",
                f"Cloud at {begins}" if begins == ends else f"Cloud {begins}–{ends}",
                f"One exposure loses {percent(loss)} of its light."
                if one
                else f"{len(members)} exposures lose up to {percent(loss)} of their light.",
                files,
                {"series": [round(float(v), 3) for v in relative], "loss": loss},
                Mend.leave_out(files),
            )  # fmt: skip
        )
    return found


def _focus(series: Sequence[ExposureSummary]) -> list[Finding]:
    measured = _column(series, "fwhm_px")
    airmass = _column(series, "airmass")
    # Seeing grows with airmass to the power of 0.6 (Fried 1966, J. Opt. Soc. Am. 56, 1372); that is no focus.
    fwhm = measured / np.where(np.isfinite(airmass), np.clip(airmass, 1.0, 5.0), 1.0) ** 0.6
    round_ones = _column(series, "ellipticity") < 0.3
    usable = np.isfinite(fwhm) & round_ones
    if usable.sum() < 6:
        return []
    best = float(np.percentile(fwhm[usable], 25))
    # Seeing jumps from exposure to exposure, focus does not: its scatter is that between neighbours.
    steps = np.diff(fwhm[usable])
    spread = 1.4826 * float(np.median(np.abs(steps - np.median(steps)))) / math.sqrt(2)
    limit = best + max(0.2 * best, 5 * min(spread, 0.05 * best))
    before = float(np.percentile(measured[usable], 25))
    # Where the air alone should have made stars wider and did not, nothing has risen.
    wide = usable & (fwhm > limit) & (measured > (1 + _RISEN) * before)
    found = []
    for first, last in _spans(wide, gap=1):
        here = [i for i in range(first, last + 1) if wide[i]]
        if len(here) < 3:
            continue
        members = [series[i] for i in here]
        top = float(max(measured[i] for i in here))
        after = fwhm[last + 1 : last + 3]
        refocused = after.size > 0 and bool(np.nanmedian(after) < 0.8 * fwhm[last])
        files = tuple(e.file for e in members)
        found.append(
            notice(
                "focus",
                f"Focus drifted to {_clock(members[-1].mid_utc)}",
                f"FWHM rose from {before:.1f} to {top:.1f} px from {_clock(members[0].mid_utc)} on"
                f"{', then refocused' if refocused else ''}.",
                files,
                {"series": [round(float(v), 3) for v in measured]},
                Mend.leave_out(files),
            )  # fmt: skip
        )
    return found


def _dawn(series: Sequence[ExposureSummary]) -> list[Finding]:
    """Exposures in twilight whose sky is much brighter than the night's."""
    sky, sun = _column(series, "sky_adu"), _column(series, "sun_altitude_deg")
    if np.isfinite(sky).sum() < 4:
        return []
    dark = np.isfinite(sky) & ~(sun > -18)
    usual = float(np.median(sky[dark])) if dark.sum() >= 3 else float(np.nanmedian(sky))
    spread = 1.4826 * float(np.median(np.abs(sky[dark] - usual))) if dark.sum() >= 3 else 0.0
    bright = np.nan_to_num(sky, nan=0.0) > usual + max(0.5 * abs(usual), 6 * spread)
    bright &= sun > -18
    found = []
    for first, last in _spans(bright, gap=2):
        members = [series[i] for i in range(first, last + 1) if bright[i]]
        word = "Dawn" if last >= len(series) / 2 else "Dusk"
        span = f"from {_clock(members[0].mid_utc)}" if word == "Dawn" else f"until {_clock(members[-1].mid_utc)}"
        files = tuple(e.file for e in members)
        top = float(np.nanmax(sky[first : last + 1])) / max(usual, 1e-9)
        of = "one exposure" if len(files) == 1 else f"{len(files)} exposures"
        found.append(
            notice(
                "dawn",
                f"{word} {span}",
                true_minus(
                    f"The sky of {of} is up to {top:.1f} times as bright as the night's; the Sun is "
                    f"{max(sun[first : last + 1]):.0f}° high."
                ),
                files,
                {"series": [round(float(v), 1) for v in sky]},
                Mend.leave_out(files),
            )  # fmt: skip
        )
    return found


def _trailing(series: Sequence[ExposureSummary]) -> list[Finding]:
    ellipticity = _column(series, "ellipticity")
    typical = float(np.nanmedian(ellipticity)) if np.isfinite(ellipticity).any() else math.nan
    long = np.flatnonzero(np.nan_to_num(ellipticity, nan=0.0) > max(0.25, typical + 0.15))
    if not len(long) or len(long) > len(series) / 2:
        return []
    files = tuple(series[int(i)].file for i in long)
    worst = int(long[np.argmax(ellipticity[long])])
    return [
        notice(
            "trailing",
            f"{counted(len(files), 'exposure')} with long stars",
            f"{Path(series[worst].file).name} at {_clock(series[worst].mid_utc)} has ellipticity "
            f"{ellipticity[worst]:.2f}; {typical:.2f} is usual.",
            files,
            {"series": [round(float(v), 3) for v in ellipticity]},
            Mend.leave_out(files),
        )  # fmt: skip
    ]


def _flip_and_jump(series: Sequence[ExposureSummary]) -> list[Finding]:
    found = []
    rotation = _column(series, "rotation_deg")
    shift = np.array([entry.shift_px for entry in series], dtype=float)
    known = np.flatnonzero(np.isfinite(rotation) & np.isfinite(shift).all(axis=1))
    if len(known) < 4:
        return []
    steps = np.diff(shift[known], axis=0)
    turned = np.abs((np.diff(rotation[known]) + 180) % 360 - 180) > 90
    length = np.hypot(steps[:, 0], steps[:, 1])
    usual = float(np.median(length[~turned])) if (~turned).any() else 0.0
    for k, index in enumerate(known[1:]):
        entry = series[index]
        if turned[k]:
            found.append(
                notice(
                    "flip",
                    f"Meridian flip before {_clock(entry.mid_utc)}",
                    f"From {Path(entry.file).name} on the field is turned by 180 degrees; alignment follows it.",
                    (entry.file,),
                )  # fmt: skip
            )
        elif length[k] > max(8 * usual, 12.0):
            found.append(
                notice(
                    "jump",
                    f"The field jumped at {_clock(entry.mid_utc)}",
                    f"It moved by {length[k]:.0f} px before {Path(entry.file).name}; {usual:.1f} px is usual.",
                    (entry.file,),
                    {"shift_px": float(length[k])},
                )  # fmt: skip
            )
    return found


def _trail(series: Sequence[ExposureSummary]) -> list[Finding]:
    seen = [e for e in series if e.trails > 0]
    found = []
    if seen:
        moments = [_clock(e.mid_utc) for e in seen]
        files = tuple(e.file for e in seen)
        one = len(files) == 1
        found.append(
            notice(
                "trail",
                f"Trail in {Path(files[0]).stem}" if one else f"Trails in {len(files)} exposures",
                "A satellite or aeroplane crossed the field"
                + (
                    f" at {', '.join(moments)}."
                    if len(seen) <= 4
                    else f", first at {moments[0]}, last at {moments[-1]}."
                )
                + " Stars on it are not trusted; rejection takes it out of the stack.",
                files,
            )  # fmt: skip
        )
    return found


def _outliers(series: Sequence[ExposureSummary]) -> list[Finding]:
    """Exposures of which stacking rejected far more than usual, where nothing else that is told explains it."""
    rejected, fwhm, sky = (_column(series, name) for name in ("rejected_high", "fwhm_px", "sky_adu"))
    if np.isfinite(rejected).sum() < 5:
        return []
    typical = float(np.nanmedian(rejected))
    spread = 1.4826 * float(np.nanmedian(np.abs(rejected - typical)))
    usual_sky = float(np.nanmedian(sky)) if np.isfinite(sky).any() else math.nan
    usual_fwhm = float(np.nanmedian(fwhm)) if np.isfinite(fwhm).any() else math.nan
    much = np.nan_to_num(rejected, nan=0.0) > typical + max(8 * spread, 1.5e-3)
    # Long or wide stars and a bright, uneven sky are rejected too, as trails are, and have findings of their own.
    told = (
        (_column(series, "ellipticity") > 0.3) | (fwhm > 1.2 * usual_fwhm) | (sky > 1.4 * usual_sky)
        | (_column(series, "trails") > 0)
    )  # fmt: skip
    members = [series[int(i)] for i in np.flatnonzero(much & ~told)]
    if not members:
        return []
    files = tuple(e.file for e in members)
    most = max(e.rejected_high for e in members)
    one = len(members) == 1
    return [
        notice(
            "outliers",
            f"Outliers in {Path(files[0]).stem}" if one else f"Outliers in {len(files)} exposures",
            f"Stacking rejected {'' if one else 'up to '}{percent(most, 2)} of {'it' if one else 'them'}, "
            f"{percent(typical, 2)} is usual. No trail was found: look at {'it' if one else 'them'}.",
            files,
        )  # fmt: skip
    ]
