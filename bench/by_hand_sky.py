"""Orbits, projections and eclipses worked out by hand: by the textbook's vectors, the standard's formulae, a disc cell by cell."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import datetime

import erfa
import numpy as np

from ulvar.astrometry import Orbit
from ulvar.lightcurves.eclipse import TemplateShape

# The sun's pull [au^3 / d^2], the tilt of the Earth's axis.
MU = 0.01720209895**2
TILT = math.radians(84381.448 / 3600)


def elements_of(r: np.ndarray, v: np.ndarray, jd: float) -> Orbit:
    """Return the elements of a state [au, au/d, ICRS], by the textbook's vectors."""
    turn = np.array([[1, 0, 0], [0, math.cos(TILT), math.sin(TILT)], [0, -math.sin(TILT), math.cos(TILT)]])
    r, v = turn @ r, turn @ v
    h = np.cross(r, v)
    lean = np.cross(v, h) / MU - r / np.linalg.norm(r)
    e, node = float(np.linalg.norm(lean)), np.array([-h[1], h[0], 0.0])
    a = 1 / (2 / np.linalg.norm(r) - v @ v / MU)
    i = math.acos(h[2] / np.linalg.norm(h))
    om = math.atan2(node[1], node[0])
    across = np.cross(h / np.linalg.norm(h), node / np.linalg.norm(node))
    w = math.atan2(lean @ across, lean @ node / np.linalg.norm(node))
    nu = math.atan2(r @ np.cross(h, lean) / np.linalg.norm(h) / e, r @ lean / e)
    u = 2 * math.atan(math.sqrt((1 - e) / (1 + e)) * math.tan(nu / 2))
    m = u - e * math.sin(u)
    return Orbit(
        "body", float(a * (1 - e)), e, math.degrees(i), math.degrees(om), math.degrees(w), jd - m / math.sqrt(MU / a**3)
    )


def zenith_distance(ra: float, dec: float, when: datetime, site: Sequence[float]) -> float:
    """Return the angle [deg] between a place and the site's zenith (geocentric latitude left as geodetic: it is small)."""
    jd = when.timestamp() / 86400 + 2440587.5
    turn = erfa.era00(2440587.5, jd - 2440587.5)
    # Precession since 2000 moves the zenith by a third of a degree: the whole matrix is taken.
    matrix = erfa.c2t06a(2440587.5, jd - 2440587.5, 2440587.5, jd - 2440587.5, 0.0, 0.0)
    assert 0 <= turn < 7
    latitude, east = math.radians(site[0]), math.radians(site[1])
    geocentric = math.atan(math.tan(latitude) * 0.99330562)
    up = matrix.T @ np.array(
        [math.cos(geocentric) * math.cos(east), math.cos(geocentric) * math.sin(east), math.sin(geocentric)]
    )
    a, d = math.radians(ra), math.radians(dec)
    return math.degrees(math.acos(up @ np.array([math.cos(d) * math.cos(a), math.cos(d) * math.sin(a), math.sin(d)])))


def plane(code: str, ra: float, dec: float, ra0: float, dec0: float, lonpole: float = 180.0) -> tuple[float, float]:
    """Intermediate world coordinates [deg] by native longitude and latitude (Calabretta & Greisen 2002, equations 5, 11 and 12)."""
    a, d, d0 = math.radians(ra - ra0), math.radians(dec), math.radians(dec0)
    phi = math.radians(lonpole) + math.atan2(
        -math.cos(d) * math.sin(a), math.sin(d) * math.cos(d0) - math.cos(d) * math.sin(d0) * math.cos(a)
    )
    theta = math.asin(min(1.0, math.sin(d) * math.sin(d0) + math.cos(d) * math.cos(d0) * math.cos(a)))
    colatitude = math.pi / 2 - theta
    reach = {
        "TAN": lambda: 1 / math.tan(theta), "STG": lambda: 2 * math.tan(colatitude / 2), "ARC": lambda: colatitude,
        "SIN": lambda: math.cos(theta), "ZEA": lambda: 2 * math.sin(colatitude / 2),
    }[code]()  # fmt: skip
    return math.degrees(reach * math.sin(phi)), math.degrees(-reach * math.cos(phi))


def dimming_on_a_grid(time: np.ndarray, shape: TemplateShape, cells: int = 801) -> np.ndarray:
    """Return the dimming [mag] by adding up a limb-darkened disc cell by cell."""
    edge = np.linspace(-1, 1, cells)
    x, y = np.meshgrid(edge, edge)
    inside = x**2 + y**2 < 1
    light = np.where(inside, 1 - 0.5 * (1 - np.sqrt(np.where(inside, 1 - x**2 - y**2, 0.0))), 0.0)
    reach = 1 + shape.ratio
    low = shape.impact * reach
    along = math.sqrt(reach**2 - low**2) * (time - shape.mid) / shape.half_length
    hidden = [light[(x - a) ** 2 + (y - low) ** 2 < shape.ratio**2].sum() / light.sum() for a in along]
    return np.asarray(-2.5 * np.log10(1 - shape.share * np.array(hidden)))
