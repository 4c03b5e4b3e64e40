"""Minor bodies from orbital elements: two-body motion about the Sun, seen from a site."""

from __future__ import annotations

import csv
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import numpy as np

from ulvar.astrometry.observer import Site, observer_at, two_part
from ulvar.engine import F64Array
from ulvar.frames import in_circle, parse_time

# Gaussian constant squared [au^3 / d^2].
_MU = 0.01720209895**2
# Of J2000 [deg]: elements are published for this one (IAU 1976).
_OBLIQUITY = 84381.448 / 3600
_LIGHT_DAYS_PER_AU = 499.00478383615643 / 86400
# What names columns may have; the first is ours.
_NAMES: Mapping[str, tuple[str, ...]] = {
    "name": ("name", "designation", "object", "body"), "epoch": ("epoch", "epoch_jd", "epoch_tdb"), "a": ("a", "a_au", "semimajor_axis"),
    "q": ("q", "q_au", "perihelion_distance"), "e": ("e", "ecc", "eccentricity"), "i": ("i", "inc", "incl", "inclination"),
    "node": ("node", "om", "omega_node", "raan", "ascending_node"), "peri": ("peri", "w", "arg_peri", "argument_of_perihelion"),
    "m": ("m", "ma", "mean_anomaly"), "tp": ("tp", "t_peri", "perihelion_time"), "h": ("h", "abs_mag"), "g": ("g", "slope"),
}  # fmt: skip


class OrbitError(Exception):
    """A table of elements that cannot be used: which file, which line, why."""


@dataclass(frozen=True)
class Orbit:
    """Osculating elements about the Sun: ecliptic and equinox J2000.

    Attributes
    ----------
    name : str
    perihelion_au, eccentricity : float
        Any conic: 1 is a parabola, more a hyperbola.
    inclination_deg, node_deg, argument_deg : float
        Inclination, longitude of the ascending node, argument of perihelion.
    perihelion_jd : float
        Time of perihelion [JD, TDB].
    epoch_jd : float
        At which the elements touch the true path [JD, TDB]; NaN when not told.
    h_mag, slope : float
        Absolute magnitude and slope parameter G; NaN when not told.
    """

    name: str
    perihelion_au: float
    eccentricity: float
    inclination_deg: float
    node_deg: float
    argument_deg: float
    perihelion_jd: float
    epoch_jd: float = math.nan
    h_mag: float = math.nan
    slope: float = 0.15

    @property
    def to_icrs(self) -> F64Array:
        """Axes of the orbit's plane as columns [ICRS]: towards perihelion, a quarter on, and its pole; shape (3, 3)."""
        i, node, peri, tilt = (
            math.radians(v) for v in (self.inclination_deg, self.node_deg, self.argument_deg, _OBLIQUITY)
        )
        return _about_x(tilt) @ _about_z(node) @ _about_x(i) @ _about_z(peri)


def _about_z(angle: float) -> F64Array:
    c, s = math.cos(angle), math.sin(angle)
    return np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])


def _about_x(angle: float) -> F64Array:
    c, s = math.cos(angle), math.sin(angle)
    return np.array([[1.0, 0.0, 0.0], [0.0, c, -s], [0.0, s, c]])


# ---- two-body motion


def _stumpff(x: F64Array) -> tuple[F64Array, F64Array]:
    """Return Stumpff's c2 and c3: (1 - cos u) / u^2 and (u - sin u) / u^3 with u^2 = x, of either sign."""
    root = np.sqrt(np.abs(x))
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        c2 = np.where(x > 0, (1 - np.cos(root)) / x, (np.cosh(root) - 1) / -x)
        c3 = np.where(x > 0, (root - np.sin(root)) / root**3, (np.sinh(root) - root) / root**3)
    # Near a parabola the differences vanish: the series instead.
    near = np.abs(x) < 0.1
    s2 = 1 / 2 - x * (1 / 24 - x * (1 / 720 - x * (1 / 40320 - x * (1 / 3628800 - x / 479001600))))
    s3 = 1 / 6 - x * (1 / 120 - x * (1 / 5040 - x * (1 / 362880 - x * (1 / 39916800 - x / 6227020800))))
    return np.where(near, s2, c2), np.where(near, s3, c3)


def heliocentric(orbit: Orbit, since_perihelion_d: F64Array) -> F64Array:
    """Return the body about the Sun, shape (n, 3) [au, ICRS], at times since perihelion [d].

    By universal variables, one form for ellipse, parabola and hyperbola (Danby 1988, Fundamentals of Celestial
    Mechanics, section 6.9): t = q s + mu e s^3 c3(alpha s^2), solved by Newton's method within bounds.
    """
    q, e = orbit.perihelion_au, orbit.eccentricity
    t = np.asarray(since_perihelion_d, dtype=np.float64)
    alpha = _MU * (1 - e) / q
    if alpha > 0:
        period = 2 * math.pi * _MU / alpha**1.5
        t = t - period * np.round(t / period)
    late = np.abs(t)
    s = _universal(q, e, alpha, late)
    x = alpha * s * s
    c2, c3 = _stumpff(x)
    g1, g2 = s * (1 - x * c3), s * s * c2
    along = q - _MU * g2
    across = np.sign(t) * math.sqrt(_MU * q * (1 + e)) * g1
    axes = orbit.to_icrs
    return np.asarray(along[:, None] * axes[:, 0] + across[:, None] * axes[:, 1])


def _universal(q: float, e: float, alpha: float, t: F64Array) -> F64Array:
    """Return the universal anomaly of times since perihelion, not negative [d]."""
    k = _MU * e
    if k == 0:
        return t / q
    # Of a parabola it is the root of q s + k s^3 / 6 = t; an ellipse is slower than that, a hyperbola faster.
    half = 3 * t / k
    root = np.sqrt(half**2 + (2 * q / k) ** 3)
    parabolic = np.cbrt(half + root) + np.cbrt(half - root)
    low = parabolic if alpha > 0 else np.zeros_like(t)
    high = np.full_like(t, math.pi / math.sqrt(alpha)) if alpha > 0 else parabolic
    low = np.minimum(low, high)
    s = (low + high) / 2 if alpha > 0 else parabolic
    for _ in range(80):
        x = alpha * s * s
        c2, c3 = _stumpff(x)
        off = q * s + k * s**3 * c3 - t
        low, high = np.where(off < 0, s, low), np.where(off > 0, s, high)
        new = s - off / (q + k * s * s * c2)
        new = np.where((new >= low) & (new <= high), new, (low + high) / 2)
        if float(np.max(np.abs(new - s) / np.maximum(np.abs(new), 1e-12), initial=0.0)) < 1e-14:
            return np.asarray(new)
        s = new
    return np.asarray(s)


@dataclass(frozen=True)
class Ephemeris:
    """Where a body is seen.

    Attributes
    ----------
    ra, dec : float64 array, shape (n,)
        Astrometric [deg, ICRS]: where it is among the stars of a catalogue.
    distance_au, from_sun_au : float64 array
    magnitude : float64 array
        By absolute magnitude and slope (H, G); NaN without.
    """

    ra: F64Array
    dec: F64Array
    distance_au: F64Array
    from_sun_au: F64Array
    magnitude: F64Array


def ephemeris(orbit: Orbit, moments: Sequence[datetime], site: Site | None) -> Ephemeris:
    """Return where a body is seen from a site (or the Earth's centre), light time taken off.

    Aberration is left out as for catalogue stars beside it. Two-body motion: good to about an arcsecond while the epoch of the elements
    is within weeks; planets pull it away from there. Magnitudes: Bowell et al. 1989, Asteroids II, 524.
    """
    observer = observer_at(moments, site)
    since = (observer.tdb[0] - orbit.perihelion_jd) + observer.tdb[1]
    travel = np.zeros_like(since)
    for _ in range(4):
        body = heliocentric(orbit, since - travel)
        seen = body - observer.heliocentric
        distance = np.linalg.norm(seen, axis=1)
        travel = distance * _LIGHT_DAYS_PER_AU
    ra = in_circle(np.degrees(np.arctan2(seen[:, 1], seen[:, 0])))
    dec = np.degrees(np.arctan2(seen[:, 2], np.hypot(seen[:, 0], seen[:, 1])))
    from_sun = np.linalg.norm(body, axis=1)
    phase = np.arccos(np.clip((body * seen).sum(axis=1) / (from_sun * distance), -1, 1))
    tan = np.tan(phase / 2)
    light = (1 - orbit.slope) * np.exp(-3.33 * tan**0.63) + orbit.slope * np.exp(-1.87 * tan**1.22)
    magnitude = orbit.h_mag + 5 * np.log10(from_sun * distance) - 2.5 * np.log10(light)
    return Ephemeris(np.asarray(ra), np.asarray(dec), distance, from_sun, np.asarray(magnitude))


# ---- tables of elements


def has_elements(columns: Sequence[str]) -> bool:
    """Whether a table with these columns holds orbital elements."""
    found = _columns(columns)
    return "e" in found and ("a" in found or "q" in found)


def _columns(columns: Sequence[str]) -> dict[str, int]:
    # Upper and lower case are one, but for one pair of letters that the field tells apart: M is an anomaly, m nothing else here.
    plain = [name.strip().lower() for name in columns]
    return {ours: plain.index(name) for ours, names in _NAMES.items() for name in names[::-1] if name in plain}


def read_orbits(path: str | Path) -> list[Orbit]:
    """Read a CSV table of orbital elements.

    Columns: ``name``, ``e``, ``q`` or ``a`` [au], ``i``, ``node``, ``peri`` [deg], and either ``tp`` (perihelion) or ``M`` [deg] with
    ``epoch``; ``H`` and ``G`` where magnitudes are wanted. Times are Julian dates or ISO dates, in TDB.

    Raises
    ------
    OrbitError
        If the file cannot be read, a column is missing, or a line is wrong; the message names the line.
    """
    try:
        with Path(path).open(newline="", encoding="utf-8-sig") as handle:
            numbered = [(n, line) for n, line in enumerate(handle, 1) if line.strip() and not line.startswith("#")]
        rows = list(csv.reader(line for _, line in numbered))
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise OrbitError(f"{path}: {error}") from None
    if not rows:
        raise OrbitError(f"{path}: it is empty")
    at = _columns(rows[0])
    lacking = [name for name in ("name", "e", "i", "node", "peri") if name not in at]
    if "a" not in at and "q" not in at:
        lacking.append("q or a")
    if "tp" not in at and not ("m" in at and "epoch" in at):
        lacking.append("tp, or M and epoch")
    if lacking:
        raise OrbitError(f"{path}: it lacks the columns {', '.join(lacking)}; it has {', '.join(rows[0])}")
    orbits = []
    for (number, _), row in zip(numbered[1:], rows[1:]):
        try:
            orbits.append(_orbit({name: row[k].strip() for name, k in at.items() if k < len(row)}))
        except ValueError as error:
            raise OrbitError(f"{path}, line {number}: {error}") from None
    if not orbits:
        raise OrbitError(f"{path}: it lists no body")
    return orbits


def _number(cells: Mapping[str, str], name: str) -> float:
    text = cells.get(name, "")
    if not text:
        return math.nan
    try:
        value = float(text)
    except ValueError:
        raise ValueError(f"'{text}' under {name} is no number") from None
    if not math.isfinite(value):
        raise ValueError(f"'{text}' under {name} is no number")
    return value


def _moment(cells: Mapping[str, str], name: str) -> float:
    """Return a Julian date: as it is written, or of an ISO date."""
    text = cells.get(name, "")
    if not text:
        return math.nan
    try:
        value = float(text)
    except ValueError:
        when = parse_time(text if "T" in text or " " in text else f"{text}T00:00:00")
        if when is None:
            raise ValueError(f"'{text}' under {name} is neither a Julian date nor an ISO date") from None
        day, fraction = two_part([when])
        return float(day[0] + fraction[0])
    if not 1_000_000 < value < 4_000_000:
        raise ValueError(f"{text} under {name} is no Julian date")
    return value


def _orbit(cells: Mapping[str, str]) -> Orbit:
    e, q, a = (_number(cells, name) for name in ("e", "q", "a"))
    i, node, peri = (_number(cells, name) for name in ("i", "node", "peri"))
    if any(math.isnan(v) for v in (e, i, node, peri)):
        raise ValueError("e, i, node and peri are needed")
    if e < 0:
        raise ValueError(f"an eccentricity of {e:g} is none")
    if math.isnan(q):
        if math.isnan(a) or e == 1:
            raise ValueError("the perihelion distance q is needed")
        q = a * (1 - e)
    if not q > 0:
        raise ValueError(f"a perihelion distance of {q:g} au is none")
    tp, epoch = _moment(cells, "tp"), _moment(cells, "epoch")
    if math.isnan(tp):
        m = _number(cells, "m")
        if math.isnan(m) or math.isnan(epoch) or e == 1:
            raise ValueError("the time of perihelion tp is needed, or M and epoch")
        motion = math.degrees(math.sqrt(_MU * abs((1 - e) / q) ** 3))
        # The perihelion next to the epoch.
        tp = epoch - (((m + 180) % 360 - 180) if e < 1 else m) / motion
    g = _number(cells, "g")
    return Orbit(
        cells.get("name", ""), q, e, i, node, peri, tp, epoch, _number(cells, "h"), 0.15 if math.isnan(g) else g
    )
