"""Pixels one by one, and chunks of pixels that lack some frames: the edges of dithered exposures."""

from __future__ import annotations

import numba
import numpy as np

from ulvar.combine._kernels_bounds import MEAN, MEDIAN, SIGMA, few_bounds, kept_bounds, sorted_median


@numba.njit(nogil=True, cache=True, error_model="numpy")
def one_pixel(stack, weights, y, x, floor, ceiling, centre, rejected_low, rejected_high):
    """Weighted mean, sample deviation, count and weights of one pixel's values inside bounds; counts what it rejects."""
    total = 0.0
    plain = 0.0
    squares = 0.0
    weight_sum = 0.0
    kept, lows, highs = 0, 0, 0
    for i in range(stack.shape[0]):
        value = stack[i, y, x]
        if not (value == value):
            continue
        if value < floor:
            rejected_low[i] += 1
            lows += 1
        elif value > ceiling:
            rejected_high[i] += 1
            highs += 1
        else:
            deviation = np.float64(value - centre)
            total += weights[i] * deviation
            plain += deviation
            squares += deviation * deviation
            weight_sum += weights[i]
            kept += 1
    if weight_sum <= 0.0:
        return np.nan, np.nan, kept, 0.0, lows, highs
    mean = total / weight_sum
    spread = np.nan
    if kept > 1:
        spread = np.sqrt(max(0.0, (squares - plain * plain / kept) / (kept - 1)))
    return mean, spread, kept, weight_sum, lows, highs


@numba.njit(nogil=True, cache=True, error_model="numpy")
def holed_pixel(
    stack, weights, y, x0, x, c, method, low, high, few, quantile_k, quantile_z, usual, buffer, column, scratch,
    out, spread_out, kept_out, rejected_low, rejected_high, weight_sum, maps, place,
):  # fmt: skip
    """Reject values of one pixel of a chunk of which `c` frames, two or more, have data; without any it stays as it is."""
    for i in range(c):
        column[i] = buffer[i, x]
    centre = np.float32(sorted_median(column, 0, c))
    if few and c <= 3:
        lo, hi = few_bounds(column, c, low, high, usual)
    else:
        lo, hi = kept_bounds(column, c, method, low, high, quantile_k, quantile_z, usual, scratch)
    if hi - lo == c or hi <= lo:
        return
    mean, spread, kept, weight, lows, highs = one_pixel(
        stack, weights, y, x0 + x, column[lo], column[hi - 1], centre, rejected_low, rejected_high
    )
    out[x] = np.float32(centre + mean)
    spread_out[x] = spread
    kept_out[x] = kept
    if maps[0].size > 0:
        maps[0][place, x0 + x], maps[1][place, x0 + x] = lows, highs
        maps[2][place, x0 + x] = weight / weight_sum


@numba.njit(nogil=True, cache=True, error_model="numpy")
def holed_sums(stack, weights, y, x0, method, buffer, count, middle, total, plain, squares, weight):
    """Sums of a chunk's values about a value near their mean, where some frames have no data."""
    size = middle.size
    for x in range(size):
        c = np.int64(count[x])
        middle[x] = np.float32(sorted_median(buffer[:, x], 0, c)) if c > 0 and method != MEAN else np.float32(0.0)
        total[x], plain[x], squares[x], weight[x] = 0.0, 0.0, 0.0, 0.0
    if method == MEAN:
        for i in range(stack.shape[0] - 1, -1, -1):
            for x in range(size):
                value = stack[i, y, x0 + x]
                middle[x] = value if value == value else middle[x]
    for i in range(stack.shape[0]):
        w = weights[i]
        for x in range(size):
            value = stack[i, y, x0 + x]
            good = value == value
            deviation = np.float64(value - middle[x]) if good else 0.0
            total[x] += w * deviation
            plain[x] += deviation
            squares[x] += deviation * deviation
            weight[x] += w if good else 0.0


@numba.njit(nogil=True, cache=True, error_model="numpy")
def holed_finish(middle, total, plain, squares, weight, count, weight_sum, method, out, spread, kept):
    for x in range(out.size):
        c = np.int64(count[x])
        kept[x] = c
        if c == 0 or weight[x] <= 0.0:
            weight[x] = 0.0
            out[x], spread[x] = np.float32(np.nan), np.float32(np.nan)
        else:
            out[x] = np.float32(middle[x] + total[x] / weight[x])
            squared = (squares[x] - plain[x] * plain[x] / c) / (c - 1) if c > 1 else np.nan
            spread[x] = np.float32(np.sqrt(max(0.0, squared))) if c > 1 else np.float32(np.nan)
        if method == MEDIAN and c > 0:
            out[x] = middle[x]


@numba.njit(nogil=True, cache=True, error_model="numpy")
def may_reject(buffer, x, c, method, few, quantile_k, quantile_z, usual, low, high, middle, spread):
    """Whether a pixel's values are to be looked at one by one: the bounds that clipping would start from for as many as it has."""
    if c < 2:
        return False
    k = quantile_k[c]
    if method != SIGMA or k < 0:
        # Two and three values are judged, where they are, by the pixels around.
        return method != SIGMA or few
    first = max((np.float64(buffer[c - 1 - k, x]) - np.float64(buffer[k, x])) / quantile_z[c], usual)
    reach = min(first, max(np.float64(spread), usual))
    beyond = buffer[0, x] < middle - low * reach or buffer[c - 1, x] > middle + high * reach
    return beyond and first > 0.0
