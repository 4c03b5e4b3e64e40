"""Which of a pixel's sorted values are kept: the rejection methods, one function each."""

from __future__ import annotations

import numba
import numpy as np

MEAN, MEDIAN, SIGMA, WINSORIZED, MAD, LINEAR = range(6)


@numba.njit(nogil=True, cache=True, error_model="numpy", inline="always")
def sorted_median(values, lo, hi):
    middle = (lo + hi) // 2
    if (hi - lo) % 2 == 1:
        return np.float64(values[middle])
    return 0.5 * (np.float64(values[middle - 1]) + np.float64(values[middle]))


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _sigma_bounds(values, n, low, high, quantile_k, quantile_z, usual):
    """Indices [lo, hi) kept by iterated clipping about the median.

    The first spread comes from two order statistics, so that a single large outlier cannot hide itself
    among few frames; later spreads are standard deviations of what is kept. No spread is taken for smaller
    than `usual`, that of the pixels around: a few values that happen to agree would reject their fellows.
    """
    lo, hi = 0, n
    k = quantile_k[n]
    if k < 0:
        return lo, hi
    spread = max((np.float64(values[n - 1 - k]) - np.float64(values[k])) / quantile_z[n], usual)
    for step in range(12):
        if spread <= 0.0:
            break
        centre = sorted_median(values, lo, hi)
        floor, ceiling = centre - low * spread, centre + high * spread
        new_lo, new_hi = lo, hi
        while new_lo < new_hi and values[new_lo] < floor:
            new_lo += 1
        while new_hi > new_lo and values[new_hi - 1] > ceiling:
            new_hi -= 1
        if new_hi - new_lo < 2:
            break
        changed = new_lo != lo or new_hi != hi
        lo, hi = new_lo, new_hi
        if step > 0 and not changed:
            break
        mean = 0.0
        for i in range(lo, hi):
            mean += values[i]
        mean /= hi - lo
        total = 0.0
        for i in range(lo, hi):
            total += (values[i] - mean) ** 2
        new_spread = max(np.sqrt(total / (hi - lo - 1)), usual)
        # The spread of clipped data may only fall; without this a rejected tail could come back.
        spread = min(spread, new_spread) if step > 0 else new_spread
    return lo, hi


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _winsorized_bounds(values, n, low, high, quantile_k, quantile_z, usual):
    """Clipping with the spread of winsorized data (Huber 1981: limits 1.5 sigma, factor 1.134)."""
    k = quantile_k[n]
    if k < 0:
        return 0, n
    centre = sorted_median(values, 0, n)
    spread = (np.float64(values[n - 1 - k]) - np.float64(values[k])) / quantile_z[n]
    for _ in range(10):
        if spread <= 0.0:
            return 0, n
        floor, ceiling = centre - 1.5 * spread, centre + 1.5 * spread
        mean = 0.0
        for i in range(n):
            mean += min(max(np.float64(values[i]), floor), ceiling)
        mean /= n
        total = 0.0
        for i in range(n):
            total += (min(max(np.float64(values[i]), floor), ceiling) - mean) ** 2
        new_spread = 1.134 * np.sqrt(total / (n - 1))
        if abs(new_spread - spread) < 5e-4 * spread:
            spread = new_spread
            break
        spread = new_spread
    spread = max(spread, usual)
    lo, hi = 0, n
    while lo < hi and values[lo] < centre - low * spread:
        lo += 1
    while hi > lo and values[hi - 1] > centre + high * spread:
        hi -= 1
    return lo, hi


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _mad_bounds(values, n, low, high, scratch, usual):
    """Clipping with 1.4826 times the median absolute deviation."""
    if n < 4:
        return 0, n
    centre = sorted_median(values, 0, n)
    # Deviations come out in order by walking outwards from the median from both sides.
    right = 0
    while right < n and values[right] < centre:
        right += 1
    left = right - 1
    for i in range(n):
        if left < 0 or (right < n and values[right] - centre <= centre - values[left]):
            scratch[i] = values[right] - centre
            right += 1
        else:
            scratch[i] = centre - values[left]
            left -= 1
    spread = max(1.4826 * sorted_median(scratch, 0, n), usual)
    lo, hi = 0, n
    if spread <= 0.0:
        return lo, hi
    while lo < hi and values[lo] < centre - low * spread:
        lo += 1
    while hi > lo and values[hi - 1] > centre + high * spread:
        hi -= 1
    return lo, hi


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _linear_bounds(values, n, low, high):
    """Reject what lies off a straight line through the sorted values (drifting levels give such lines)."""
    lo, hi = 0, n
    for _ in range(12):
        count = hi - lo
        if count < 5:
            break
        mean_x = 0.5 * (lo + hi - 1)
        mean_y = 0.0
        for i in range(lo, hi):
            mean_y += values[i]
        mean_y /= count
        xx = 0.0
        xy = 0.0
        for i in range(lo, hi):
            xx += (i - mean_x) ** 2
            xy += (i - mean_x) * (values[i] - mean_y)
        slope = xy / xx
        deviation = 0.0
        for i in range(lo, hi):
            deviation += abs(values[i] - mean_y - slope * (i - mean_x))
        deviation /= count
        if deviation <= 0.0:
            break
        new_lo, new_hi = lo, hi
        if mean_y + slope * (lo - mean_x) - values[lo] > low * deviation:
            new_lo += 1
        if values[hi - 1] - mean_y - slope * (hi - 1 - mean_x) > high * deviation:
            new_hi -= 1
        if new_lo == lo and new_hi == hi:
            break
        lo, hi = new_lo, new_hi
    return lo, hi


@numba.njit(nogil=True, cache=True, error_model="numpy")
def kept_bounds(column, c, method, low, high, quantile_k, quantile_z, usual, scratch):
    """Indices [lo, hi) that a method keeps of `c` sorted values."""
    if method == SIGMA:
        return _sigma_bounds(column, c, low, high, quantile_k, quantile_z, usual)
    if method == WINSORIZED:
        return _winsorized_bounds(column, c, low, high, quantile_k, quantile_z, usual)
    if method == MAD:
        return _mad_bounds(column, c, low, high, scratch, usual)
    if method == LINEAR:
        return _linear_bounds(column, c, low, high)
    return 0, c


@numba.njit(nogil=True, cache=True, error_model="numpy")
def few_bounds(column, c, low, high, usual):
    """Indices kept of two or three sorted values, judged by the spread `usual` of the pixels around.

    Of two values the higher goes when they lie apart by more than their difference can scatter: what falls
    on a calibration frame by accident (cosmic rays, light) is positive.
    """
    if usual <= 0.0:
        return 0, c
    if c == 2:
        return (0, 1) if column[1] - column[0] > 1.4142 * high * usual else (0, 2)
    # The distance of an extreme from the middle of three scatters by 0.75 of the spread, with longer tails.
    lo = 1 if column[1] - column[0] > 1.25 * low * usual else 0
    hi = 2 if column[2] - column[1] > 1.25 * high * usual else 3
    return lo, hi


# The loops below run over whole one-dimensional views, counted from 0: only then can the compiler prove that no
# index wraps around, and make vectors of them.
