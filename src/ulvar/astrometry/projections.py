"""Zenithal projections of the sky, and the polynomials of TPV."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ulvar.astrometry.sphere import tangent_plane, tangent_to_sky
from ulvar.engine import F64Array
from ulvar.frames import in_circle

# Calabretta & Greisen 2002 (A&A 395, 1077), sections 5.1.3 to 5.1.7: how far from the reference point a distance on the sky goes.
PROJECTIONS = ("TAN", "STG", "ARC", "SIN", "ZEA")
# Powers of the axis itself, of the other one, and of the distance, term by term (the registered TPV convention).
TPV_TERMS = (
    (0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1),
    (2, 0, 0), (1, 1, 0), (0, 2, 0),
    (3, 0, 0), (2, 1, 0), (1, 2, 0), (0, 3, 0), (0, 0, 3),
    (4, 0, 0), (3, 1, 0), (2, 2, 0), (1, 3, 0), (0, 4, 0),
    (5, 0, 0), (4, 1, 0), (3, 2, 0), (2, 3, 0), (1, 4, 0), (0, 5, 0), (0, 0, 5),
    (6, 0, 0), (5, 1, 0), (4, 2, 0), (3, 3, 0), (2, 4, 0), (1, 5, 0), (0, 6, 0),
    (7, 0, 0), (6, 1, 0), (5, 2, 0), (4, 3, 0), (3, 4, 0), (2, 5, 0), (1, 6, 0), (0, 7, 0), (0, 0, 7),
)  # fmt: skip
_STEPS, _CLOSE_DEG = 50, 1e-15


def _reach(projection: str, away: F64Array) -> F64Array:
    """Return how far from the middle of the plane something at a distance [rad] on the sky lies [rad]; NaN where it does not."""
    if projection == "STG":
        return np.where(away < np.pi - 1e-9, 2 * np.tan(0.5 * away), np.nan)
    if projection == "ARC":
        return away
    if projection == "SIN":
        return np.where(away <= 0.5 * np.pi, np.sin(away), np.nan)
    return np.asarray(2 * np.sin(0.5 * away))


def _away(projection: str, reach: F64Array) -> F64Array:
    """Return the distance on the sky [rad] of something so far from the middle of the plane [rad]; NaN beyond the sky."""
    with np.errstate(invalid="ignore"):
        if projection == "STG":
            return np.asarray(2 * np.arctan(0.5 * reach))
        if projection == "ARC":
            return np.where(reach <= np.pi, reach, np.nan)
        if projection == "SIN":
            return np.asarray(np.arcsin(reach))
        return np.asarray(2 * np.arcsin(0.5 * reach))


def project(projection: str, ra: F64Array, dec: F64Array, ra0: float, dec0: float) -> tuple[F64Array, F64Array]:
    """Return intermediate world coordinates [deg] of positions [deg] about a reference point; NaN where there are none.

    Parameters
    ----------
    projection : str
        Of `PROJECTIONS`.
    ra, dec : float64 array
    ra0, dec0 : float
    """
    if projection == "TAN":
        return tangent_plane(ra, dec, ra0, dec0)
    a, d = np.radians(ra) - np.radians(ra0), np.radians(dec)
    d0 = np.radians(dec0)
    east = np.cos(d) * np.sin(a)
    north = np.sin(d) * np.cos(d0) - np.cos(d) * np.sin(d0) * np.cos(a)
    across = np.hypot(east, north)
    away = np.arctan2(across, np.sin(d) * np.sin(d0) + np.cos(d) * np.cos(d0) * np.cos(a))
    with np.errstate(divide="ignore", invalid="ignore"):
        factor = np.where(across > 0, _reach(projection, away) / across, 1.0)
    return np.degrees(east * factor), np.degrees(north * factor)


def deproject(projection: str, xi: F64Array, eta: F64Array, ra0: float, dec0: float) -> tuple[F64Array, F64Array]:
    """Return positions (ra, dec) [deg] of intermediate world coordinates [deg]; NaN beyond the sky. See `project`."""
    if projection == "TAN":
        return tangent_to_sky(xi, eta, ra0, dec0)
    x, y = np.radians(np.asarray(xi, dtype=np.float64)), np.radians(np.asarray(eta, dtype=np.float64))
    reach = np.hypot(x, y)
    away = _away(projection, reach)
    with np.errstate(divide="ignore", invalid="ignore"):
        factor = np.where(reach > 0, np.sin(away) / reach, 1.0)
    east, north, toward = x * factor, y * factor, np.cos(away)
    d0 = np.radians(dec0)
    # From the frame of the reference point back to that of the sky.
    along = toward * np.cos(d0) - north * np.sin(d0)
    ra = np.radians(ra0) + np.arctan2(east, along)
    dec = np.arctan2(toward * np.sin(d0) + north * np.cos(d0), np.hypot(east, along))
    return in_circle(np.degrees(ra)), np.degrees(dec)


def bend(terms: Mapping[int, float], own: F64Array, other: F64Array) -> F64Array:
    """Return the TPV polynomial of an axis at its own and the other's coordinate [deg]."""
    away = np.hypot(own, other)
    total = np.zeros(np.broadcast(own, other).shape)
    for k, value in terms.items():
        p, q, r = TPV_TERMS[k]
        total = total + value * own**p * other**q * away**r
    return total


def unbend(
    pv: tuple[Mapping[int, float], Mapping[int, float]], xi: F64Array, eta: F64Array
) -> tuple[F64Array, F64Array]:
    """Return the coordinates whose polynomials are given ones [deg]: what a step misses is taken off the next guess."""
    scale = pv[0].get(1, 1.0) or 1.0, pv[1].get(1, 1.0) or 1.0
    x, y = xi / scale[0], eta / scale[1]
    for _ in range(_STEPS):
        dx, dy = bend(pv[0], x, y) - xi, bend(pv[1], y, x) - eta
        x, y = x - dx / scale[0], y - dy / scale[1]
        if np.nanmax(np.abs(np.concatenate([np.ravel(dx), np.ravel(dy)])), initial=0.0) < _CLOSE_DEG:
            break
    return x, y
