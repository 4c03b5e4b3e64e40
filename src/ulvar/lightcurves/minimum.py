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


# So often residuals are moved along to learn how far noise moves a minimum.
_SHIFTS = 48
# Half of the points that take part, over the duration: of a round minimum its inside, of a flat one both edges.
_ROUND, _FLAT, _FLAT_SHARE = 0.36, 0.6, 0.35


def fold_about(
    time: F64Array, magnitude: F64Array, model: F64Array, *, near: float, duration_d: float, flat_d: float = 0.0
) -> Minimum | Failed:
    """Time a minimum by folding, with an error that holds what the noise really does, correlated or not.

    Parameters
    ----------
    time : float64 array, shape (n,)
        [d]
    magnitude, model : float64 array, shape (n,)
        Without trends, and what a fit tells [mag].
    near, duration_d : float
        Middle and first to last contact of the fit [d].
    flat_d : float
        How long its bottom is flat [d]: there a fold sees nothing.

    Returns
    -------
    Minimum, or Failed as `kwee_van_woerden`.

    Notes
    -----
    The error is the scatter of the times of the model with the residuals moved along from point to point (as in Winn et al. 2008, ApJ 683,
    1076, sect. 3), or the paper's own where that is larger.
    """
    half = (_FLAT if flat_d > _FLAT_SHARE * duration_d else _ROUND) * duration_d
    found = kwee_van_woerden(time, magnitude, near=near, half_width=half)
    if isinstance(found, Failed):
        return found
    order = np.argsort(time)
    t, clean, residual = time[order], model[order], (magnitude - model)[order]
    n = len(t)
    times = []
    for shift in np.unique(np.linspace(1, n - 1, min(_SHIFTS, n - 1)).astype(int)):
        again = kwee_van_woerden(t, clean + np.roll(residual, int(shift)), near=near, half_width=half)
        if not isinstance(again, Failed):
            times.append(again.time)
    spread = float(np.std(times, ddof=1)) if len(times) > 8 else 0.0
    return Minimum(found.time, max(found.error, spread), found.points)
