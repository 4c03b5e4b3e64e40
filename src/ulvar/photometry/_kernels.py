"""Exact circle-pixel overlap, aperture sums and annulus sky."""

from __future__ import annotations

import math

import numba
import numpy as np

from ulvar.frames import CLIPPED_TO_SIGMA


@numba.njit(nogil=True, cache=True, inline="always")
def _half(t, r):
    """Integral of sqrt(r^2 - t^2) from 0 to t."""
    t = min(max(t, -r), r)
    return 0.5 * (t * math.sqrt(max(0.0, r * r - t * t)) + r * r * math.asin(t / r))


@numba.njit(nogil=True, cache=True)
def _corner(x, y, r):
    """Area of the disc of radius r about the origin with X < x and Y < y."""
    if x <= -r or y <= -r:
        return 0.0
    x = min(x, r)
    y = min(y, r)
    c = math.sqrt(max(0.0, r * r - y * y))
    area = 0.0
    # Columns in |t| < c are cut by the line Y = y; those outside are whole (y >= 0) or empty (y < 0).
    a, b = -c, min(x, c)
    if b > a:
        area += y * (b - a) + _half(b, r) - _half(a, r)
    if y >= 0.0:
        area += 2.0 * (_half(min(x, -c), r) - _half(-r, r))
        if x > c:
            area += 2.0 * (_half(x, r) - _half(c, r))
    return area


@numba.njit(nogil=True, cache=True)
def pixel_overlap(dx, dy, r):
    """Area common to the disc of radius r about the origin and the unit pixel centred at (dx, dy)."""
    far = math.hypot(abs(dx) + 0.5, abs(dy) + 0.5)
    if far <= r:
        return 1.0
    nx, ny = max(0.0, abs(dx) - 0.5), max(0.0, abs(dy) - 0.5)
    if nx * nx + ny * ny >= r * r:
        return 0.0
    area = (
        _corner(dx + 0.5, dy + 0.5, r) - _corner(dx - 0.5, dy + 0.5, r)
        - _corner(dx + 0.5, dy - 0.5, r) + _corner(dx - 0.5, dy - 0.5, r)
    )  # fmt: skip
    return min(max(area, 0.0), 1.0)


@numba.njit(nogil=True, cache=True)
def fill_bad(data, mask, bad_bits, cx, cy, r, x0, x1, y0, y1, places, weights, sums):
    """Give masked pixels of an aperture the mean of the good ones at their distance from the centre.

    `places` (n, 2) are x and y of the masked pixels, `weights` (n,) their overlaps. Adds to `sums`: sum of
    weight x value, of weights, of squared weights, and the value that was filled in; the last is infinite where
    a pixel has no good one at its distance.
    """
    for i in range(weights.size):
        bx, by, w = places[i, 0], places[i, 1], weights[i]
        away = math.hypot(bx - cx, by - cy)
        total = shares = 0.0
        n = 0
        for y in range(y0, y1):
            for x in range(x0, x1):
                value = data[y, x]
                bits = mask[y, x] if mask.size > 0 else 0
                d = math.hypot(x - cx, y - cy)
                if value == value and (bits & bad_bits) == 0 and abs(d - away) < 0.75:
                    total += value
                    shares += pixel_overlap(x - cx, y - cy, r)
                    n += 1
        if n == 0:
            sums[3] = np.inf
            continue
        sums[0] += w * total / n
        sums[1] += w
        # The good pixels count for more than once: their weights grow by w / n each.
        sums[2] += 2.0 * w * shares / n + w * w / n
        sums[3] += w * total / n


@numba.njit(nogil=True, cache=True)
def aperture_sums(data, mask, bad_bits, full_bits, bent_bits, xs, ys, radii, inner, outer, out):
    """Aperture sums and annulus sky of each position.

    `out` columns: sum of weight x value, sum of weights, sum of squared weights, peak, sky (clipped
    median), sky deviation, sky pixels, flag bits (1 saturated, 2 not linear, 4 edge, 8 bad pixel), sum of
    weight x value and sum of weights that were filled in for bad pixels, distance of the nearest of those.
    """
    height, width = data.shape
    for k in range(xs.size):
        cx, cy, r = xs[k], ys[k], radii[k]
        for column in range(11):
            out[k, column] = 0.0
        out[k, 3] = np.nan
        out[k, 4] = np.nan
        out[k, 5] = np.nan
        if not (cx == cx and cy == cy):
            out[k, 7] = 4.0
            continue
        reach = max(r, outer[k])
        x0, x1 = int(math.floor(cx - reach)) - 1, int(math.ceil(cx + reach)) + 2
        y0, y1 = int(math.floor(cy - reach)) - 1, int(math.ceil(cy + reach)) + 2
        flags = 0
        if cx - r < -0.5 or cy - r < -0.5 or cx + r > width - 0.5 or cy + r > height - 0.5:
            flags |= 4
        x0, x1 = max(0, x0), min(width, x1)
        y0, y1 = max(0, y0), min(height, y1)
        if x1 <= x0 or y1 <= y0:
            out[k, 7] = 4.0
            continue
        sky = np.empty((x1 - x0) * (y1 - y0), dtype=np.float32)
        n = bad = 0
        total = weights = squares = lost = 0.0
        peak = -np.inf
        in2, out2 = inner[k] * inner[k], outer[k] * outer[k]
        for y in range(y0, y1):
            for x in range(x0, x1):
                dx, dy = x - cx, y - cy
                d2 = dx * dx + dy * dy
                value = data[y, x]
                bits = mask[y, x] if mask.size > 0 else 0
                good = value == value
                if d2 < (r + 0.8) * (r + 0.8):
                    w = pixel_overlap(dx, dy, r)
                    if w > 0.0:
                        if (bits & full_bits) != 0:
                            flags |= 1
                        if (bits & bent_bits) != 0:
                            flags |= 2
                        if not good or (bits & bad_bits) != 0:
                            flags |= 8
                            lost += w
                            bad += 1
                        else:
                            total += w * value
                            weights += w
                            squares += w * w
                            if value > peak:
                                peak = value
                if in2 <= d2 <= out2 and good and (bits & (bad_bits | full_bits)) == 0:
                    sky[n] = value
                    n += 1
        if bad > 0:
            places = np.empty((bad, 2), dtype=np.int64)
            overlaps = np.empty(bad, dtype=np.float64)
            i = 0
            nearest = np.inf
            for y in range(y0, y1):
                for x in range(x0, x1):
                    dx, dy = x - cx, y - cy
                    value = data[y, x]
                    bits = mask[y, x] if mask.size > 0 else 0
                    if dx * dx + dy * dy < (r + 0.8) * (r + 0.8) and (value != value or (bits & bad_bits) != 0):
                        w = pixel_overlap(dx, dy, r)
                        if w > 0.0:
                            places[i, 0], places[i, 1], overlaps[i] = x, y, w
                            nearest = min(nearest, math.hypot(dx, dy))
                            i += 1
            sums = np.array([total, weights, squares, 0.0])
            fill_bad(data, mask, bad_bits, cx, cy, r, x0, x1, y0, y1, places, overlaps, sums)
            total, weights, squares = sums[0], sums[1], sums[2]
            out[k, 8], out[k, 9], out[k, 10] = sums[3], lost, nearest
        out[k, 0], out[k, 1], out[k, 2] = total, weights, squares
        out[k, 3] = peak if weights > 0.0 else np.nan
        if n >= 8:
            ordered = np.sort(sky[:n])
            lo, hi = 0, n
            median = deviation = 0.0
            for _ in range(20):
                middle = (lo + hi) // 2
                median = np.float64(ordered[middle])
                if (hi - lo) % 2 == 0:
                    median = 0.5 * (median + ordered[middle - 1])
                mean = 0.0
                for i in range(lo, hi):
                    mean += ordered[i]
                mean /= hi - lo
                variance = 0.0
                for i in range(lo, hi):
                    variance += (ordered[i] - mean) ** 2
                deviation = math.sqrt(variance / (hi - lo - 1))
                new_lo, new_hi = lo, hi
                while new_lo < hi and ordered[new_lo] < median - 3.0 * deviation:
                    new_lo += 1
                while new_hi > new_lo and ordered[new_hi - 1] > median + 3.0 * deviation:
                    new_hi -= 1
                if (new_lo == lo and new_hi == hi) or new_hi - new_lo < 8:
                    break
                lo, hi = new_lo, new_hi
            out[k, 4] = median
            out[k, 5] = deviation * CLIPPED_TO_SIGMA
            out[k, 6] = hi - lo
        out[k, 7] = flags
