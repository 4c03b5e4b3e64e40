"""Rotation of a minor planet over sessions: their points on one scale of time and light, and the period in them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from ulvar.astrometry import CatalogueError, read_rows
from ulvar.engine import F64Array, Failed
from ulvar.flows.curve import CurveOptions, CurvePart, part_curve
from ulvar.lightcurves import Geometry, Rotation, find_rotation, reduced

_GEOMETRY = ("jd", "sun_au", "earth_au", "phase_deg")


def read_geometry(path: Path) -> Geometry:
    """Read an ephemeris of a body: columns jd [d], sun_au, earth_au [au], phase_deg [deg].

    Raises
    ------
    ValueError
        If it cannot be read, or lacks a column or a number; the message names the file.
    """
    try:
        names, rows = read_rows(path)
        table = list(rows)
    except CatalogueError as error:
        raise ValueError(str(error)) from None
    missing = [name for name in _GEOMETRY if name not in names]
    if missing:
        raise ValueError(f"{path}: it lacks {', '.join(missing)}; it has {', '.join(names)}")
    try:
        jd, sun, earth, phase = (np.array([float(row[name] or "") for row in table]) for name in _GEOMETRY)
    except ValueError as error:
        raise ValueError(f"{path}: {error}") from None
    return Geometry(jd, sun, earth, phase)


def rotation_points(
    parts: Sequence[CurvePart], options: CurveOptions, geometry: Geometry | None = None, slope: float = 0.15
) -> tuple[F64Array, F64Array, F64Array, list[str]] | Failed:
    """Return times [d], magnitudes, errors and session of the good points of several sessions.

    Parameters
    ----------
    parts : sequence of CurvePart
    options : CurveOptions
        Of its choices target, comparison stars and light count.
    geometry : Geometry, optional
        With it times are less the light time, magnitudes at 1 au from both and phase angle 0.
    slope : float
        G of the phase function.

    Returns
    -------
    Or Failed with the reason, naming the session.
    """
    times, values, errors, sessions = [], [], [], []
    for part in parts:
        curve = part_curve(part, options)
        if isinstance(curve, Failed):
            return Failed(f"{part.name}: {curve.reason}" if part.name else curve.reason)
        good = curve.good
        times.append(curve.jd_utc[good])
        values.append(curve.magnitude[good])
        errors.append(curve.magnitude_error[good])
        sessions += [part.name] * int(good.sum())
    if not sessions:
        return Failed("there is no good point")
    time, magnitude, error = (np.concatenate(one) for one in (times, values, errors))
    if geometry is not None:
        brought = reduced(time, magnitude, geometry, slope=slope)
        if isinstance(brought, Failed):
            return brought
        time, magnitude = brought
    return time, magnitude, error, sessions


def rotation_of(
    parts: Sequence[CurvePart], options: CurveOptions, *, shortest_h: float, longest_h: float, order: int | None = None,
    geometry: Geometry | None = None, slope: float = 0.15,
) -> Rotation | Failed:  # fmt: skip
    """Find the rotation period in several sessions (see `ulvar.lightcurves.find_rotation`).

    Raises
    ------
    ValueError
        If the range is not 0 < shortest < longest.
    """
    points = rotation_points(parts, options, geometry, slope)
    if isinstance(points, Failed):
        return points
    time, magnitude, error, sessions = points
    return find_rotation(time, magnitude, error, sessions, shortest_h=shortest_h, longest_h=longest_h, order=order)
