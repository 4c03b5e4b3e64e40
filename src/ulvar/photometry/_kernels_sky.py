"""The sky in an annulus: clipped median, clipped mean, mode, plane."""

from __future__ import annotations

import math

import numba
import numpy as np

MEDIAN, MEAN, MODE, PLANE = 0, 1, 2, 3
# Variance of each estimate of n normal values over that of one, times n. Median and mean of the same values have the
# covariance of the mean (it is the sufficient statistic), so that of 3 median - 2 mean is 9 pi/2 - 12 + 4.
SHARES = np.array([math.pi / 2, 1.0, 4.5 * math.pi - 8.0, 1.0])


@numba.njit(nogil=True, cache=True)
def _sort_few(values, n):
    """Order the first `n` of `values`."""
    for i in range(1, n):
        v = values[i]
        j = i
        while j > 0 and values[j - 1] > v:
            values[j] = values[j - 1]
            j -= 1
        values[j] = v


@numba.njit(nogil=True, cache=True)
def _drawers(values, n, drawer, starts, some):
    """Lay values into 256 drawers of rising value, fine about their middle; comparing them one by one would take ten times as long.

    Drawer d holds the ranks from ``starts[d]`` to before ``starts[d + 1]``.
    """
    step = max(1, n // 16)
    m = min(16, n)
    for i in range(m):
        some[i] = values[i * step]
    _sort_few(some, m)
    low, high = some[m // 8], some[m - 1 - m // 8]
    low, high = low - (high - low), high + (high - low)
    scale = np.float32(256.0) / (high - low) if high > low else np.float32(0.0)
    starts[:] = 0
    for i in range(n):
        place = (values[i] - low) * scale
        drawer[i] = np.int32(min(max(place, np.float32(0.0)), np.float32(255.0)))
    for i in range(n):
        starts[np.int64(drawer[i]) + 1] += 1
    for d in range(256):
        starts[d + 1] += starts[d]


@numba.njit(nogil=True, cache=True)
def _drawer_of(starts, rank):
    """The drawer that holds a rank."""
    first, last = 0, 255
    while first < last:
        middle = (first + last + 1) // 2
        if starts[middle] <= rank:
            first = middle
        else:
            last = middle - 1
    return first


@numba.njit(nogil=True, cache=True)
def _open(values, n, drawer, d, some):
    """Put what a drawer holds in order."""
    m = 0
    for i in range(n):
        if drawer[i] == d:
            some[m] = values[i]
            m += 1
    if m > 40:
        some[:m].sort()
    else:
        _sort_few(some, m)


@numba.njit(nogil=True, cache=True)
def _greatest(values, n, drawer, starts, d):
    """Greatest value of a drawer, or of the next one under it that holds any."""
    while starts[d] == starts[d + 1]:
        d -= 1
    greatest = -np.inf
    for i in range(n):
        if drawer[i] == d and values[i] > greatest:
            greatest = np.float64(values[i])
    return greatest


@numba.njit(nogil=True, cache=True, fastmath={"reassoc", "contract"})
def _moments(values, n, low, high, about):
    """Sums of deviations and of their squares of values from `low` to `high`; in vectors, whatever the order of summing."""
    total = squares = 0.0
    for i in range(n):
        v = np.float64(values[i])
        d = v - about if low <= v <= high else 0.0
        total += d
        squares += d * d
    return total, squares


@numba.njit(nogil=True, cache=True)
def _counts(values, n, low, high):
    """How many values lie from `low` to `high`, and how many under `low`."""
    inside, under = 0, 0
    for i in range(n):
        v = np.float64(values[i])
        inside += low <= v <= high
        under += v < low
    return inside, under


@numba.njit(nogil=True, cache=True)
def clipped_sky(values, n):
    """Clip the first `n` of `values` at three deviations about their median until nothing more goes.

    Returns median, mean, standard deviation, and how many are left.
    """
    drawer, starts, some = (
        np.empty(n, dtype=np.uint8),
        np.empty(257, dtype=np.int64),
        np.empty(max(n, 16), dtype=np.float32),
    )
    _drawers(values, n, drawer, starts, some)
    low, high = -np.inf, np.inf
    below, count, opened = 0, n, -1
    median = mean = deviation = 0.0
    for _ in range(20):
        rank = below + count // 2
        d = _drawer_of(starts, rank)
        # Few values go at a time: the middle moves within a drawer.
        if d != opened:
            _open(values, n, drawer, d, some)
            opened = d
        place = rank - starts[d]
        median = np.float64(some[place])
        if count % 2 == 0:
            before = np.float64(some[place - 1]) if place > 0 else _greatest(values, n, drawer, starts, d - 1)
            median = 0.5 * (median + before)
        total, squares = _moments(values, n, low, high, median)
        mean = median + total / count
        deviation = math.sqrt(max(0.0, squares - total * total / count) / (count - 1))
        new_low, new_high = max(low, median - 3.0 * deviation), min(high, median + 3.0 * deviation)
        left, under = _counts(values, n, new_low, new_high)
        if left == count or left < 8:
            break
        low, high, below, count = new_low, new_high, under, left
    return median, mean, deviation, count


@numba.njit(nogil=True, cache=True)
def plane_sky(values, xs, ys, n):
    """Fit a plane to values at offsets from a centre, clipped at three deviations.

    Returns its height at the centre, the standard deviation about it, how many values are left, and the variance of the height over
    that of one value, times their number. NaN where the places tell no plane.
    """
    keep = np.ones(n, dtype=np.bool_)
    median, _, deviation, count = clipped_sky(values, n)
    # Stars are far over any slope of the sky across an annulus.
    for i in range(n):
        keep[i] = abs(values[i] - median) <= 6.0 * deviation
    height, spread, share = np.nan, np.nan, np.nan
    for _ in range(12):
        s0 = sx = sy = sxx = sxy = syy = sz = sxz = syz = 0.0
        for i in range(n):
            if keep[i]:
                x, y, z = xs[i], ys[i], np.float64(values[i]) - median
                s0 += 1.0
                sx += x
                sy += y
                sxx += x * x
                sxy += x * y
                syy += y * y
                sz += z
                sxz += x * z
                syz += y * z
        c00, c01, c02 = sxx * syy - sxy * sxy, sxy * sy - sx * syy, sx * sxy - sxx * sy
        det = s0 * c00 + sx * c01 + sy * c02
        if s0 < 8.0 or det <= 1e-9 * s0 * sxx * syy:
            return np.nan, np.nan, 0, np.nan
        a = (c00 * sz + c01 * sxz + c02 * syz) / det
        b = (c01 * sz + (s0 * syy - sy * sy) * sxz + (sx * sy - s0 * sxy) * syz) / det
        c = (c02 * sz + (sx * sy - s0 * sxy) * sxz + (s0 * sxx - sx * sx) * syz) / det
        squares = 0.0
        for i in range(n):
            if keep[i]:
                squares += (values[i] - median - a - b * xs[i] - c * ys[i]) ** 2
        spread = math.sqrt(squares / (s0 - 3.0))
        height, share, count = median + a, c00 / det * s0, int(s0)
        gone = 0
        for i in range(n):
            inside = abs(values[i] - median - a - b * xs[i] - c * ys[i]) <= 3.0 * spread
            if inside != keep[i]:
                gone += 1
            keep[i] = inside
        if gone == 0:
            break
    return height, spread, count, share
