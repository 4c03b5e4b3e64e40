"""Times as headers write them, brought to UTC."""

from __future__ import annotations

import re
import warnings
from datetime import UTC, datetime, timedelta

_JD_UNIX_EPOCH = 2440587.5
_MJD_UNIX_EPOCH = 40587.0
# TT - TAI and TAI - GPS [s], by definition.
_TT_TAI_S = 32.184
_TAI_GPS_S = 19.0
_UNIVERSAL = {"", "UTC", "UT", "UT1", "GMT", "Z"}
_TERRESTRIAL = {"TT", "TDT", "ET"}


def parse_time(text: str) -> datetime | None:
    """Return a UTC time from ISO text, tolerant of blanks and a missing time of day; None if unreadable."""
    cleaned = text.strip().rstrip("Zz").replace(" ", "T").replace("/", "-")
    if "T" not in cleaned:
        return None
    # datetime takes at most six decimals; more digits than a microsecond carry no meaning here.
    cleaned = re.sub(r"(\.\d{6})\d+", r"\1", cleaned)
    try:
        moment = datetime.fromisoformat(cleaned)
        return moment.replace(tzinfo=UTC) if moment.tzinfo is None else moment.astimezone(UTC)
    except (ValueError, OverflowError):
        # Also a day that a time zone moves out of the calendar.
        return None


def later(moment: datetime, seconds: float) -> datetime | None:
    """Return the time so many seconds after another; None beyond the calendar."""
    try:
        return moment + timedelta(seconds=seconds)
    except (OverflowError, ValueError):
        return None


def time_from_jd(jd: float) -> datetime:
    """Return the UTC time of a Julian date, to the microsecond grid of double precision (about 40 us)."""
    return datetime.fromtimestamp(0, UTC) + timedelta(days=jd - _JD_UNIX_EPOCH)


def time_from_mjd(mjd: float) -> datetime:
    """Return the UTC time of a modified Julian date, to the microsecond grid of double precision (about 1 us)."""
    return datetime.fromtimestamp(0, UTC) + timedelta(days=mjd - _MJD_UNIX_EPOCH)


def utc_from_scale(moment: datetime, scale: str) -> datetime | None:
    """Return in UTC a time that was read in another time scale, or None for a scale that has no fixed relation to it.

    Parameters
    ----------
    moment : datetime
        As `parse_time` gives it: labelled UTC, whatever it is.
    scale : str
        Value of TIMESYS (Rots et al. 2015, A&A 574, A36, table 2). UT1 is within 0.9 s of UTC and taken as UTC.
        TDB and TT differ by less than 2 ms, which is taken into account; LOCAL and unknown scales give None.
    """
    name = scale.strip().upper().partition("(")[0]
    if name in _UNIVERSAL:
        return moment
    # Only files in other scales pay for the library of leap seconds.
    import erfa

    if name == "TDB":
        days = (moment - datetime(2000, 1, 1, 12, tzinfo=UTC)).total_seconds() / 86400
        offset = _TT_TAI_S + float(erfa.dtdb(2451545.0, days, 0.0, 0.0, 0.0, 0.0))
    elif name in _TERRESTRIAL:
        offset = _TT_TAI_S
    elif name in ("TAI", "IAT"):
        offset = 0.0
    elif name == "GPS":
        offset = -_TAI_GPS_S
    else:
        return None
    tai = moment - timedelta(seconds=offset)
    # The number of leap seconds is that of the UTC date, which is half a minute to a minute earlier.
    day = tai - timedelta(seconds=37)
    with warnings.catch_warnings():
        # Leap seconds after the library's table are not announced yet; the last known offset is used.
        warnings.simplefilter("ignore", erfa.ErfaWarning)
        leap = float(erfa.dat(day.year, day.month, day.day, (day.hour + day.minute / 60) / 24))
    return tai - timedelta(seconds=leap)
