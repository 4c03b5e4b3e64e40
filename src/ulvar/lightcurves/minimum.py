"""Time of minimum from the symmetry of a light curve."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array, Failed


@dataclass(frozen=True)
class Minimum:
    """A timed minimum: `time` and `error` [d], and how many points took part."""

    time: float
    error: float
    points: int


def kwee_van_woerden(time: F64Array, magnitude: F64Array, *, near: float, half_width: float) -> Minimum | Failed:
    """Time a minimum by folding the light curve onto itself.

    Kwee & van Woerden 1956, BAN 12, 327: magnitudes at equal steps are reflected about three trial times half
    a step apart; the sum of squared differences is a parabola of the trial time, whose minimum is the time sought.

    Parameters
    ----------
    time : float64 array, shape (n,)
        [d], in any order.
    magnitude : float64 array, shape (n,)
        [mag].
    near : float
        A first time [d].
    half_width : float
        Points within this of it take part [d].

    Returns
    -------
    Minimum, or Failed when there are too few points or no minimum.
    """
    order = np.argsort(time)
    t, m = time[order], magnitude[order]
    good = np.isfinite(t) & np.isfinite(m)
    t, m = t[good], m[good]
    centre = near
    for _ in range(12):
        inside = np.abs(t - centre) <= half_width
        n = int(inside.sum())
        if n < 7:
            return Failed(f"only {n} points around the minimum, at least 7 are needed")
        step = 2 * half_width / (n | 1)
        half = (n | 1) // 2
        grid = centre + step * np.arange(-half, half + 1)
        if grid[0] < t[0] - step or grid[-1] > t[-1] + step:
            return Failed("the light curve does not cover both sides of the minimum")
        values = np.interp(grid, t, m)
        middle = half
        sums = []
        for shift in (-1, 0, 1):
            # Trial times half a step apart: indices i and (2 middle + shift - i) are mirror images.
            i = np.arange(len(grid))
            j = 2 * middle + shift - i
            pair = (j > i) & (j < len(grid))
            difference = values[i[pair]] - values[j[pair]]
            sums.append(float((difference**2).sum()) / max(1, int(pair.sum())) * half)
        low, mid, high = sums
        a = 0.5 * (low + high) - mid
        b = 0.5 * (high - low)
        if a <= 0:
            return Failed("there is no minimum of the folded sum")
        shift_steps = -b / (2 * a) * 0.5
        new = centre + shift_steps * step
        if abs(new - near) > half_width:
            return Failed("the minimum lies outside the points given")
        settled = abs(new - centre) < 1e-3 * step
        centre = new
        if settled:
            break
    # In the paper's units the trial step is half the grid step.
    lowest = mid - b * b / (4 * a)
    independent = max(2.0, n / 4)
    error = 0.5 * step * math.sqrt(max(0.0, lowest) / (a * (independent - 1)))
    return Minimum(centre, error, n)
