"""Angles on the sphere. All in degrees, ICRS."""

from __future__ import annotations

import numpy as np

from ulvar.engine import F64Array
from ulvar.frames import in_circle

Angle = F64Array | np.float64 | float


def separation_deg(ra1: Angle, dec1: Angle, ra2: Angle, dec2: Angle) -> F64Array:
    """Great-circle separation [deg], accurate at every distance (the Vincenty form of the great circle)."""
    a1, d1, a2, d2 = (np.radians(np.asarray(value, dtype=np.float64)) for value in (ra1, dec1, ra2, dec2))
    delta = a2 - a1
    across = np.hypot(np.cos(d2) * np.sin(delta), np.cos(d1) * np.sin(d2) - np.sin(d1) * np.cos(d2) * np.cos(delta))
    along = np.sin(d1) * np.sin(d2) + np.cos(d1) * np.cos(d2) * np.cos(delta)
    return np.asarray(np.degrees(np.arctan2(across, along)))


def position_angle_deg(ra1: Angle, dec1: Angle, ra2: Angle, dec2: Angle) -> F64Array:
    """Direction at the first position towards the second, from north over east, 0 to 360 [deg]."""
    a1, d1, a2, d2 = (np.radians(np.asarray(value, dtype=np.float64)) for value in (ra1, dec1, ra2, dec2))
    east = np.cos(d2) * np.sin(a2 - a1)
    north = np.cos(d1) * np.sin(d2) - np.sin(d1) * np.cos(d2) * np.cos(a2 - a1)
    return np.asarray(in_circle(np.degrees(np.arctan2(east, north))))


def unit_vectors(ra: F64Array, dec: F64Array) -> F64Array:
    """Return unit vectors, shape (n, 3), of positions [deg]: x towards RA 0, Dec 0, z towards the north pole."""
    a, d = np.radians(ra), np.radians(dec)
    return np.column_stack([np.cos(d) * np.cos(a), np.cos(d) * np.sin(a), np.sin(d)])


def tangent_plane(ra: F64Array, dec: F64Array, ra0: float, dec0: float) -> tuple[F64Array, F64Array]:
    """Gnomonic standard coordinates (xi, eta) [deg] about a tangent point; NaN beyond 90 degrees.

    Calabretta & Greisen 2002, A&A 395, 1077, section 5.1.3 (TAN), in closed form for any tangent point.
    """
    a, d = np.radians(np.asarray(ra, dtype=np.float64)), np.radians(np.asarray(dec, dtype=np.float64))
    a0, d0 = np.radians(ra0), np.radians(dec0)
    cosine = np.sin(d0) * np.sin(d) + np.cos(d0) * np.cos(d) * np.cos(a - a0)
    with np.errstate(divide="ignore", invalid="ignore"):
        xi = np.cos(d) * np.sin(a - a0) / cosine
        eta = (np.cos(d0) * np.sin(d) - np.sin(d0) * np.cos(d) * np.cos(a - a0)) / cosine
    behind = cosine <= 1e-9
    return np.degrees(np.where(behind, np.nan, xi)), np.degrees(np.where(behind, np.nan, eta))


def tangent_to_sky(xi: F64Array, eta: F64Array, ra0: float, dec0: float) -> tuple[F64Array, F64Array]:
    """Sky position [deg] of standard coordinates [deg] about a tangent point."""
    x, y = np.radians(np.asarray(xi, dtype=np.float64)), np.radians(np.asarray(eta, dtype=np.float64))
    a0, d0 = np.radians(ra0), np.radians(dec0)
    down = np.cos(d0) - y * np.sin(d0)
    ra = a0 + np.arctan2(x, down)
    dec = np.arctan2(np.sin(d0) + y * np.cos(d0), np.hypot(x, down))
    return in_circle(np.degrees(ra)), np.degrees(dec)


def offset_position(ra: float, dec: float, east_deg: float, north_deg: float) -> tuple[float, float]:
    """Return the position at a tangent-plane offset [deg] from (ra, dec)."""
    a, d = tangent_to_sky(np.array([east_deg]), np.array([north_deg]), ra, dec)
    return float(a[0]), float(d[0])
