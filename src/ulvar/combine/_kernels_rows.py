"""Whole row vectors of a chunk: sums and sorting of what is there wholly.

Loops run over one-dimensional views counted from 0, so that the compiler can prove that no index wraps around and make
vectors of them; several rows are taken at once, so that what is summed or sorted stays in the processor's registers.
"""

from __future__ import annotations

import numba
import numpy as np

BLOCK = 8


@numba.njit(nogil=True, cache=True, error_model="numpy")
def load(source, row, count):
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


# Written as a loop, a row is copied as fast as by a slice, and none of what tells of shapes that differ is compiled for it.
@numba.njit(nogil=True, cache=True, error_model="numpy")
def copy(source, out):
    """Write a row's values into another."""
    for x in range(source.shape[0]):
        out[x] = source[x]


@numba.njit(nogil=True, cache=True, error_model="numpy")
def scale(row, factor):
    """Multiply a row's values."""
    for x in range(row.shape[0]):
        row[x] *= factor


@numba.njit(nogil=True, cache=True, error_model="numpy")
def middle_of(first, second, out):
    """Write the mean of two rows' values."""
    for x in range(first.shape[0]):
        out[x] = np.float32(0.5) * (first[x] + second[x])


@numba.njit(nogil=True, cache=True, error_model="numpy")
def all_unknown(source):
    """Whether a row holds no value at all."""
    known = 0
    for x in range(source.size):
        known += 1 if source[x] == source[x] else 0
    return known == 0


@numba.njit(nogil=True, cache=True, error_model="numpy")
def exchange(first_row, second_row):
    """Put the smaller of each two values first."""
    for x in range(first_row.size):
        first, second = first_row[x], second_row[x]
        first_row[x] = first if first < second else second
        second_row[x] = second if first < second else first


@numba.njit(nogil=True, cache=True, error_model="numpy", inline="always")
def _ordered(first, second):
    return (first if first < second else second), (second if first < second else first)


@numba.njit(nogil=True, cache=True, error_model="numpy")
def sort_block(s0, s1, s2, s3, s4, s5, s6, s7, r0, r1, r2, r3, r4, r5, r6, r7):
    """Write eight rows into eight others, ordered at each pixel: Batcher's network of 19 exchanges in registers."""
    for x in range(s0.size):
        a, b = _ordered(s0[x], s1[x])
        c, d = _ordered(s2[x], s3[x])
        e, f = _ordered(s4[x], s5[x])
        g, h = _ordered(s6[x], s7[x])
        a, c = _ordered(a, c)
        b, d = _ordered(b, d)
        b, c = _ordered(b, c)
        e, g = _ordered(e, g)
        f, h = _ordered(f, h)
        f, g = _ordered(f, g)
        a, e = _ordered(a, e)
        b, f = _ordered(b, f)
        c, g = _ordered(c, g)
        d, h = _ordered(d, h)
        c, e = _ordered(c, e)
        d, f = _ordered(d, f)
        b, c = _ordered(b, c)
        d, e = _ordered(d, e)
        f, g = _ordered(f, g)
        r0[x], r1[x], r2[x], r3[x] = a, b, c, d
        r4[x], r5[x], r6[x], r7[x] = e, f, g, h


@numba.njit(nogil=True, cache=True, error_model="numpy")
def add_four(a, b, c, d, base, total, squares):
    """Add what four rows deviate from a base, and its squares."""
    for x in range(a.size):
        p, q = np.float64(a[x]) - base[x], np.float64(b[x]) - base[x]
        r, s = np.float64(c[x]) - base[x], np.float64(d[x]) - base[x]
        total[x] += (p + q) + (r + s)
        squares[x] += (p * p + q * q) + (r * r + s * s)


@numba.njit(nogil=True, cache=True, error_model="numpy")
def add_one(a, base, total, squares):
    """As `add_four`, of one row."""
    for x in range(a.size):
        p = np.float64(a[x]) - base[x]
        total[x] += p
        squares[x] += p * p


@numba.njit(nogil=True, cache=True, error_model="numpy")
def add_four_weighted(a, b, c, d, weights, base, total, plain, squares):
    """As `add_four`, with the sum of the weighted deviations in `total` and that of the plain ones in `plain`."""
    wa, wb, wc, wd = weights[0], weights[1], weights[2], weights[3]
    for x in range(a.size):
        p, q = np.float64(a[x]) - base[x], np.float64(b[x]) - base[x]
        r, s = np.float64(c[x]) - base[x], np.float64(d[x]) - base[x]
        total[x] += (wa * p + wb * q) + (wc * r + wd * s)
        plain[x] += (p + q) + (r + s)
        squares[x] += (p * p + q * q) + (r * r + s * s)


@numba.njit(nogil=True, cache=True, error_model="numpy")
def add_one_weighted(a, weight, base, total, plain, squares):
    """As `add_four_weighted`, of one row."""
    for x in range(a.size):
        p = np.float64(a[x]) - base[x]
        total[x] += weight * p
        plain[x] += p
        squares[x] += p * p


@numba.njit(nogil=True, cache=True, error_model="numpy")
def any_unknown(total):
    """Whether a sum over values came out unknown."""
    unknown = 0
    for x in range(total.size):
        unknown += 0 if total[x] == total[x] else 1
    return unknown > 0


@numba.njit(nogil=True, cache=True, error_model="numpy")
def finish(base, total, plain, squares, n, weight_sum, out, spread):
    """Mean, and sample deviation about the plain mean: a deviation is of the values, whatever they weigh."""
    for x in range(out.size):
        out[x] = np.float32(base[x] + total[x] / weight_sum)
        spread[x] = np.float32(np.sqrt(max(0.0, (squares[x] - plain[x] * plain[x] / n) / (n - 1.0))))


@numba.njit(nogil=True, cache=True, error_model="numpy")
def between(early, late, z, spread):
    """Spread from two ordered values of each pixel, which lie `z` spreads apart."""
    for x in range(spread.size):
        spread[x] = (late[x] - early[x]) / z


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _kth_bits(bits, k):
    """The number that k others are not above, by halving: counting runs over vectors, where picking a pivot does not."""
    low, high = bits[0], bits[0]
    for x in range(bits.size):
        low, high = min(low, bits[x]), max(high, bits[x])
    while low < high:
        middle = np.int32(low + (np.int64(high) - np.int64(low)) // 2)
        count = np.int32(0)
        for x in range(bits.size):
            count += np.int32(1) if bits[x] <= middle else np.int32(0)
        if count > k:
            high = middle
        else:
            low = np.int32(middle + 1)
    return low


@numba.njit(nogil=True, cache=True, error_model="numpy")
def median_of_spreads(spreads):
    """Median of float32 values none of which is below 0: their bits are ordered as they are."""
    bits = spreads.view(np.int32)
    lower = _kth_bits(bits, (bits.size - 1) // 2)
    count = 0
    above = np.int32(0x7FFFFFFF)
    for x in range(bits.size):
        count += 1 if bits[x] <= lower else 0
        beyond = bits[x] if bits[x] > lower else np.int32(0x7FFFFFFF)
        above = beyond if beyond < above else above
    ends = np.empty(2, dtype=np.int32)
    ends[0] = lower
    ends[1] = lower if bits.size % 2 == 1 or count > bits.size // 2 else above
    values = ends.view(np.float32)
    return 0.5 * (np.float64(values[0]) + np.float64(values[1]))


@numba.njit(nogil=True, cache=True, error_model="numpy")
def suspects(lowest, highest, early, late, middle, spread, z, usual, low, high, suspect):
    """Mark pixels of which a value lies beyond either of the first two spreads that clipping would use."""
    found = 0
    for x in range(middle.size):
        first = (late[x] - early[x]) / z
        first = first if first > usual else usual
        second = spread[x] if spread[x] > usual else usual
        reach = first if first < second else second
        beyond = (lowest[x] < middle[x] - low * reach) | (highest[x] > middle[x] + high * reach)
        flag = 1 if beyond & (first > np.float32(0.0)) else 0
        suspect[x] = flag
        found += flag
    return found
