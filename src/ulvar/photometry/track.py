"""Where a moving target is on the sky, between the moments at which a table tells it."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import TYPE_CHECKING

import numpy as np

from ulvar.frames import in_circle

if TYPE_CHECKING:
    from scipy.interpolate import CubicSpline

# Seconds since 1970, RA and Dec [deg], in the order of time.
Track = tuple[tuple[float, float, float], ...]


def place_on_track(track: Track, seconds: float) -> tuple[float, float]:
    """Return (ra, dec) [deg] at a time, by cubic splines through the directions; NaN outside the times of the track.

    Parameters
    ----------
    track : tuple of (float, float, float)
        No time twice.
    seconds : float
        Since 1970.
    """
    if not track[0][0] <= seconds <= track[-1][0]:
        return math.nan, math.nan
    if len(track) == 1:
        return track[0][1:]
    x, y, z = _directions(track)(seconds)
    return in_circle(math.degrees(math.atan2(y, x))), math.degrees(math.atan2(z, math.hypot(x, y)))


@lru_cache(maxsize=64)
def _directions(track: Track) -> CubicSpline:
    # Vectors, for RA has a step at 0 h and says little close to a pole.
    from scipy.interpolate import CubicSpline

    seconds, ra, dec = np.array(track).T
    a, d = np.radians(ra), np.radians(dec)
    return CubicSpline(seconds, np.column_stack([np.cos(d) * np.cos(a), np.cos(d) * np.sin(a), np.sin(d)]))
