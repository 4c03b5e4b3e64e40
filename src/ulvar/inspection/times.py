"""What speaks against the times of lights: equal and overlapping ones, a clock that was set, the end told for the start, daylight."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import UTC, datetime
from itertools import pairwise

import numpy as np

from ulvar.engine import counted
from ulvar.frames import ExposureFacts, Role, robust_spread
from ulvar.inspection.findings import Finding, notice

# Exposures that overlap by less may be rounded [s]; the Sun is up from this altitude on [deg].
_ROUNDED_S, _DAY_DEG = 1.1, 0.0
# A clock is set when files are written later, or earlier, by more than this from some exposure on [s]; so many on either side show it.
_STEP_S, _BESIDE = 4.0, 4
# Shorter exposures tell their start and end too little apart [s].
_LONG_S = 5.0
# Files that follow each other by another step than exposures do, by this share, were copied: they say nothing of when they were written.
_WRITTEN = 0.5


def sun_altitude(moment: datetime, site: tuple[float, float, float]) -> float:
    """Return the altitude of the Sun's middle, good to 0.02 degrees and without refraction.

    Low-precision formulae of the Astronomical Almanac (section C, "Formulas for the apparent position of the Sun"): for a finding, without the
    library that better ones need.
    """
    days = (moment - datetime(2000, 1, 1, 12, tzinfo=UTC)).total_seconds() / 86400
    anomaly = math.radians(357.528 + 0.9856003 * days)
    longitude = math.radians(280.460 + 0.9856474 * days + 1.915 * math.sin(anomaly) + 0.020 * math.sin(2 * anomaly))
    tilt = math.radians(23.439 - 4e-7 * days)
    ra = math.atan2(math.cos(tilt) * math.sin(longitude), math.cos(longitude))
    dec = math.asin(math.sin(tilt) * math.sin(longitude))
    sidereal = math.radians((280.46062 + 360.98564737 * days + site[1]) % 360)
    latitude = math.radians(site[0])
    return math.degrees(
        math.asin(math.sin(latitude) * math.sin(dec) + math.cos(latitude) * math.cos(dec) * math.cos(sidereal - ra))
    )


def time_findings(exposures: Sequence[ExposureFacts]) -> list[Finding]:
    """Return what is suspicious in the times of lights, camera by camera."""
    lights = [f for f in exposures if f.role is Role.LIGHT and f.start_utc is not None and not f.is_master]
    cameras: dict[tuple[str, int, int], list[ExposureFacts]] = {}
    for facts in lights:
        cameras.setdefault((facts.camera, facts.width, facts.height), []).append(facts)
    found: list[Finding] = []
    for many in cameras.values():
        many.sort(key=lambda f: (f.start_utc or datetime.min.replace(tzinfo=UTC), f.path))
        found += _equal(many) or _overlapping(many)
        found += _by_writing(many)
    return found + _daylight(lights)


def _seconds(facts: ExposureFacts) -> float:
    assert facts.start_utc is not None
    return facts.start_utc.timestamp()


def _equal(lights: Sequence[ExposureFacts]) -> list[Finding]:
    same = [(a, b) for a, b in pairwise(lights) if a.start_utc == b.start_utc and a.path != b.path]
    # A cube's planes, and several images of one file, share their header; whole seconds do not tell short exposures apart.
    same = [(a, b) for a, b in same if "[" not in b.path and (a.exposure_s is None or a.exposure_s > _ROUNDED_S)]
    if not same:
        return []
    files = tuple(dict.fromkeys(f.path for pair in same for f in pair))
    a, b = same[0]
    return [
        notice(
            "times_equal", "Exposures have the same time",
            f"{counted(len(files), 'light')} of one camera began at the same moment, such as {a.name} and {b.name}: "
            "a copy, or a clock that stood.",
            files,
        )
    ]  # fmt: skip


def _overlapping(lights: Sequence[ExposureFacts]) -> list[Finding]:
    over = [
        (a, b, _seconds(a) + (a.exposure_s or 0.0) - _seconds(b))
        for a, b in pairwise(lights)
        if a.exposure_s and _seconds(a) + a.exposure_s - _seconds(b) > max(_ROUNDED_S, 0.02 * a.exposure_s)
    ]
    if not over:
        return []
    a, b, by = max(over, key=lambda one: one[2])
    return [
        notice(
            "times_overlap", "Exposures overlap in time",
            f"{counted(len(over), 'light')} of one camera began before the one before ended, {b.name} by {by:.0f} s before {a.name}: "
            "the clock was set back, or exposure times are wrong.",
            tuple(one[1].path for one in over),
        )
    ]  # fmt: skip


def _by_writing(lights: Sequence[ExposureFacts]) -> list[Finding]:
    """Compare times with those at which files were written, where files still tell that."""
    told = [f for f in lights if f.exposure_s and f.mtime_ns and "[" not in f.path]
    if len(told) < 2 * _BESIDE:
        return []
    # In the order in which they were written: a clock that was set back does not change that.
    told.sort(key=lambda f: f.mtime_ns)
    starts = np.array([_seconds(f) for f in told])
    exposures = np.array([f.exposure_s or 0.0 for f in told])
    written = np.array([f.mtime_ns / 1e9 for f in told])
    own, theirs = float(np.median(np.diff(starts))), float(np.median(np.diff(written)))
    if own <= 0 or abs(theirs / own - 1) > _WRITTEN:
        return []
    late = written - starts - exposures
    found = []
    steps = np.array(
        [
            np.median(late[k : k + _BESIDE]) - np.median(late[k - _BESIDE : k])
            for k in range(_BESIDE, len(late) - _BESIDE + 1)
        ]
    )
    calm = robust_spread(np.diff(late), about=0.0)
    k = int(np.argmax(np.abs(steps)))
    if abs(steps[k]) > max(_STEP_S, 8 * calm):
        # The largest of the steps next to it is where it is.
        at = _BESIDE + k
        jump = int(np.argmax(np.abs(np.diff(late[max(0, at - _BESIDE) : at + _BESIDE])))) + max(0, at - _BESIDE) + 1
        by = float(np.median(late[jump : jump + _BESIDE]) - np.median(late[max(0, jump - _BESIDE) : jump]))
        found.append(
            notice(
                "clock_step", "The clock was set during the night",
                f"From {told[jump].name} on times are {abs(by):.1f} s {'earlier' if by > 0 else 'later'} "
                "against the moments at which files were written: one of the two parts has wrong times.",
                tuple(f.path for f in told[jump:]),
            )
        )  # fmt: skip
    middle = float(np.median(late))
    usual = float(np.median(exposures))
    if usual >= _LONG_S and calm < 0.2 * usual and -1.3 * usual < middle < -0.7 * usual:
        found.append(
            notice(
                "times_of_end", "Times may be those of the end",
                f"Files were written {abs(middle):.0f} s before their exposures of {usual:g} s would have ended: "
                "the headers' times seem to be of the end, not of the start. The middle of each exposure is "
                "then told too late by a whole exposure time.",
                tuple(f.path for f in told),
            )
        )  # fmt: skip
    return found


def _daylight(lights: Sequence[ExposureFacts]) -> list[Finding]:
    seen = [(sun_altitude(f.mid_utc, f.site), f) for f in lights if f.mid_utc is not None and f.site is not None]
    up = [(altitude, f) for altitude, f in seen if altitude > _DAY_DEG]
    # Somebody may take the Sun, or a bright star by day; a whole night of it is a clock.
    if len(up) < 3 or len(up) < 0.5 * len(seen):
        return []
    altitude, facts = max(up, key=lambda one: one[0])
    return [
        notice(
            "times_by_day", "The Sun was up",
            f"At the site's place the Sun stood {altitude:.0f} degrees high at {facts.name}, and over {len(up)} of {len(seen)} "
            "lights: the clock is local time, or latitude and longitude are wrong (east is positive).",
            tuple(f.path for _, f in up),
        )
    ]  # fmt: skip
