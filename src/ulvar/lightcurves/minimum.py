"""Time of minimum from the symmetry of a light curve."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array, Failed, counted

# Longer steps than this, in usual ones, are gaps.
_GAP = 5.0


@dataclass(frozen=True)
class Minimum:
    """A timed minimum: `time` and `error` [d], and how many points took part."""

    time: float
    error: float
    points: int


def kwee_van_woerden(
    time: F64Array, magnitude: F64Array, *, near: float, half_width: float,
    bridge: Callable[[F64Array], F64Array] | None = None,
) -> Minimum | Failed:  # fmt: skip
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
    bridge : callable, optional
        Magnitudes by time, about as they are in gaps; else gaps are bridged by straight lines.

    Returns
    -------
    Minimum, or Failed when there are too few points or no minimum.
    """
    order = np.argsort(time)
    t, m = time[order], magnitude[order]
    good = np.isfinite(t) & np.isfinite(m)
    t, m = t[good], m[good]
    centre = near
    around = t[np.abs(t - near) <= 2 * half_width]
    widest = _GAP * float(np.median(np.diff(around))) if len(around) > 2 else math.inf
    for _ in range(12):
        inside = np.abs(t - centre) <= half_width
        n = int(inside.sum())
        if n < 7:
            return Failed(f"only {counted(n, 'point')} around the minimum, at least 7 are needed")
        step = 2 * half_width / (n | 1)
        half = (n | 1) // 2
        grid: F64Array = centre + step * np.arange(-half, half + 1, dtype=np.float64)
        if grid[0] < t[0] - step or grid[-1] > t[-1] + step:
            return Failed("the light curve does not cover both sides of the minimum")
        values = np.interp(grid, t, m)
        if bridge is not None:
            # A straight line over a gap is no light.
            after = np.clip(np.searchsorted(t, grid), 1, len(t) - 1)
            gap = t[after] - t[after - 1] > widest
            values[gap] = (bridge(grid) + np.interp(grid, t, m - bridge(t)))[gap]
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


# Where the folded sums are larger than noise makes them in this share of draws, the paper's error is taken.
_ODD = 0.95
# Half of the points that take part, over the duration: of a round minimum its inside, of a flat one both edges.
_ROUND, _FLAT, _FLAT_SHARE = 0.36, 0.6, 0.35
# Of fewer draws nothing can be said.
_LEAST_DRAWS = 8


def fold_about(
    time: F64Array, magnitude: F64Array, model: Callable[[F64Array], F64Array], noise: F64Array, *, near: float, duration_d: float,
    flat_d: float = 0.0,
) -> Minimum | Failed:  # fmt: skip
    """Time a minimum by folding, with an error that holds what the noise really does, correlated or not.

    Parameters
    ----------
    time : float64 array, shape (n,)
        [d]
    magnitude : float64 array, shape (n,)
        Without trends [mag].
    model : callable
        What a fit tells by time [mag]; it bridges gaps.
    noise : float64 array, shape (draws, n)
        Made-up noise like that of the points [mag], see `noise_like`.
    near, duration_d : float
        Middle and first to last contact of the fit [d].
    flat_d : float
        How long its bottom is flat [d]: there a fold sees nothing.

    Returns
    -------
    Minimum, or Failed as `kwee_van_woerden`.

    Notes
    -----
    The error is the scatter of the times of the model with made-up noise, or the paper's own where what the fold leaves is more than
    noise leaves: then the minimum is not symmetric.
    """
    half = (_FLAT if flat_d > _FLAT_SHARE * duration_d else _ROUND) * duration_d
    found = kwee_van_woerden(time, magnitude, near=near, half_width=half, bridge=model)
    if isinstance(found, Failed):
        return found
    clean = model(time)
    made = [
        again
        for one in noise
        if not isinstance(
            again := kwee_van_woerden(time, clean + one, near=near, half_width=half, bridge=model), Failed
        )
    ]
    if len(made) < _LEAST_DRAWS:
        return found
    times = np.array([one.time for one in made])
    # What gaps do to the fold of the model itself is an error, too.
    spread = math.hypot(float(np.std(times, ddof=1)), float(np.mean(times)) - near)
    odd = found.error > float(np.quantile([one.error for one in made], _ODD))
    return Minimum(found.time, max(found.error, spread) if odd else spread, found.points)
