"""Per-pixel sorting, rejection bounds and weighted means over a stack of rows.

Pixels are taken in chunks that fit the cache; a chunk is sorted along the frames by an odd-even merge network
(Batcher 1968), whose compare-exchange runs over row vectors without branches.
The NumPy reference of every method is in ``tests/combine/reference.py``.
"""

from __future__ import annotations

import numba
import numpy as np

from ulvar.combine._kernels_bounds import LINEAR, MEAN, MEDIAN, SIGMA, few_bounds, kept_bounds
from ulvar.combine._kernels_holed import holed_finish, holed_pixel, holed_sums, may_reject, one_pixel
from ulvar.combine._kernels_rows import (
    BLOCK,
    add_four,
    add_four_weighted,
    add_one,
    add_one_weighted,
    all_unknown,
    any_unknown,
    between,
    copy,
    exchange,
    finish,
    load,
    median_of_spreads,
    middle_of,
    scale,
    sort_block,
    suspects,
)


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


# Cutting a run out of an array is compiled once, and not wherever it is done.
@numba.njit(nogil=True, cache=True, error_model="numpy")
def _run(stack, i, y, x0, size):
    return stack[i, y, x0 : x0 + size]


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _row(buffer, j, size):
    return buffer[j, :size]


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _sort_chunk(buffer, pairs, size):
    for p in range(pairs.shape[0]):
        exchange(_row(buffer, pairs[p, 0], size), _row(buffer, pairs[p, 1], size))


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _there(stack, y, x0, size, here):
    """How many frames seem to have a chunk wholly, and whether the others have nothing of it; writes which into `here`."""
    m = 0
    for i in range(stack.shape[0]):
        first, last = stack[i, y, x0], stack[i, y, x0 + size - 1]
        if first == first and last == last:
            here[m] = i
            m += 1
        elif first == first or last == last or not all_unknown(_run(stack, i, y, x0, size)):
            return m, False
    return m, True


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _sum_whole(stack, weights, equal, y, x0, size, here, m, base, total, plain, squares):
    """Sums of the deviations from the first frame's values; returns the frames' weight and whether all values were known."""
    copy(_run(stack, here[0], y, x0, size), base)
    total[:] = 0.0
    squares[:] = 0.0
    four = np.empty(4, dtype=np.float64)
    weight = 0.0
    if equal:
        j = 0
        while j + 4 <= m:
            a, b, c, d = here[j], here[j + 1], here[j + 2], here[j + 3]
            add_four(
                _run(stack, a, y, x0, size),
                _run(stack, b, y, x0, size),
                _run(stack, c, y, x0, size),
                _run(stack, d, y, x0, size),
                base,
                total,
                squares,
            )
            j += 4
        while j < m:
            add_one(_run(stack, here[j], y, x0, size), base, total, squares)
            j += 1
        copy(total, plain)
        scale(total, weights[0])
        return weights[0] * m, not any_unknown(plain)
    plain[:] = 0.0
    j = 0
    while j + 4 <= m:
        a, b, c, d = here[j], here[j + 1], here[j + 2], here[j + 3]
        four[0], four[1], four[2], four[3] = weights[a], weights[b], weights[c], weights[d]
        add_four_weighted(
            _run(stack, a, y, x0, size), _run(stack, b, y, x0, size), _run(stack, c, y, x0, size), _run(stack, d, y, x0, size),
            four, base, total, plain, squares,
        )  # fmt: skip
        weight += four[0] + four[1] + four[2] + four[3]
        j += 4
    while j < m:
        add_one_weighted(_run(stack, here[j], y, x0, size), weights[here[j]], base, total, plain, squares)
        weight += weights[here[j]]
        j += 1
    # A frame of no weight tells of its gaps in the plain sum alone.
    return weight, not any_unknown(plain)


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _sort_whole(stack, y, x0, size, here, m, early, late, buffer):
    """Write the values of the frames that are there into the buffer, ordered at each pixel."""
    j = 0
    while j + BLOCK <= m:
        sort_block(
            _run(stack, here[j], y, x0, size), _run(stack, here[j + 1], y, x0, size), _run(stack, here[j + 2], y, x0, size),
            _run(stack, here[j + 3], y, x0, size), _run(stack, here[j + 4], y, x0, size), _run(stack, here[j + 5], y, x0, size),
            _run(stack, here[j + 6], y, x0, size), _run(stack, here[j + 7], y, x0, size),
            _row(buffer, j, size), _row(buffer, j + 1, size), _row(buffer, j + 2, size), _row(buffer, j + 3, size),
            _row(buffer, j + 4, size), _row(buffer, j + 5, size), _row(buffer, j + 6, size), _row(buffer, j + 7, size),
        )  # fmt: skip
        j += BLOCK
    begun = j
    while j < stack.shape[0]:
        if j < m:
            copy(_run(stack, here[j], y, x0, size), _row(buffer, j, size))
        else:
            buffer[j, :size] = np.float32(np.inf)
        j += 1
    for p in range(early.shape[0]):
        if early[p, 0] >= begun and early[p, 0] < m:
            exchange(_row(buffer, early[p, 0], size), _row(buffer, early[p, 1], size))
    _sort_chunk(buffer, late, size)


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
    return median_of_spreads(around[:m]) if m > 0 else 0.0


@numba.njit(nogil=True, cache=True, error_model="numpy")
def combine_rows(
    stack, begin, chunk, weights, weight_sum, equal, method, low, high, few, pairs, quantile_k, quantile_z,
    out, spread_out, kept_out, rejected_low, rejected_high, low_out, high_out, weight_out,
):  # fmt: skip
    """Combine ``stack[frame, row, column]`` (float32, NaN = no data) along the frames, from row `begin` on.

    The stack is in one piece, and rows of it are told by their number: the rows of a cut out part would be taken for
    scattered values and not go in vectors. `chunk` columns are judged together. `weight_sum` is that of
    the weights, `equal` whether they are one.

    Sums run over whole row vectors, along the edges of dithered exposures too, where pixels lack some frames; the scalar
    rejection is only for pixels of which a value lies beyond the bounds that the method would start from. `few` judges
    two and three values by the spread of the pixels around.

    Outputs, all preallocated: `out` and `spread_out` float32 (value; sample deviation of what was kept,
    NaN for fewer than two), `kept_out` uint16, and per frame the rejected counts (int64). Unless they are empty: `low_out`
    and `high_out` uint16 (values rejected at each pixel), `weight_out` float32 (weight of what was kept, over all of it).
    """
    n, height, width = stack.shape[0], out.shape[0], stack.shape[2]
    buffer = np.empty((n, chunk), dtype=np.float32)
    column = np.empty(n, dtype=np.float32)
    scratch = np.empty(n, dtype=np.float32)
    around = np.empty(chunk, dtype=np.float32)
    all_base = np.empty(chunk, dtype=np.float64)
    all_middle = np.empty(chunk, dtype=np.float32)
    all_count = np.empty(chunk, dtype=np.float32)
    all_total = np.empty(chunk, dtype=np.float64)
    all_plain = np.empty(chunk, dtype=np.float64)
    all_squares = np.empty(chunk, dtype=np.float64)
    all_weight = np.empty(chunk, dtype=np.float64)
    here = np.empty(n, dtype=np.int64)
    all_suspect = np.empty(chunk, dtype=np.uint8)
    # The network's stages up to blocks of eight come before the first pair that leaves its block.
    first_late = 0
    while first_late < pairs.shape[0] and pairs[first_late, 0] // BLOCK == pairs[first_late, 1] // BLOCK:
        first_late += 1
    early, late = pairs[:first_late], pairs[first_late:]
    clips = method != MEAN and method != MEDIAN
    maps = (low_out, high_out, weight_out)
    mapped = low_out.size > 0
    for y in range(height):
        row = begin + y
        for x0 in range(0, width, chunk):
            size = min(chunk, width - x0)
            middle, count = all_middle[:size], all_count[:size]
            total, squares, suspect = all_total[:size], all_squares[:size], all_suspect[:size]
            out_row, spread_row = out[y, x0 : x0 + size], spread_out[y, x0 : x0 + size]
            kept_row = kept_out[y, x0 : x0 + size]
            base, plain = all_base[:size], all_plain[:size]
            # A frame has the chunk wholly or not at all, but where its own edge runs through it.
            m, whole = _there(stack, row, x0, size, here)
            here_sum = 0.0
            if whole and m >= 2:
                here_sum, whole = _sum_whole(
                    stack, weights, equal, row, x0, size, here, m, base, total, plain, squares
                )  # fmt: skip
            if not whole or m < 2 or here_sum <= 0.0:
                count[:] = np.float32(0.0)
                for i in range(n):
                    load(_run(stack, i, row, x0, size), _row(buffer, i, size), count)
                if method != MEAN:
                    _sort_chunk(buffer, pairs, size)
                usual = 0.0
                if clips and method != LINEAR:
                    usual = _usual_spread(buffer, count, size, few, quantile_k, quantile_z, around)
                part = slice(x0, x0 + size)
                holed_sums(
                    stack, weights, row, x0, method, buffer, count, middle, total, all_plain, squares, all_weight
                )
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
                    for x in range(size):
                        weight_out[y, x0 + x] = np.float32(all_weight[x] / weight_sum)
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
                        stack, weights, row, x0, x, np.int64(count[x]), method, low, high, few, quantile_k, quantile_z,
                        usual, buffer, column, scratch, out_row, spread_row, kept_row, rejected_low, rejected_high,
                        weight_sum, maps, y,
                    )  # fmt: skip
                continue
            finish(base, total, plain, squares, m, here_sum, out_row, spread_row)
            if method != MEAN:
                _sort_whole(stack, row, x0, size, here, m, early, late, buffer)
                if m % 2 == 1:
                    copy(_row(buffer, m // 2, size), middle)
                else:
                    middle_of(_row(buffer, m // 2 - 1, size), _row(buffer, m // 2, size), middle)
            if method == MEDIAN:
                copy(middle, out_row)
            kept_row[:] = m
            if mapped:
                low_out[y, x0 : x0 + size] = 0
                high_out[y, x0 : x0 + size] = 0
                weight_out[y, x0 : x0 + size] = here_sum / weight_sum
            if not clips:
                continue
            usual = 0.0
            if method != LINEAR:
                k = quantile_k[m]
                if k >= 0:
                    between(
                        _row(buffer, k, size), _row(buffer, m - 1 - k, size), np.float32(quantile_z[m]), around[:size]
                    )
                    usual = median_of_spreads(around[:size])
                elif few:
                    count[:] = np.float32(m)
                    usual = _usual_spread(buffer, count, size, few, quantile_k, quantile_z, around)
            suspect[:] = 1
            if method == SIGMA and m >= 4:
                k = quantile_k[m]
                found = suspects(
                    _row(buffer, 0, size), _row(buffer, m - 1, size), _row(buffer, k, size), _row(buffer, m - 1 - k, size), middle,
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
                    stack, weights, row, x0 + x, column[lo], column[hi - 1], middle[x], rejected_low, rejected_high
                )
                out_row[x] = np.float32(middle[x] + mean)
                spread_row[x] = spread
                kept_row[x] = kept
                if mapped:
                    low_out[y, x0 + x], high_out[y, x0 + x] = lows, highs
                    weight_out[y, x0 + x] = weight / weight_sum
