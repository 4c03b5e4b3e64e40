"""Per-pixel sorting, rejection bounds and weighted means over a stack of rows.

Pixels are taken in chunks that fit the first-level cache; a chunk is sorted along the frames by an
odd-even merge network (Batcher 1968), whose compare-exchange runs over a row vector without branches.
The NumPy reference of every method is in ``tests/combine/reference.py``.
"""

from __future__ import annotations

import numba
import numpy as np

CHUNK = 256

MEAN, MEDIAN, SIGMA, WINSORIZED, MAD, LINEAR = range(6)


def merge_network(n: int) -> np.ndarray:
    """Return the compare-exchange pairs that sort `n` items, int32 of shape (pairs, 2).

    The network of the next power of two is cut: items past `n` would be +inf and never move.
    """
    size = 1
    while size < n:
        size *= 2
    pairs = []
    p = 1
    while p < size:
        k = p
        while k >= 1:
            for j in range(k % p, size - k, 2 * k):
                for i in range(min(k, size - j - k)):
                    if (i + j) // (2 * p) == (i + j + k) // (2 * p) and i + j + k < n:
                        pairs.append((i + j, i + j + k))
            k //= 2
        p *= 2
    return np.array(pairs, dtype=np.int32).reshape(-1, 2)


@numba.njit(nogil=True, cache=True, inline="always")
def _sorted_median(values, lo, hi):
    middle = (lo + hi) // 2
    if (hi - lo) % 2 == 1:
        return np.float64(values[middle])
    return 0.5 * (np.float64(values[middle - 1]) + np.float64(values[middle]))


@numba.njit(nogil=True, cache=True)
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
        centre = _sorted_median(values, lo, hi)
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


@numba.njit(nogil=True, cache=True)
def _winsorized_bounds(values, n, low, high, quantile_k, quantile_z, usual):
    """Clipping with the spread of winsorized data (Huber 1981: limits 1.5 sigma, factor 1.134)."""
    k = quantile_k[n]
    if k < 0:
        return 0, n
    centre = _sorted_median(values, 0, n)
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


@numba.njit(nogil=True, cache=True)
def _mad_bounds(values, n, low, high, scratch, usual):
    """Clipping with 1.4826 times the median absolute deviation."""
    if n < 4:
        return 0, n
    centre = _sorted_median(values, 0, n)
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
    spread = max(1.4826 * _sorted_median(scratch, 0, n), usual)
    lo, hi = 0, n
    if spread <= 0.0:
        return lo, hi
    while lo < hi and values[lo] < centre - low * spread:
        lo += 1
    while hi > lo and values[hi - 1] > centre + high * spread:
        hi -= 1
    return lo, hi


@numba.njit(nogil=True, cache=True)
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


@numba.njit(nogil=True, cache=True)
def combine_rows(
    stack, weights, method, low, high, pairs, quantile_k, quantile_z,
    out, spread_out, kept_out, rejected_low, rejected_high,
):  # fmt: skip
    """Combine ``stack[frame, row, column]`` (float32, NaN = no data) along the frames.

    Outputs, all preallocated: `out` and `spread_out` float32 (value; sample deviation of what was kept,
    NaN for fewer than two), `kept_out` uint16, and per frame the rejected counts (int64).
    """
    n, height, width = stack.shape
    buffer = np.empty((n, CHUNK), dtype=np.float32)
    column = np.empty(n, dtype=np.float32)
    scratch = np.empty(n, dtype=np.float32)
    floor = np.empty(CHUNK, dtype=np.float32)
    ceiling = np.empty(CHUNK, dtype=np.float32)
    middle = np.empty(CHUNK, dtype=np.float32)
    count = np.empty(CHUNK, dtype=np.int64)
    total = np.empty(CHUNK, dtype=np.float64)
    squares = np.empty(CHUNK, dtype=np.float64)
    weight_sum = np.empty(CHUNK, dtype=np.float64)
    kept = np.empty(CHUNK, dtype=np.int64)
    around = np.empty(CHUNK, dtype=np.float32)
    inf = np.float32(np.inf)
    for y in range(height):
        for x0 in range(0, width, CHUNK):
            size = min(CHUNK, width - x0)
            count[:size] = 0
            for i in range(n):
                for x in range(size):
                    value = stack[i, y, x0 + x]
                    good = value == value
                    buffer[i, x] = value if good else inf
                    count[x] += 1 if good else 0
            floor[:size] = -inf
            ceiling[:size] = inf
            if method != MEAN:
                for p in range(pairs.shape[0]):
                    a, b = pairs[p, 0], pairs[p, 1]
                    for x in range(size):
                        first, second = buffer[a, x], buffer[b, x]
                        buffer[a, x] = first if first < second else second
                        buffer[b, x] = second if first < second else first
                usual = 0.0
                if method != MEDIAN and method != LINEAR:
                    m = 0
                    for x in range(size):
                        c = count[x]
                        k = quantile_k[c]
                        if k >= 0:
                            around[m] = (buffer[c - 1 - k, x] - buffer[k, x]) / quantile_z[c]
                            m += 1
                    if m > 0:
                        usual = np.float64(np.median(around[:m]))
                for x in range(size):
                    c = count[x]
                    if c == 0:
                        continue
                    for i in range(c):
                        column[i] = buffer[i, x]
                    lo, hi = 0, c
                    if method == SIGMA:
                        lo, hi = _sigma_bounds(column, c, low, high, quantile_k, quantile_z, usual)
                    elif method == WINSORIZED:
                        lo, hi = _winsorized_bounds(column, c, low, high, quantile_k, quantile_z, usual)
                    elif method == MAD:
                        lo, hi = _mad_bounds(column, c, low, high, scratch, usual)
                    elif method == LINEAR:
                        lo, hi = _linear_bounds(column, c, low, high)
                    if hi > lo:
                        floor[x], ceiling[x] = column[lo], column[hi - 1]
                    middle[x] = np.float32(_sorted_median(column, 0, c))
            total[:size] = 0.0
            squares[:size] = 0.0
            weight_sum[:size] = 0.0
            kept[:size] = 0
            # Deviations are summed about a value near the mean, so that squares do not cancel.
            for x in range(size):
                if method == MEAN:
                    middle[x] = stack[0, y, x0 + x]
                    if not (middle[x] == middle[x]):
                        middle[x] = np.float32(0.0)
            for i in range(n):
                w = weights[i]
                lows = 0
                highs = 0
                for x in range(size):
                    value = stack[i, y, x0 + x]
                    below = value < floor[x]
                    above = value > ceiling[x]
                    lows += 1 if below else 0
                    highs += 1 if above else 0
                    keep = (value == value) and not below and not above
                    deviation = np.float64(value - middle[x]) if keep else 0.0
                    total[x] += w * deviation
                    squares[x] += deviation * deviation
                    weight_sum[x] += w if keep else 0.0
                    kept[x] += 1 if keep else 0
                rejected_low[i] += lows
                rejected_high[i] += highs
            for x in range(size):
                k = kept[x]
                kept_out[y, x0 + x] = k
                if k == 0 or weight_sum[x] <= 0.0:
                    out[y, x0 + x] = np.nan
                    spread_out[y, x0 + x] = np.nan
                    continue
                mean = total[x] / weight_sum[x]
                out[y, x0 + x] = middle[x] if method == MEDIAN else np.float32(middle[x] + mean)
                if k > 1:
                    spread_out[y, x0 + x] = np.sqrt(max(0.0, (squares[x] - k * mean * mean) / (k - 1)))
                else:
                    spread_out[y, x0 + x] = np.nan
