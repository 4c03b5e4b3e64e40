"""Aperture sums and annulus sky, and light near a place."""

from __future__ import annotations

import math

import numba
import numpy as np

from ulvar.frames import CLIPPED_TO_SIGMA
from ulvar.photometry._kernels_memory import ask_for
from ulvar.photometry._kernels_overlap import across, aside, ellipse_overlap, pixel_overlap, rim_overlap
from ulvar.photometry._kernels_sky import PLANE, SHARES, clipped_sky, plane_sky

# Of `aperture_sums`.
COLUMNS = 15


@numba.njit(nogil=True, cache=True, inline="always")
def _overlap(dx, dy, r, shape):
    """Area of a pixel inside the aperture; `shape` holds axis ratio, cosine and sine of the long axis."""
    if shape[0] == 1.0:
        return pixel_overlap(dx, dy, r)
    root = math.sqrt(shape[0])
    return ellipse_overlap(dx, dy, r / root, r * root, shape[1], shape[2])


@numba.njit(nogil=True, cache=True, inline="always")
def _away(dx, dy, shape):
    """Distance from the centre on the scale of a circle of the ellipse's area."""
    if shape[0] == 1.0:
        return math.hypot(dx, dy)
    root = math.sqrt(shape[0])
    return math.hypot((dx * shape[1] + dy * shape[2]) * root, (dy * shape[1] - dx * shape[2]) / root)


@numba.njit(nogil=True, cache=True)
def fill_bad(data, mask, bad_bits, cx, cy, r, shape, x0, x1, y0, y1, places, weights, sums):
    """Give masked pixels of an aperture the mean of the good ones at their distance from the centre.

    `places` (n, 2) are x and y of the masked pixels, `weights` (n,) their overlaps. Adds to `sums`: sum of
    weight x value, of weights, of squared weights, and the value that was filled in; the last is infinite where
    a pixel has no good one at its distance.
    """
    for i in range(weights.size):
        bx, by, w = places[i, 0], places[i, 1], weights[i]
        away = _away(bx - cx, by - cy, shape)
        total = shares = 0.0
        n = 0
        for y in range(y0, y1):
            for x in range(x0, x1):
                value = data[y, x]
                bits = mask[y, x] if mask.size > 0 else 0
                d = _away(x - cx, y - cy, shape)
                if value == value and (bits & bad_bits) == 0 and abs(d - away) < 0.75:
                    total += value
                    shares += _overlap(x - cx, y - cy, r, shape)
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
def _near_a_star(x, y, near, start, end):
    """Whether a pixel lies in one of the circles `near` (x, y, radius)."""
    for i in range(start, end):
        dx, dy = x - near[i, 0], y - near[i, 1]
        if dx * dx + dy * dy < near[i, 2] * near[i, 2]:
            return True
    return False


@numba.njit(nogil=True, cache=True)
def _annulus(
    data, mask, hidden, cx, cy, inner, outer, x0, x1, y0, y1, near, start, end, values, xs, ys
):  # fmt: skip
    """Fill values of the annulus's good pixels and, where there is room for them, offsets.

    Returns how many, and how many lay under other stars.
    """
    in2, out2 = inner * inner, outer * outer
    n = covered = 0
    for y in range(y0, y1):
        dy = y - cy
        across = out2 - dy * dy
        if across < 0.0:
            continue
        half = math.sqrt(across)
        first, last = max(x0, int(math.ceil(cx - half))), min(x1, int(math.floor(cx + half)) + 1)
        # Left of the hole, and right of it.
        gap, rest = last, last
        if in2 > dy * dy:
            hole = math.sqrt(in2 - dy * dy)
            gap, rest = min(last, int(math.floor(cx - hole)) + 1), max(first, int(math.ceil(cx + hole)))
            rest = max(gap, rest)
        for part in range(2):
            for x in range(first if part == 0 else rest, gap if part == 0 else last):
                value = data[y, x]
                if value == value and (mask.size == 0 or (mask[y, x] & hidden) == 0):
                    if end > start and _near_a_star(x, y, near, start, end):
                        covered += 1
                    else:
                        values[n] = value
                        if n < xs.size:
                            xs[n], ys[n] = x - cx, dy
                        n += 1
    return n, covered


@numba.njit(nogil=True, cache=True)
def aperture_sums(
    data, mask, bad_bits, full_bits, bent_bits, xs, ys, radii, shape, inner, outer, starts, near, method, out
):  # fmt: skip
    """Aperture sums and annulus sky of each position.

    `shape` is axis ratio, cosine and sine of the long axis (1, 1, 0: circles); `near` (m, 3) are x, y and radius of circles that the
    sky of star k leaves out, those from ``starts[k]`` to ``starts[k + 1]``; `method` is one of `_kernels_sky`.
    `out` columns: sum of weight x value, sum of weights, sum of squared weights, peak, sky, sky deviation, sky pixels, flag bits
    (1 saturated, 2 not linear, 4 edge, 8 bad pixel), sum of weight x value and sum of weights that were filled in for bad pixels,
    distance of the nearest of those, sums of squared weight x value and x squared value, variance of the sky over that of a pixel,
    share of the annulus under other stars.
    """
    height, width = data.shape
    hidden = bad_bits | full_bits
    most = widest = 0.0
    for k in range(xs.size):
        most, widest = max(most, outer[k]), max(widest, radii[k])
    size = int(2 * most + 3) ** 2
    # Where the pixels lie tells a plane only.
    sky, room = np.empty(size, dtype=np.float32), size if method == PLANE else 0
    sky_x, sky_y = np.empty(room), np.empty(room)
    # Of the edges of columns and rows.
    edges = int(2 * widest + 6)
    under_x, chords, under_y = np.empty(edges), np.empty(edges), np.empty(edges)
    stretch = 1.0 / math.sqrt(shape[0])
    for k in range(xs.size):
        cx, cy, r = xs[k], ys[k], radii[k]
        for column in range(COLUMNS):
            out[k, column] = 0.0
        out[k, 3] = out[k, 4] = out[k, 5] = out[k, 13] = np.nan
        if not (cx == cx and cy == cy):
            out[k, 7] = 4.0
            continue
        # The ellipse lies within its half axes along x and y.
        along = r * stretch * math.hypot(shape[1], shape[2] * shape[0])
        upward = r * stretch * math.hypot(shape[2], shape[1] * shape[0])
        x0, x1 = int(math.floor(cx - along)) - 1, int(math.ceil(cx + along)) + 2
        y0, y1 = int(math.floor(cy - upward)) - 1, int(math.ceil(cy + upward)) + 2
        flags = 0
        if cx - along < -0.5 or cy - upward < -0.5 or cx + along > width - 0.5 or cy + upward > height - 0.5:
            flags |= 4
        x0, x1 = max(0, x0), min(width, x1)
        y0, y1 = max(0, y0), min(height, y1)
        if x1 <= x0 or y1 <= y0:
            out[k, 7] = 4.0
            continue
        reach = outer[k]
        a0, a1 = max(0, int(math.floor(cx - reach))), min(width, int(math.ceil(cx + reach)) + 1)
        b0, b1 = max(0, int(math.floor(cy - reach))), min(height, int(math.ceil(cy + reach)) + 1)
        if k + 1 < xs.size and xs[k + 1] == xs[k + 1] and ys[k + 1] == ys[k + 1]:
            nx, ny, nr = xs[k + 1], ys[k + 1], outer[k + 1]
            n0, n1 = max(0, int(nx - nr)), min(width, int(nx + nr) + 2)
            m0, m1 = max(0, int(ny - nr)), min(height, int(ny + nr) + 2)
            ask_for(data, n0, n1, m0, m1)
            if mask.size > 0:
                ask_for(mask, n0, n1, m0, m1)
        bad = 0
        total = weights = squares = lost = second = third = 0.0
        peak = -np.inf
        sure2 = (r + 0.8) ** 2 if shape[0] == 1.0 else (r * stretch + 0.8) ** 2
        if shape[0] == 1.0:
            for x in range(x0, x1 + 1):
                under_x[x - x0] = aside(abs(x - 0.5 - cx), r)
            for y in range(y0, y1 + 1):
                chords[y - y0], under_y[y - y0] = across(abs(y - 0.5 - cy), r)
        for y in range(y0, y1):
            dy = y - cy
            first, last, whole = x0, x1, -1.0
            if shape[0] == 1.0:
                # Only pixels on the circle's rim need an exact area.
                low, high = max(0.0, abs(dy) - 0.5), abs(dy) + 0.5
                if low >= r:
                    continue
                half = math.sqrt(r * r - low * low) + 0.5
                first, last = max(x0, int(math.ceil(cx - half))), min(x1, int(math.floor(cx + half)) + 1)
                if high < r:
                    whole = math.sqrt(r * r - high * high) - 0.5
            for x in range(first, last):
                dx = x - cx
                if abs(dx) <= whole:
                    w = 1.0
                else:
                    if shape[0] == 1.0:
                        i, j = x - x0, y - y0
                        w = rim_overlap(
                            dx - 0.5, under_x[i], dx + 0.5, under_x[i + 1],
                            dy - 0.5, chords[j], under_y[j], dy + 0.5, chords[j + 1], under_y[j + 1], r,
                        )  # fmt: skip
                    else:
                        w = _overlap(dx, dy, r, shape)
                    if w <= 0.0:
                        continue
                value = data[y, x]
                bits = mask[y, x] if mask.size > 0 else 0
                if (bits & full_bits) != 0:
                    flags |= 1
                if (bits & bent_bits) != 0:
                    flags |= 2
                if value != value or (bits & bad_bits) != 0:
                    flags |= 8
                    lost += w
                    bad += 1
                else:
                    total += w * value
                    weights += w
                    squares += w * w
                    second += w * w * value
                    third += w * w * np.float64(value) * value
                    if value > peak:
                        peak = value
        n, covered = _annulus(
            data, mask, hidden, cx, cy, inner[k], outer[k], a0, a1, b0, b1, near, starts[k], starts[k + 1], sky, sky_x, sky_y
        )  # fmt: skip
        if n + covered > 0:
            out[k, 14] = covered / (n + covered)
        if n < 8 and covered > 0:
            # Stars cover all of it: clipping has to do.
            n, covered = _annulus(
                data, mask, hidden, cx, cy, inner[k], outer[k], a0, a1, b0, b1, near, 0, 0, sky, sky_x, sky_y
            )  # fmt: skip
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
                    if dx * dx + dy * dy < sure2 and (value != value or (bits & bad_bits) != 0):
                        w = _overlap(dx, dy, r, shape)
                        if w > 0.0:
                            places[i, 0], places[i, 1], overlaps[i] = x, y, w
                            nearest = min(nearest, math.hypot(dx, dy))
                            i += 1
            sums = np.array([total, weights, squares, 0.0])
            # Good pixels at the distance of a bad one at the rim may lie beyond it.
            f0, f1, g0, g1 = min(x0, a0), max(x1, a1), min(y0, b0), max(y1, b1)
            fill_bad(data, mask, bad_bits, cx, cy, r, shape, f0, f1, g0, g1, places, overlaps, sums)
            total, weights, squares = sums[0], sums[1], sums[2]
            out[k, 8], out[k, 9], out[k, 10] = sums[3], lost, nearest
        out[k, 0], out[k, 1], out[k, 2] = total, weights, squares
        out[k, 3] = peak if weights > 0.0 else np.nan
        out[k, 11], out[k, 12] = second, third
        if n >= 8:
            if method == PLANE:
                level, deviation, count, share = plane_sky(sky, sky_x, sky_y, n)
                if count > 0:
                    out[k, 4], out[k, 5], out[k, 6] = level, deviation * CLIPPED_TO_SIGMA, count
                    out[k, 13] = share / count
            else:
                median, mean, deviation, count = clipped_sky(sky, n)
                level = median
                if method == 1:
                    level = mean
                elif method == 2:
                    level = 3.0 * median - 2.0 * mean
                out[k, 4], out[k, 5], out[k, 6] = level, deviation * CLIPPED_TO_SIGMA, count
                out[k, 13] = SHARES[method] / count
        out[k, 7] = flags


@numba.njit(nogil=True, cache=True)
def light_middles(data, mask, hidden, xs, ys, sigma, limit, out):
    """Centroids by first moments under a Gaussian window that follows them.

    `out` columns: x, y, and 1 where the centroid settled within `limit` [px] of the start. The sky under each star is the median of
    the ring from four to six `sigma`.
    """
    height, width = data.shape
    reach = int(math.ceil(6.0 * sigma)) + 1
    ring = np.empty((2 * reach + 3) ** 2, dtype=np.float32)
    for k in range(xs.size):
        out[k, 0], out[k, 1], out[k, 2] = xs[k], ys[k], 0.0
        if not (xs[k] == xs[k] and ys[k] == ys[k]):
            continue
        x0, x1 = max(0, int(xs[k]) - reach), min(width, int(xs[k]) + reach + 1)
        y0, y1 = max(0, int(ys[k]) - reach), min(height, int(ys[k]) + reach + 1)
        n = 0
        for y in range(y0, y1):
            for x in range(x0, x1):
                d = math.hypot(x - xs[k], y - ys[k])
                if 4.0 * sigma <= d <= 6.0 * sigma and data[y, x] == data[y, x]:
                    ring[n] = data[y, x]
                    n += 1
        if n < 8:
            continue
        sky = np.float64(np.median(ring[:n]))
        cx, cy = xs[k], ys[k]
        for _ in range(40):
            sx = sy = total = 0.0
            for y in range(y0, y1):
                for x in range(x0, x1):
                    value = data[y, x]
                    if value != value or (mask.size > 0 and (mask[y, x] & hidden) != 0):
                        continue
                    dx, dy = x - cx, y - cy
                    r2 = dx * dx + dy * dy
                    if r2 > 16.0 * sigma * sigma:
                        continue
                    w = math.exp(-0.5 * r2 / (sigma * sigma)) * (value - sky)
                    sx += w * dx
                    sy += w * dy
                    total += w
            if not total > 0.0:
                break
            # A Gaussian under a window of its own width shows half of what it is off by.
            step_x, step_y = 2.0 * sx / total, 2.0 * sy / total
            cx += step_x
            cy += step_y
            if math.hypot(cx - xs[k], cy - ys[k]) > limit:
                break
            if math.hypot(step_x, step_y) < 1e-4:
                out[k, 0], out[k, 1], out[k, 2] = cx, cy, 1.0
                break
