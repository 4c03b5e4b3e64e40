"""Searches that look at a light curve a great many times."""

from __future__ import annotations

import math

import numba
import numpy as np


@numba.njit(nogil=True, cache=True)
def best_box(flux, longest):
    """Frames from the first to before the last of the dip that lowers the sum of squares most, and by how much."""
    n = flux.size
    sums = np.zeros(n + 1)
    for i in range(n):
        sums[i + 1] = sums[i] + flux[i]
    total = sums[n]
    best, first, last = 0.0, 0, 0
    for i in range(1, n - 1):
        for j in range(i + 1, min(n - 1, i + longest) + 1):
            inside = j - i
            a = sums[j] - sums[i]
            depth = (total - a) / (n - inside) - a / inside
            if depth > 0.0:
                gain = depth * depth * inside * (n - inside) / n
                if gain > best:
                    best, first, last = gain, i, j
    return best, first, last


# Rotations add up their rounding: after so many steps angles are worked out anew.
_ANEW = 256


@numba.njit(nogil=True, cache=True, fastmath={"reassoc", "contract", "nsz"})
def gls(time, value, weight, first, step, out):
    """Floating-mean periodogram (Zechmeister & Kurster 2009, A&A 496, 577, eqs. 4-15) at ``first + k step``, in 1/d.

    Weights sum up to 1. Cosine and sine of each point go on from frequency to frequency by a rotation.
    """
    n = time.size
    mean = 0.0
    for i in range(n):
        mean += weight[i] * value[i]
    wy = np.empty(n)
    yy = 0.0
    for i in range(n):
        wy[i] = weight[i] * (value[i] - mean)
        yy += wy[i] * (value[i] - mean)
    cosine, sine, turn_c, turn_s = np.empty(n), np.empty(n), np.empty(n), np.empty(n)
    for i in range(n):
        turn_c[i], turn_s[i] = math.cos(2.0 * math.pi * step * time[i]), math.sin(2.0 * math.pi * step * time[i])
    for k in range(out.size):
        if k % _ANEW == 0:
            omega = 2.0 * math.pi * (first + k * step)
            for i in range(n):
                cosine[i], sine[i] = math.cos(omega * time[i]), math.sin(omega * time[i])
        c = s = yc = ys = cc = cs = 0.0
        for i in range(n):
            a, b = cosine[i], sine[i]
            wa = weight[i] * a
            c += wa
            s += weight[i] * b
            yc += wy[i] * a
            ys += wy[i] * b
            cc += wa * a
            cs += wa * b
            cosine[i] = a * turn_c[i] - b * turn_s[i]
            sine[i] = a * turn_s[i] + b * turn_c[i]
        ss = 1.0 - cc - s * s
        cc -= c * c
        cs -= c * s
        determinant = cc * ss - cs * cs
        out[k] = (ss * yc * yc + cc * ys * ys - 2.0 * cs * yc * ys) / (yy * determinant) if determinant > 1e-12 else 0.0


@numba.njit(nogil=True, cache=True, fastmath={"reassoc", "contract", "nsz"})
def spectral_window(time, weight, first, step, out):
    """Power of the sampling itself, |sum w exp(i omega t)|^2, at ``first + k step``; weights sum up to 1."""
    n = time.size
    cosine, sine, turn_c, turn_s = np.empty(n), np.empty(n), np.empty(n), np.empty(n)
    for i in range(n):
        turn_c[i], turn_s[i] = math.cos(2.0 * math.pi * step * time[i]), math.sin(2.0 * math.pi * step * time[i])
    for k in range(out.size):
        if k % _ANEW == 0:
            omega = 2.0 * math.pi * (first + k * step)
            for i in range(n):
                cosine[i], sine[i] = math.cos(omega * time[i]), math.sin(omega * time[i])
        c = s = 0.0
        for i in range(n):
            a, b = cosine[i], sine[i]
            c += weight[i] * a
            s += weight[i] * b
            cosine[i] = a * turn_c[i] - b * turn_s[i]
            sine[i] = a * turn_s[i] + b * turn_c[i]
        out[k] = c * c + s * s


@numba.njit(nogil=True, cache=True, inline="always")
def _turns(cycles):
    """Phase of a number of cycles as a whole number of 2^64: sums then leave whole cycles away by themselves."""
    phase = cycles - math.floor(cycles)
    return np.uint64(min(phase, 0.9999999999999998) * 18446744073709551616.0)


@numba.njit(nogil=True, cache=True)
def pdm(time, value, weight, first, step, bins, out):
    """Scatter within phase bins over the scatter of all (Stellingwerf 1978, ApJ 224, 953, eq. 3), two covers half a bin apart.

    Weights count points: they sum up to their number.
    """
    n = time.size
    mean = total = 0.0
    for i in range(n):
        total += weight[i]
        mean += weight[i] * value[i]
    mean /= total
    whole = 0.0
    light = np.empty(n)
    for i in range(n):
        light[i] = weight[i] * (value[i] - mean)
        whole += light[i] * (value[i] - mean)
    # Both covers are made of the same half bins.
    sums, weights = np.empty(2 * bins), np.empty(2 * bins)
    phase, turn = np.empty(n, dtype=np.uint64), np.empty(n, dtype=np.uint64)
    for i in range(n):
        phase[i], turn[i] = _turns(first * time[i]), _turns(step * time[i])
    halves, down = np.uint64(2 * bins), np.uint64(32)
    for k in range(out.size):
        sums[:] = 0.0
        weights[:] = 0.0
        for i in range(n):
            half = ((phase[i] >> down) * halves) >> down
            sums[half] += light[i]
            weights[half] += weight[i]
            phase[i] += turn[i]
        # What is left within bins: all squares less those of the bins' means; a single point in a bin leaves nothing.
        left = 2.0 * whole
        used = 0
        for cover in range(2):
            for j in range(bins):
                a = 2 * j + cover
                b = (a + 1) % (2 * bins)
                w = weights[a] + weights[b]
                if w > 0.0:
                    left -= (sums[a] + sums[b]) ** 2 / w
                    used += 1
        out[k] = left / (2 * n - used) / (whole / (n - 1)) if used < 2 * n else 1.0


@numba.njit(nogil=True, cache=True, fastmath={"reassoc", "contract", "nsz", "nnan"})
def bls(time, value, weight, first, step, bins, shortest, longest, out, place):
    """Box of lower light that fits best in phase (Kovacs, Zucker & Mazeh 2002, A&A 391, 369, eq. 5): share of the variance it takes.

    Weights sum up to 1; values are magnitudes or the negative of light: a box is higher. `place` (k, 2) takes first bin and length of the best.
    """
    n = time.size
    mean = 0.0
    for i in range(n):
        mean += weight[i] * value[i]
    yy = 0.0
    for i in range(n):
        yy += weight[i] * (value[i] - mean) ** 2
    sums, weights = np.empty(bins), np.empty(bins)
    levels, shares = np.zeros(bins + longest + 1), np.zeros(bins + longest + 1)
    light = np.empty(n)
    phase, turn = np.empty(n, dtype=np.uint64), np.empty(n, dtype=np.uint64)
    for i in range(n):
        light[i] = weight[i] * (value[i] - mean)
        phase[i], turn[i] = _turns(first * time[i]), _turns(step * time[i])
    wide_bins, down = np.uint64(bins), np.uint64(32)
    for k in range(out.size):
        sums[:] = 0.0
        weights[:] = 0.0
        for i in range(n):
            j = ((phase[i] >> down) * wide_bins) >> down
            sums[j] += light[i]
            weights[j] += weight[i]
            phase[i] += turn[i]
        # A box may go over the end of the phase.
        level = share = 0.0
        for j in range(bins + longest):
            level += sums[j % bins]
            share += weights[j % bins]
            levels[j + 1], shares[j + 1] = level, share
        best, at, wide = 0.0, 0, 0
        for length in range(shortest, longest + 1):
            highest = 0.0
            for j in range(bins):
                s = levels[j + length] - levels[j]
                r = shares[j + length] - shares[j]
                power = s * abs(s) / (r * (1.0 - r) + 1e-300)
                highest = max(highest, power)
            if highest > best:
                best, wide = highest, length
        for j in range(bins):
            s = levels[j + wide] - levels[j]
            r = shares[j + wide] - shares[j]
            if wide > 0 and s * abs(s) / (r * (1.0 - r) + 1e-300) == best:
                at = j
        out[k] = best / yy
        place[k, 0] = at
        place[k, 1] = wide


@numba.njit(nogil=True, cache=True)
def fourier_squares(time, value, weight, group, groups, first, step, order, out):
    """Weighted sum of squares about a Fourier series with a level for each group, at ``first + k step``.

    Levels are taken off by centring every column within its group; what is left is solved by elimination.
    """
    n, size = time.size, 2 * order
    sums = np.zeros((groups, size + 1))
    total = np.zeros(groups)
    for i in range(n):
        total[group[i]] += weight[i]
    normal = np.empty((size + 1, size + 1))
    row = np.empty(size + 1)
    for k in range(out.size):
        omega = 2.0 * math.pi * (first + k * step)
        normal[:] = 0.0
        sums[:] = 0.0
        for i in range(n):
            c1, s1 = math.cos(omega * time[i]), math.sin(omega * time[i])
            c, s = c1, s1
            for m in range(order):
                row[m], row[order + m] = c, s
                c, s = c * c1 - s * s1, s * c1 + c * s1
            row[size] = value[i]
            w = weight[i]
            for a in range(size + 1):
                sums[group[i], a] += w * row[a]
                for b in range(a + 1):
                    normal[a, b] += w * row[a] * row[b]
        for g in range(groups):
            if total[g] > 0.0:
                for a in range(size + 1):
                    for b in range(a + 1):
                        normal[a, b] -= sums[g, a] * sums[g, b] / total[g]
        # Cholesky of the lower triangle; the last diagonal then holds what is left.
        left = normal[size, size]
        for j in range(size):
            pivot = normal[j, j]
            for c_ in range(j):
                pivot -= normal[j, c_] * normal[j, c_]
            root = math.sqrt(pivot) if pivot > 1e-12 * total[0] else 0.0
            normal[j, j] = root
            for a in range(j + 1, size + 1):
                entry = normal[a, j]
                for c_ in range(j):
                    entry -= normal[a, c_] * normal[j, c_]
                normal[a, j] = entry / root if root > 0.0 else 0.0
            left -= normal[size, j] * normal[size, j]
        out[k] = max(left, 0.0)
