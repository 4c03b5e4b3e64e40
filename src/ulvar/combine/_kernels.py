"""Per-pixel sorting, rejection bounds and weighted means over a stack of rows.

Pixels are taken in chunks that fit the first-level cache; a chunk is sorted along the frames by an
odd-even merge network (Batcher 1968), whose compare-exchange runs over a row vector without branches.
The NumPy reference of every method is in ``tests/combine/reference.py``.
"""

from __future__ import annotations

import numba
import numpy as np

from ulvar.combine._kernels_bounds import LINEAR, MEAN, MEDIAN, SIGMA, few_bounds, kept_bounds
from ulvar.combine._kernels_holed import holed_finish, holed_pixel, holed_sums, may_reject, one_pixel

CHUNK = 256


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


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _load(source, row, count):
    """Copy values, what is unknown as infinity, and count them, pixel by pixel; returns how many there are."""
    inf = np.float32(np.inf)
    known = 0
    for x in range(source.size):
        value = source[x]
        good = value == value
        row[x] = value if good else inf
        count[x] += np.float32(1.0) if good else np.float32(0.0)
        known += 1 if good else 0
    return known


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _exchange(first_row, second_row):
    for x in range(first_row.size):
        first, second = first_row[x], second_row[x]
        first_row[x] = first if first < second else second
        second_row[x] = second if first < second else first


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _add_deviations(source, weight, middle, total, plain, squares):
    for x in range(source.size):
        deviation = np.float64(source[x] - middle[x])
        total[x] += weight * deviation
        plain[x] += deviation
        squares[x] += deviation * deviation


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _add_plain_deviations(source, middle, total, squares):
    for x in range(source.size):
        deviation = np.float64(source[x] - middle[x])
        total[x] += deviation
        squares[x] += deviation * deviation


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _sort_chunk(buffer, pairs, size):
    for p in range(pairs.shape[0]):
        _exchange(buffer[pairs[p, 0], :size], buffer[pairs[p, 1], :size])


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _finish_chunk(middle, total, plain, squares, n, weight_sum, keep_middle, out, spread):
    for x in range(out.size):
        out[x] = middle[x] if keep_middle else np.float32(middle[x] + total[x] / weight_sum)
        # About the plain mean: a deviation is of the values, whatever they weigh.
        spread[x] = np.float32(np.sqrt(max(0.0, (squares[x] - plain[x] * plain[x] / n) / (n - 1.0))))


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _suspects(lowest, highest, early, late, middle, spread, z, usual, low, high, suspect):
    """Mark pixels of which a value lies beyond either of the first two spreads that clipping would use."""
    found = 0
    for x in range(middle.size):
        first = max((late[x] - early[x]) / z, usual)
        reach = min(first, max(spread[x], usual))
        beyond = (lowest[x] < middle[x] - low * reach) | (highest[x] > middle[x] + high * reach)
        flag = 1 if beyond & (first > np.float32(0.0)) else 0
        suspect[x] = flag
        found += flag
    return found


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _usual_spread(buffer, count, size, few, quantile_k, quantile_z, around):
    """The typical spread over a chunk's pixels, 0 when no pixel has values enough to tell."""
    m = 0
    for x in range(size):
        c = np.int64(count[x])
        if quantile_k[c] >= 0:
            k = quantile_k[c]
            around[m] = (buffer[c - 1 - k, x] - buffer[k, x]) / quantile_z[c]
            m += 1
        elif few and c >= 2:
            # Median of |a - b| is 0.954 of the spread; of the range of three 1.588.
            around[m] = (buffer[c - 1, x] - buffer[0, x]) / (0.954 if c == 2 else 1.588)
            m += 1
    return np.float64(np.median(around[:m])) if m > 0 else 0.0


@numba.njit(nogil=True, cache=True, error_model="numpy")
def combine_rows(
    stack, weights, method, low, high, few, pairs, quantile_k, quantile_z,
    out, spread_out, kept_out, rejected_low, rejected_high, low_out, high_out, weight_out,
):  # fmt: skip
    """Combine ``stack[frame, row, column]`` (float32, NaN = no data) along the frames.

    Sums run over whole row vectors, along the edges of dithered exposures too, where pixels lack some frames; the scalar
    rejection is only for pixels of which a value lies beyond the bounds that the method would start from. `few` judges
    two and three values by the spread of the pixels around.

    Outputs, all preallocated: `out` and `spread_out` float32 (value; sample deviation of what was kept,
    NaN for fewer than two), `kept_out` uint16, and per frame the rejected counts (int64). Unless they are empty: `low_out`
    and `high_out` uint16 (values rejected at each pixel), `weight_out` float32 (weight of what was kept, over all of it).
    """
    n, height, width = stack.shape
    buffer = np.empty((n, CHUNK), dtype=np.float32)
    column = np.empty(n, dtype=np.float32)
    scratch = np.empty(n, dtype=np.float32)
    around = np.empty(CHUNK, dtype=np.float32)
    all_middle = np.empty(CHUNK, dtype=np.float32)
    all_count = np.empty(CHUNK, dtype=np.float32)
    all_total = np.empty(CHUNK, dtype=np.float64)
    all_plain = np.empty(CHUNK, dtype=np.float64)
    all_squares = np.empty(CHUNK, dtype=np.float64)
    all_weight = np.empty(CHUNK, dtype=np.float64)
    here = np.empty(n, dtype=np.int64)
    all_suspect = np.empty(CHUNK, dtype=np.uint8)
    weight_sum = weights.sum()
    equal = weights.min() == 1.0 and weights.max() == 1.0
    clips = method != MEAN and method != MEDIAN
    maps = (low_out, high_out, weight_out)
    mapped = low_out.size > 0
    for y in range(height):
        for x0 in range(0, width, CHUNK):
            size = min(CHUNK, width - x0)
            middle, count = all_middle[:size], all_count[:size]
            total, squares, suspect = all_total[:size], all_squares[:size], all_suspect[:size]
            out_row, spread_row = out[y, x0 : x0 + size], spread_out[y, x0 : x0 + size]
            kept_row = kept_out[y, x0 : x0 + size]
            count[:] = np.float32(0.0)
            # A frame has the chunk wholly or not at all, but where its own edge runs through it.
            m, whole, here_sum = 0, True, 0.0
            for i in range(n):
                known = _load(stack[i, y, x0 : x0 + size], buffer[i, :size], count)
                if known == size:
                    here[m] = i
                    m += 1
                    here_sum += weights[i]
                elif known > 0:
                    whole = False
            if method != MEAN:
                _sort_chunk(buffer, pairs, size)
            usual = 0.0
            if clips and method != LINEAR:
                usual = _usual_spread(buffer, count, size, few, quantile_k, quantile_z, around)
            if not whole or m < 2 or here_sum <= 0.0:
                part = slice(x0, x0 + size)
                holed_sums(stack, weights, y, x0, method, buffer, count, middle, total, all_plain, squares, all_weight)
                holed_finish(
                    middle,
                    total,
                    all_plain,
                    squares,
                    all_weight,
                    count,
                    weight_sum,
                    method,
                    out_row,
                    spread_row,
                    kept_row,
                )
                if mapped:
                    low_out[y, part] = 0
                    high_out[y, part] = 0
                    weight_out[y, part] = (all_weight[:size] / weight_sum).astype(np.float32)
                if not clips:
                    continue
                for x in range(size):
                    if not may_reject(
                        buffer,
                        x,
                        np.int64(count[x]),
                        method,
                        few,
                        quantile_k,
                        quantile_z,
                        usual,
                        low,
                        high,
                        middle[x],
                        spread_row[x],
                    ):
                        continue
                    holed_pixel(
                        stack, weights, y, x0, x, np.int64(count[x]), method, low, high, few, quantile_k, quantile_z,
                        usual, buffer, column, scratch, out_row, spread_row, kept_row, rejected_low, rejected_high,
                        weight_sum, maps, y,
                    )  # fmt: skip
                continue
            # Deviations are summed about a value near the mean, so that squares do not cancel.
            if method == MEAN:
                middle[:] = stack[here[0], y, x0 : x0 + size]
            elif m % 2 == 1:
                middle[:] = buffer[m // 2, :size]
            else:
                middle[:] = np.float32(0.5) * (buffer[m // 2 - 1, :size] + buffer[m // 2, :size])
            total[:] = 0.0
            squares[:] = 0.0
            # With equal weights both sums are one.
            plain = total if equal else all_plain[:size]
            plain[:] = 0.0
            if equal:
                for j in range(m):
                    _add_plain_deviations(stack[here[j], y, x0 : x0 + size], middle, total, squares)
            else:
                for j in range(m):
                    i = here[j]
                    _add_deviations(stack[i, y, x0 : x0 + size], weights[i], middle, total, plain, squares)
            _finish_chunk(middle, total, plain, squares, m, here_sum, method == MEDIAN, out_row, spread_row)
            kept_row[:] = m
            if mapped:
                low_out[y, x0 : x0 + size] = 0
                high_out[y, x0 : x0 + size] = 0
                weight_out[y, x0 : x0 + size] = here_sum / weight_sum
            if not clips:
                continue
            suspect[:] = 1
            if method == SIGMA and m >= 4:
                k = quantile_k[m]
                found = _suspects(
                    buffer[0, :size], buffer[m - 1, :size], buffer[k, :size], buffer[m - 1 - k, :size], middle,
                    spread_row, np.float32(quantile_z[m]), np.float32(usual), np.float32(low), np.float32(high), suspect,
                )  # fmt: skip
                if found == 0:
                    continue
            for x in range(size):
                if suspect[x] == 0:
                    continue
                for i in range(m):
                    column[i] = buffer[i, x]
                if few and m <= 3:
                    lo, hi = few_bounds(column, m, low, high, usual)
                else:
                    lo, hi = kept_bounds(column, m, method, low, high, quantile_k, quantile_z, usual, scratch)
                if hi - lo == m or hi <= lo:
                    continue
                mean, spread, kept, weight, lows, highs = one_pixel(
                    stack, weights, y, x0 + x, column[lo], column[hi - 1], middle[x], rejected_low, rejected_high
                )
                out_row[x] = np.float32(middle[x] + mean)
                spread_row[x] = spread
                kept_row[x] = kept
                if mapped:
                    low_out[y, x0 + x], high_out[y, x0 + x] = lows, highs
                    weight_out[y, x0 + x] = weight / weight_sum
