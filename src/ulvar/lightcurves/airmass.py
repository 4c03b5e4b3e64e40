"""Altitude and airmass."""

from __future__ import annotations

import math
import warnings
from collections.abc import Sequence
from datetime import datetime

import erfa
import numpy as np

from ulvar.astrometry import two_part
from ulvar.engine import F64Array


def altitude_deg(
    moments: Sequence[datetime], ra_deg: float | F64Array, dec_deg: float | F64Array, site: tuple[float, float, float]
) -> F64Array:
    """Return apparent altitude [deg], refraction included, shape (n,): of one place at n moments, of n places at one, or of each at its own.

    Parameters
    ----------
    moments : sequence of datetime
        UTC.
    ra_deg, dec_deg : float or float64 array, shape (n,)
        [deg, ICRS].
    site : (latitude deg, longitude east deg, height m)
    """
    day, fraction = two_part(moments)
    pressure = 1013.25 * math.exp(-site[2] / 8430.0)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", erfa.ErfaWarning)
        # Earth's place and turn are worked out once for each moment, however many stars are looked at.
        at, _ = erfa.apco13(
            day,
            fraction,
            0.0,
            math.radians(site[1]),
            math.radians(site[0]),
            site[2],
            0.0,
            0.0,
            pressure,
            5.0,
            0.6,
            0.55,
        )
        apparent = erfa.atciq(np.radians(ra_deg), np.radians(dec_deg), 0.0, 0.0, 0.0, 0.0, at)
        _, zenith, *_ = erfa.atioq(*apparent, at)
    return np.asarray(90.0 - np.degrees(zenith))


def airmass_at(
    moments: Sequence[datetime], ra_deg: float | F64Array, dec_deg: float | F64Array, site: tuple[float, float, float]
) -> F64Array:
    """Return airmass, shape (n,); NaN below the horizon (see `altitude_deg`).

    Pickering 2002, DIO 12, 3: ``X = 1 / sin(h + 244 / (165 + 47 h^1.1))`` with h the apparent altitude [deg].
    """
    altitude = altitude_deg(moments, ra_deg, dec_deg, site)
    up = np.maximum(altitude, 0.0)
    airmass = 1.0 / np.sin(np.radians(up + 244.0 / (165.0 + 47.0 * up**1.1)))
    return np.where(altitude >= 0.0, airmass, np.nan)


def sun_altitude_deg(moments: Sequence[datetime], site: tuple[float, float, float]) -> F64Array:
    """Return the Sun's geometric altitude [deg], shape (n,), to about a hundredth of a degree: for twilight."""
    day, fraction = two_part(moments)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", erfa.ErfaWarning)
        tt = erfa.taitt(*erfa.utctai(day, fraction))
        heliocentric, _ = erfa.epv00(*tt)
        to_earth = erfa.c2t06a(*tt, day, fraction, 0.0, 0.0)
    sun = -heliocentric["p"]
    sun = np.einsum("nij,nj->ni", to_earth, sun / np.linalg.norm(sun, axis=-1, keepdims=True))
    return np.asarray(np.degrees(np.arcsin(sun @ _zenith(site))))


def _zenith(site: tuple[float, float, float]) -> F64Array:
    latitude, longitude = math.radians(site[0]), math.radians(site[1])
    return np.array(
        [math.cos(latitude) * math.cos(longitude), math.cos(latitude) * math.sin(longitude), math.sin(latitude)]
    )


def moon_at(moments: Sequence[datetime], site: tuple[float, float, float]) -> tuple[F64Array, F64Array]:
    """Return the Moon's altitude [deg], seen from the site, and its illuminated share, both of shape (n,).

    Position after Meeus (1998) as SOFA's ``moon98`` computes it, good to a hundredth of a degree; the altitude is
    geometric, with the Moon's parallax. The share is (1 + cos i) / 2 with i the phase angle.
    """
    day, fraction = two_part(moments)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", erfa.ErfaWarning)
        tt = erfa.taitt(*erfa.utctai(day, fraction))
        moon = erfa.moon98(*tt)["p"]
        heliocentric, _ = erfa.epv00(*tt)
        to_earth = erfa.c2t06a(*tt, day, fraction, 0.0, 0.0)
    sun = -heliocentric["p"]
    to_sun = sun - moon
    cosine = np.einsum("ni,ni->n", to_sun, -moon) / np.linalg.norm(to_sun, axis=1) / np.linalg.norm(moon, axis=1)
    # The site is an Earth radius from the Earth's middle, in astronomical units.
    up = _zenith(site)
    seen = np.einsum("nij,nj->ni", to_earth, moon) - up * (6378.14 + site[2] / 1000) / 149597870.7
    altitude = np.degrees(np.arcsin(seen @ up / np.linalg.norm(seen, axis=1)))
    return np.asarray(altitude), np.asarray((1 + cosine) / 2)
