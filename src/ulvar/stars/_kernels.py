"""Hot loops of star finding: mesh statistics, local maxima, windowed moments."""

from __future__ import annotations

import math

import numba
import numpy as np

from ulvar.frames import CLIPPED_TO_SIGMA


@numba.njit(nogil=True, cache=True)
def radix_sort(values, spare, counts):
    """Sort float32 `values` without NaN, in place; `spare` has their size, `counts` 3 x 2048 int64.

    Bits of floats order like integers once the sign is dealt with; three passes over eleven bits each are several
    times as fast as comparing.
    """
    keys, other = values.view(np.uint32), spare.view(np.uint32)
    counts[:] = 0
    top = np.uint32(0x80000000)
    full = np.uint32(0xFFFFFFFF)
    for i in range(keys.size):
        key = keys[i]
        key ^= full if key & top else top
        keys[i] = key
        counts[0, key & np.uint32(2047)] += 1
        counts[1, (key >> np.uint32(11)) & np.uint32(2047)] += 1
        counts[2, key >> np.uint32(22)] += 1
    for p in range(3):
        place = 0
        for d in range(2048):
            n = counts[p, d]
            counts[p, d] = place
            place += n
    for i in range(keys.size):
        d = keys[i] & np.uint32(2047)
        other[counts[0, d]] = keys[i]
        counts[0, d] += 1
    for i in range(keys.size):
        d = (other[i] >> np.uint32(11)) & np.uint32(2047)
        keys[counts[1, d]] = other[i]
        counts[1, d] += 1
    for i in range(keys.size):
        d = keys[i] >> np.uint32(22)
        other[counts[2, d]] = keys[i]
        counts[2, d] += 1
    for i in range(keys.size):
        key = other[i]
        keys[i] = key ^ (top if key & top else full)


@numba.njit(nogil=True, cache=True)
def clipped_cells(data, masked, edges_y, edges_x, step, mode, first, last, level, noise):
    """Clipped mode (or, without `mode`, clipped mean) and deviation of each cell of the rows ``first <= row < last`` of a mesh.

    Every `step`-th pixel of a cell is used, on alternating columns from row to row. Values beyond three
    deviations of the median are clipped until nothing changes; the mode is 3 median - 2 mean (Pearson),
    or the median where the cell is too skew for that to hold.
    """
    columns = level.shape[1]
    counts = np.empty((3, 2048), dtype=np.int64)
    for cy in range(first, last):
        for cx in range(columns):
            y0, y1 = edges_y[cy], edges_y[cy + 1]
            x0, x1 = edges_x[cx], edges_x[cx + 1]
            values = np.empty((y1 - y0) * ((x1 - x0) // step + 1), dtype=np.float32)
            n = 0
            for y in range(y0, y1):
                for x in range(x0 + y % step, x1, step):
                    value = data[y, x]
                    if not masked[y, x] and value == value:
                        values[n] = value
                        n += 1
            if n < 16:
                level[cy, cx] = np.nan
                noise[cy, cx] = np.nan
                continue
            ordered = values[:n]
            radix_sort(ordered, np.empty(n, dtype=np.float32), counts)
            lo, hi = 0, n
            mean = 0.0
            deviation = 0.0
            median = 0.0
            for _ in range(20):
                total = 0.0
                for i in range(lo, hi):
                    total += ordered[i]
                mean = total / (hi - lo)
                squares = 0.0
                for i in range(lo, hi):
                    squares += (ordered[i] - mean) ** 2
                deviation = math.sqrt(squares / max(1, hi - lo - 1))
                middle = (lo + hi) // 2
                median = np.float64(ordered[middle])
                if (hi - lo) % 2 == 0:
                    median = 0.5 * (median + ordered[middle - 1])
                new_lo, new_hi = lo, hi
                while new_lo < hi and ordered[new_lo] < median - 3.0 * deviation:
                    new_lo += 1
                while new_hi > new_lo and ordered[new_hi - 1] > median + 3.0 * deviation:
                    new_hi -= 1
                if (new_lo == lo and new_hi == hi) or new_hi - new_lo < 8:
                    break
                lo, hi = new_lo, new_hi
            skew = abs(mean - median) > 0.3 * deviation
            level[cy, cx] = (median if skew else 3.0 * median - 2.0 * mean) if mode else mean
            # Clipping at three deviations takes 1.35 % off the deviation of Gaussian noise.
            noise[cy, cx] = deviation * CLIPPED_TO_SIGMA


@numba.njit(nogil=True, cache=True)
def halve(data, hidden, out, first, last):
    """Fill rows of `out` with the means of 2 x 2 pixels; without the hidden and unknown ones, NaN where three of them are."""
    for j in range(first, last):
        for i in range(out.shape[1]):
            a, b = data[2 * j, 2 * i], data[2 * j, 2 * i + 1]
            c, d = data[2 * j + 1, 2 * i], data[2 * j + 1, 2 * i + 1]
            masked = (
                hidden[2 * j, 2 * i]
                or hidden[2 * j, 2 * i + 1]
                or hidden[2 * j + 1, 2 * i]
                or hidden[2 * j + 1, 2 * i + 1]
            )
            total = a + b + c + d
            if total == total and not masked:
                out[j, i] = np.float32(0.25) * total
                continue
            total, count = np.float32(0.0), 0
            for y in range(2 * j, 2 * j + 2):
                for x in range(2 * i, 2 * i + 2):
                    value = data[y, x]
                    if value == value and not hidden[y, x]:
                        total += value
                        count += 1
            out[j, i] = total / np.float32(count) if count > 1 else np.nan


@numba.njit(nogil=True, cache=True)
def local_maxima(image, noise, factor, masked, first, last, border, out_y, out_x):
    """Pixels of rows ``first <= y < last`` over ``factor * noise`` and over their neighbours; returns their count.

    Ties go to the pixel that comes first, so a plateau gives one maximum a row run. When the output is
    full the search ends.
    """
    height, width = image.shape
    found = 0
    for y in range(max(first, border), min(last, height - border)):
        for x in range(border, width - border):
            v = image[y, x]
            if not v > factor * noise[y, x] or masked[y, x]:
                continue
            if (
                v > image[y - 1, x - 1] and v > image[y - 1, x] and v > image[y - 1, x + 1] and v > image[y, x - 1]
                and v >= image[y, x + 1] and v >= image[y + 1, x - 1] and v >= image[y + 1, x]
                and v >= image[y + 1, x + 1]
            ):  # fmt: skip
                if found == out_x.size:
                    return found
                out_y[found] = y
                out_x[found] = x
                found += 1
    return found


@numba.njit(nogil=True, cache=True)
def free_of_window(mxx, myy, mxy, msum, sigma, out):
    """Fill `out` with cxx, cyy, cxy [px^2] of moments taken under a round Gaussian window of width `sigma`.

    ``C = (M^-1 - W^-1)^-1`` (Bernstein & Jarvis 2002, AJ 123, 583, section 3); NaN where that is no ellipse.
    """
    out[:] = np.nan
    if msum <= 0.0:
        return
    mxx, myy, mxy = mxx / msum, myy / msum, mxy / msum
    det = mxx * myy - mxy * mxy
    if det > 0.0:
        # Inverses of 2 x 2 matrices: window W = sigma^2 I.
        a = myy / det - 1.0 / (sigma * sigma)
        b = mxx / det - 1.0 / (sigma * sigma)
        c = -mxy / det
        inverse = a * b - c * c
        if inverse > 0.0 and a > 0.0:
            out[0], out[1], out[2] = b / inverse, a / inverse, -c / inverse


@numba.njit(nogil=True, cache=True)
def windowed_moments(data, noise, bad, start_x, start_y, sigma, gain, out):
    """Gaussian-windowed centroid, flux and second moments of each start position.

    The window is a round Gaussian of the measured width. The centroid iterates
    ``x += 2 sum(w I dx) / sum(w I)``, which for a Gaussian star is the maximum-likelihood step; moments
    are freed of the window by ``C = (M^-1 - W^-1)^-1`` (Bernstein & Jarvis 2002, AJ 123, 583, section 3).

    `out` columns: x, y, profile-weighted flux, its variance, cxx, cyy, cxy, peak, central-pixel ratio,
    converged, bad pixels near the core.
    """
    height, width = data.shape
    radius = int(math.ceil(4.0 * sigma))
    two_s2 = 2.0 * sigma * sigma
    norm = 1.0 / (math.pi * two_s2)
    # The window is separable: one row and one column of exponentials serve the whole stamp.
    row = np.empty(2 * radius + 1)
    column = np.empty(2 * radius + 1)
    for k in range(start_x.size):
        cx, cy = float(start_x[k]), float(start_y[k])
        converged = 0.0
        sw = sx = sy = 0.0
        for _ in range(40):
            ix, iy = int(round(cx)), int(round(cy))
            sw = sx = sy = 0.0
            for i in range(2 * radius + 1):
                dx, dy = ix - radius + i - cx, iy - radius + i - cy
                row[i] = math.exp(-dx * dx / two_s2)
                column[i] = math.exp(-dy * dy / two_s2)
            for y in range(max(0, iy - radius), min(height, iy + radius + 1)):
                line = line_x = 0.0
                for x in range(max(0, ix - radius), min(width, ix + radius + 1)):
                    value = data[y, x]
                    if not (value == value):
                        continue
                    w = row[x - ix + radius] * value
                    line += w
                    line_x += w * (x - cx)
                g = column[y - iy + radius]
                sw += g * line
                sx += g * line_x
                sy += g * line * (y - cy)
            if sw <= 0.0:
                break
            step_x, step_y = 2.0 * sx / sw, 2.0 * sy / sw
            # A step longer than the window says that there is no star here, only a slope.
            length = math.hypot(step_x, step_y)
            if length > sigma:
                step_x *= sigma / length
                step_y *= sigma / length
            cx += step_x
            cy += step_y
            if abs(cx - start_x[k]) > 2.5 * sigma or abs(cy - start_y[k]) > 2.5 * sigma:
                break
            if length < 1e-4:
                converged = 1.0
                break
        ix, iy = int(round(cx)), int(round(cy))
        weighted = 0.0
        w2 = 0.0
        variance = 0.0
        mxx = myy = mxy = msum = 0.0
        peak = -np.inf
        bad_near = 0.0
        for i in range(2 * radius + 1):
            dx, dy = ix - radius + i - cx, iy - radius + i - cy
            row[i] = math.exp(-dx * dx / two_s2)
            column[i] = math.exp(-dy * dy / two_s2)
        for y in range(max(0, iy - radius), min(height, iy + radius + 1)):
            for x in range(max(0, ix - radius), min(width, ix + radius + 1)):
                dx, dy = x - cx, y - cy
                r2 = dx * dx + dy * dy
                if bad[y, x] and r2 < 4.0 * sigma * sigma:
                    bad_near += 1.0
                value = data[y, x]
                if not (value == value):
                    continue
                g = row[x - ix + radius] * column[y - iy + radius]
                p = g * norm
                weighted += p * value
                w2 += p * p
                v = noise[y, x] * noise[y, x]
                if gain > 0.0 and value > 0.0:
                    v += value / gain
                variance += p * p * v
                mxx += g * value * dx * dx
                myy += g * value * dy * dy
                mxy += g * value * dx * dy
                msum += g * value
                if r2 < 2.0 * sigma * sigma + 2.0 and value > peak:
                    peak = value
        out[k, 0], out[k, 1] = cx, cy
        flux = weighted / w2 if w2 > 0.0 else 0.0
        out[k, 2] = flux
        out[k, 3] = variance / (w2 * w2) if w2 > 0.0 else 0.0
        free_of_window(mxx, myy, mxy, msum, sigma, out[k, 4:7])
        out[k, 7] = peak
        sy0, sx0 = int(start_y[k]), int(start_x[k])
        ring = 0.0
        n_ring = 0
        for y in range(max(0, sy0 - 1), min(height, sy0 + 2)):
            for x in range(max(0, sx0 - 1), min(width, sx0 + 2)):
                if (y != sy0 or x != sx0) and data[y, x] == data[y, x]:
                    ring += data[y, x]
                    n_ring += 1
        ring = ring / max(1, n_ring)
        centre = data[sy0, sx0] if data[sy0, sx0] == data[sy0, sx0] else 0.0
        out[k, 8] = ring / centre if centre > 0.0 else 1.0
        out[k, 9] = converged
        out[k, 10] = bad_near


@numba.njit(nogil=True, cache=True)
def line_votes(xs, ys, cosines, sines, offset, votes):
    """Add a vote of each point to every line through it: `votes` has a row an angle and a column a distance."""
    # Angle by angle: a row of votes stays in the processor's cache.
    for a in range(cosines.size):
        c, s = cosines[a], sines[a]
        row = votes[a]
        # No distance is below -offset: cutting off the fraction rounds, and an index that cannot be negative is not looked at.
        nought = offset + 0.5
        for k in range(xs.size):
            row[np.uint64(xs[k] * c + ys[k] * s + nought)] += 1


@numba.njit(nogil=True, cache=True)
def strongest_lines(votes, least, most):
    """Return row and column of the cells with `least` votes and more: about `most` of them, those with most votes."""
    highest = 0
    for a in range(votes.shape[0]):
        for d in range(votes.shape[1]):
            highest = max(highest, votes[a, d])
    counts = np.zeros(highest + 2, dtype=np.int64)
    for a in range(votes.shape[0]):
        for d in range(votes.shape[1]):
            counts[votes[a, d]] += 1
    level, found = highest + 1, 0
    while level > least and found < most:
        level -= 1
        found += counts[level]
    rows, columns = np.empty(found, dtype=np.int64), np.empty(found, dtype=np.int64)
    n = 0
    for a in range(votes.shape[0]):
        for d in range(votes.shape[1]):
            if votes[a, d] >= level and n < found:
                rows[n], columns[n] = a, d
                n += 1
    return rows[:n], columns[:n]
