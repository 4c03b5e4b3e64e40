"""Rotation of a minor planet over sessions: their points on one scale of time and light."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from ulvar.engine import F64Array, Failed
from ulvar.flows.columns import read_columns
from ulvar.flows.curve import CurveOptions, CurvePart, part_curve
from ulvar.lightcurves import Geometry, reduced

_GEOMETRY = ("jd", "sun_au", "earth_au", "phase_deg")


def read_geometry(path: Path) -> Geometry:
    """Read an ephemeris of a body: columns jd [d], sun_au, earth_au [au], phase_deg [deg].

    Raises
    ------
    ValueError
        If it cannot be read, or lacks a column or a number; the message names the file.
    """
    told = read_columns(path, _GEOMETRY)
    return Geometry(*(told[name] for name in _GEOMETRY))


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
