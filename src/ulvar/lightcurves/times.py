"""Mid-exposure times in the scales that astronomers publish."""

from __future__ import annotations

import math
import warnings
from collections.abc import Sequence
from datetime import UTC, datetime

import erfa
import numpy as np

from ulvar.engine import F64Array

_UNIX_EPOCH_JD = 2440587.5
_LIGHT_SECONDS_PER_AU = 499.00478383615643


def _two_part(moments: Sequence[datetime]) -> tuple[F64Array, F64Array]:
    """Return (day, fraction) of UTC Julian dates; the fraction keeps microseconds."""
    days = np.empty(len(moments))
    fractions = np.empty(len(moments))
    for i, moment in enumerate(moments):
        utc = moment.astimezone(UTC)
        midnight = utc.replace(hour=0, minute=0, second=0, microsecond=0)
        days[i] = _UNIX_EPOCH_JD + round(midnight.timestamp() / 86400)
        fractions[i] = (utc - midnight).total_seconds() / 86400
    return days, fractions


def jd_from_utc(moments: Sequence[datetime]) -> F64Array:
    """Return JD (UTC) [d], shape (n,)."""
    day, fraction = _two_part(moments)
    return np.asarray(day + fraction)


def julian_year(moment: datetime) -> float:
    """Return the Julian year of a time, for proper motions [yr]."""
    return 2000.0 + float(jd_from_utc([moment])[0] - 2451545.0) / 365.25


def barycentric_jd(
    moments: Sequence[datetime],
    ra_deg: float | F64Array,
    dec_deg: float | F64Array,
    site: tuple[float, float, float] | None,
) -> F64Array:
    """Return BJD_TDB [d] of observation times, shape (n,).

    Parameters
    ----------
    moments : sequence of datetime
        UTC.
    ra_deg, dec_deg : float or float64 array, shape (n,)
        The star [deg, ICRS].
    site : (latitude deg, longitude east deg, height m), or None
        Without a site the Earth's centre is used: up to 21 ms off.

    Returns
    -------
    float64 array

    Notes
    -----
    UTC -> TAI -> TT -> TDB, plus the light travel from the observer to the barycentre along the star's
    direction (Eastman, Siverd & Gaudi 2010, PASP 122, 935, eq. 10 without the Shapiro and Einstein terms of
    the star). The plane-wave form is within 0.1 ms for stars beyond 10 pc.
    """
    day, fraction = _two_part(moments)
    with warnings.catch_warnings():
        # Leap seconds after the library's table are not announced yet; the last known offset is used.
        warnings.simplefilter("ignore", erfa.ErfaWarning)
        tai = erfa.utctai(day, fraction)
        tt = erfa.taitt(*tai)
        longitude, u, v = 0.0, 0.0, 0.0
        observer = np.zeros((len(day), 3))
        if site is not None:
            latitude, east, height = math.radians(site[0]), math.radians(site[1]), site[2]
            position = erfa.gd2gc(1, east, latitude, height)
            longitude = east
            u = math.hypot(position[0], position[1]) / 1000
            v = position[2] / 1000
            # UT1 is taken as UTC: less than a second of rotation moves the site by 0.4 km, or 1.4 us.
            celestial_to_earth = erfa.c2t06a(*tt, day, fraction, 0.0, 0.0)
            observer = np.einsum("nji,j->ni", celestial_to_earth, position) / 1.495978707e11
        tdb = tt[0], tt[1] + erfa.dtdb(*tt, fraction % 1.0, longitude, u, v) / 86400
        _, barycentric = erfa.epv00(*tdb)
    ra, dec = np.radians(ra_deg), np.radians(dec_deg)
    star = np.stack(np.broadcast_arrays(np.cos(dec) * np.cos(ra), np.cos(dec) * np.sin(ra), np.sin(dec)), axis=-1)
    travel = ((barycentric["p"] + observer) * star).sum(axis=-1) * _LIGHT_SECONDS_PER_AU / 86400
    return np.asarray(tdb[0] + (tdb[1] + travel))
