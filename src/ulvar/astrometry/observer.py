"""Times in TDB, and where the observer is: about the Sun and about the barycentre."""

from __future__ import annotations

import math
import warnings
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

import erfa
import numpy as np

from ulvar.engine import F64Array

_UNIX_EPOCH_JD = 2440587.5
_METRES_PER_AU = 1.495978707e11
# Latitude [deg], longitude east [deg], height [m].
Site = tuple[float, float, float]


def two_part(moments: Sequence[datetime]) -> tuple[F64Array, F64Array]:
    """Return (day, fraction) of UTC Julian dates; the fraction keeps microseconds."""
    days = np.empty(len(moments))
    fractions = np.empty(len(moments))
    for i, moment in enumerate(moments):
        utc = moment.astimezone(UTC)
        midnight = utc.replace(hour=0, minute=0, second=0, microsecond=0)
        days[i] = _UNIX_EPOCH_JD + round(midnight.timestamp() / 86400)
        fractions[i] = (utc - midnight).total_seconds() / 86400
    return days, fractions


@dataclass(frozen=True)
class Observer:
    """Where the observer is at some moments.

    Attributes
    ----------
    tdb : pair of float64 arrays, shape (n,)
        The moments as two-part Julian dates in TDB [d].
    heliocentric, barycentric : float64 array, shape (n, 3)
        Of the observer [au, ICRS].
    """

    tdb: tuple[F64Array, F64Array]
    heliocentric: F64Array
    barycentric: F64Array


def observer_at(moments: Sequence[datetime], site: Site | None) -> Observer:
    """Return where the observer is; without a site it is the Earth's centre.

    UTC -> TAI -> TT -> TDB. Earth: SOFA's ``epv00`` (after VSOP2000), within 0.03 km/s and about 10 km of a numerical ephemeris.
    UT1 is taken as UTC: less than a second of rotation moves the site by 0.4 km, or 1.4 us of light.
    """
    day, fraction = two_part(moments)
    with warnings.catch_warnings():
        # Leap seconds after the library's table are not announced yet; the last known offset is used.
        warnings.simplefilter("ignore", erfa.ErfaWarning)
        tt = erfa.taitt(*erfa.utctai(day, fraction))
        longitude, u, v = 0.0, 0.0, 0.0
        offset = np.zeros((len(day), 3))
        if site is not None:
            latitude, east, height = math.radians(site[0]), math.radians(site[1]), site[2]
            position = erfa.gd2gc(1, east, latitude, height)
            longitude = east
            u = math.hypot(position[0], position[1]) / 1000
            v = position[2] / 1000
            celestial_to_earth = erfa.c2t06a(*tt, day, fraction, 0.0, 0.0)
            offset = np.einsum("nji,j->ni", celestial_to_earth, position) / _METRES_PER_AU
        tdb = tt[0], tt[1] + erfa.dtdb(*tt, fraction % 1.0, longitude, u, v) / 86400
        heliocentric, barycentric = erfa.epv00(*tdb)
    return Observer(tdb, np.asarray(heliocentric["p"] + offset), np.asarray(barycentric["p"] + offset))
