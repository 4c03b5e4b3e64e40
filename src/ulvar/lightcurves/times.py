"""Mid-exposure times in the scales that astronomers publish."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

import numpy as np

from ulvar.astrometry import observer_at, two_part
from ulvar.engine import F64Array

_LIGHT_SECONDS_PER_AU = 499.00478383615643


def jd_from_utc(moments: Sequence[datetime]) -> F64Array:
    """Return JD (UTC) [d], shape (n,)."""
    day, fraction = two_part(moments)
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
    """Return BJD_TDB [d] of observation times, shape (n,): of one star at n times, of n at one, or of each at its own.

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
    observer = observer_at(moments, site)
    ra, dec = np.radians(ra_deg), np.radians(dec_deg)
    star = np.stack(np.broadcast_arrays(np.cos(dec) * np.cos(ra), np.cos(dec) * np.sin(ra), np.sin(dec)), axis=-1)
    travel = (observer.barycentric * star).sum(axis=-1) * _LIGHT_SECONDS_PER_AU / 86400
    return np.asarray(observer.tdb[0] + (observer.tdb[1] + travel))


def heliocentric_offset(jd_utc: F64Array, ra_deg: float, dec_deg: float) -> F64Array:
    """Return what HJD has more than JD, both UTC [d], shape (n,): the light travel from the Earth's centre to the Sun's.

    Parameters
    ----------
    jd_utc : float64 array, shape (n,)
        [d]
    ra_deg, dec_deg : float
        The star [deg, ICRS].
    """
    unix = (np.asarray(jd_utc, dtype=np.float64) - 2440587.5) * 86400
    moments = [datetime.fromtimestamp(0, UTC) + timedelta(seconds=float(s)) for s in unix]
    ra, dec = np.radians(ra_deg), np.radians(dec_deg)
    star = np.array([np.cos(dec) * np.cos(ra), np.cos(dec) * np.sin(ra), np.sin(dec)])
    return np.asarray(observer_at(moments, None).heliocentric @ star * _LIGHT_SECONDS_PER_AU / 86400)
