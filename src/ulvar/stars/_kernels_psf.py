"""Hot loops of profile fitting: sampling the profile, fitting all stars, shapes, gathering the profile.

The profile is a table over offsets from the star's centre in half pixels. A star's pixels all fall on the same
place between table points, so four weights along each axis serve its whole stamp (cubic convolution, Keys 1981,
IEEE Trans. ASSP 29, 1153, with a = -1/2).
"""

from __future__ import annotations

import math

import numba
import numpy as np

from ulvar.stars._kernels import free_of_window


@numba.njit(nogil=True, cache=True, inline="always")
def _weights(t, out, slope):
    t2, t3 = t * t, t * t * t
    out[0] = -0.5 * t3 + t2 - 0.5 * t
    out[1] = 1.5 * t3 - 2.5 * t2 + 1.0
    out[2] = -1.5 * t3 + 2.0 * t2 + 0.5 * t
    out[3] = 0.5 * t3 - 0.5 * t2
    slope[0] = -1.5 * t2 + 2.0 * t - 0.5
    slope[1] = 4.5 * t2 - 5.0 * t
    slope[2] = -4.5 * t2 + 4.0 * t + 0.5
    slope[3] = 1.5 * t2 - t


@numba.njit(nogil=True, cache=True)
def sample_table(table, dx, dy):
    """Value of the profile at one offset [px]; 0 outside the table."""
    half = (table.shape[0] - 1) // 2
    u, v = 2.0 * dx + half, 2.0 * dy + half
    iu, iv = int(math.floor(u)), int(math.floor(v))
    if iu < 1 or iv < 1 or iu + 2 >= table.shape[1] or iv + 2 >= table.shape[0]:
        return 0.0
    wx, wy, s = np.empty(4), np.empty(4), np.empty(4)
    _weights(u - iu, wx, s)
    _weights(v - iv, wy, s)
    total = 0.0
    for j in range(4):
        line = 0.0
        for i in range(4):
            line += wx[i] * table[iv - 1 + j, iu - 1 + i]
        total += wy[j] * line
    return total


@numba.njit(nogil=True, cache=True)
def sample_places(table, dx, dy, out):
    """Fill `out` with the profile at offsets [px]; all of one length."""
    for k in range(dx.size):
        out[k] = sample_table(table, dx[k], dy[k])


@numba.njit(nogil=True, cache=True)
def _stamp(table, cx, cy, radius, height, width, value, gx, gy, slopes):
    """Fill profile (and its slopes along x and y) over the stamp about a centre; returns its bounds."""
    half = (table.shape[0] - 1) // 2
    ix, iy = int(round(cx)), int(round(cy))
    x0, x1 = max(0, ix - radius), min(width, ix + radius + 1)
    y0, y1 = max(0, iy - radius), min(height, iy + radius + 1)
    if x1 <= x0 or y1 <= y0:
        return x0, x0, y0, y0
    wx, wy, sx, sy = np.empty(4), np.empty(4), np.empty(4), np.empty(4)
    u, v = 2.0 * (x0 - cx) + half, 2.0 * (y0 - cy) + half
    iu, iv = int(math.floor(u)), int(math.floor(v))
    _weights(u - iu, wx, sx)
    _weights(v - iv, wy, sy)
    size = table.shape[0]
    for x in range(x0, x1):
        c = iu + 2 * (x - x0)
        inside_x = c >= 1 and c + 2 < size
        for y in range(y0, y1):
            r = iv + 2 * (y - y0)
            p = px = py = 0.0
            if inside_x and r >= 1 and r + 2 < size:
                for j in range(4):
                    row = table[r - 1 + j]
                    line = wx[0] * row[c - 1] + wx[1] * row[c] + wx[2] * row[c + 1] + wx[3] * row[c + 2]
                    p += wy[j] * line
                    if slopes:
                        py += sy[j] * line
                        px += wy[j] * (sx[0] * row[c - 1] + sx[1] * row[c] + sx[2] * row[c + 1] + sx[3] * row[c + 2])
            value[y - y0, x - x0] = p
            if slopes:
                # The table's step is half a pixel.
                gx[y - y0, x - x0] = 2.0 * px
                gy[y - y0, x - x0] = 2.0 * py
    return x0, x1, y0, y1


@numba.njit(nogil=True, cache=True)
def subtract_stars(residual, table, x, y, flux, reach, sign):
    """Take stars off `residual` (sign 1) or put them back (sign -1), in place; NaN stays NaN."""
    height, width = residual.shape
    most = 0
    for k in range(x.size):
        most = max(most, reach[k])
    value = np.empty((2 * most + 1, 2 * most + 1))
    for k in range(x.size):
        if flux[k] == 0.0:
            continue
        x0, x1, y0, y1 = _stamp(table, x[k], y[k], reach[k], height, width, value, value, value, False)
        amount = sign * flux[k]
        for j in range(y0, y1):
            for i in range(x0, x1):
                residual[j, i] -= np.float32(amount * value[j - y0, i - x0])


@numba.njit(nogil=True, cache=True)
def fit_sweep(
    residual, noise, bad, table, gain, x, y, flux, start_x, start_y, fit_radius, reach, moving, state, variance, limit
):
    """One round of fits of flux and position, star by star, on the residual of all stars together.

    `residual` has every star taken off and is kept so. Each star solves the linear least squares of its own
    flux and position against what is left (Stetson 1987, PASP 99, 191, section III), weighted by sky noise and,
    with `gain` over 0, by its photons. A star whose position leaves `limit` [px] about its start, or whose flux
    is not positive, is put back and gets flux 0.

    `state` is 1 for a star that still changes; `variance` gets the variance of flux, x and y.
    Returns how many stars still change.
    """
    height, width = residual.shape
    most = 0
    for k in range(x.size):
        most = max(most, reach[k], fit_radius[k])
    size = 2 * most + 1
    value, gx, gy = np.empty((size, size)), np.empty((size, size)), np.empty((size, size))
    changing = 0
    for k in range(x.size):
        if flux[k] == 0.0 or state[k] == 0:
            continue
        f = flux[k]
        r = fit_radius[k]
        x0, x1, y0, y1 = _stamp(table, x[k], y[k], r, height, width, value, gx, gy, True)
        a00 = a01 = a02 = a11 = a12 = a22 = b0 = b1 = b2 = 0.0
        r2 = (r + 0.5) * (r + 0.5)
        for j in range(y0, y1):
            for i in range(x0, x1):
                d = residual[j, i]
                if not (d == d) or bad[j, i] or (i - x[k]) ** 2 + (j - y[k]) ** 2 > r2:
                    continue
                p = value[j - y0, i - x0]
                v = noise[j, i] * noise[j, i]
                if gain > 0.0 and p > 0.0:
                    v += f * p / gain
                w = 1.0 / v
                # Moving the star by dx changes the model by -f dP/dx.
                qx, qy = gx[j - y0, i - x0], gy[j - y0, i - x0]
                mx, my = f * qx, f * qy
                a00 += w * p * p
                a01 += w * p * mx
                a02 += w * p * my
                a11 += w * mx * mx
                a12 += w * mx * my
                a22 += w * my * my
                b0 += w * p * d
                b1 += w * mx * d
                b2 += w * my * d
        if a00 <= 0.0:
            state[k] = 0
            continue
        det = a00 * (a11 * a22 - a12 * a12) - a01 * (a01 * a22 - a12 * a02) + a02 * (a01 * a12 - a11 * a02)
        df, dx, dy = b0 / a00, 0.0, 0.0
        variance[k, 0] = 1.0 / a00
        if moving and det > 1e-12 * a00 * a11 * a22:
            c00, c01, c02 = a11 * a22 - a12 * a12, a02 * a12 - a01 * a22, a01 * a12 - a02 * a11
            c11, c12, c22 = a00 * a22 - a02 * a02, a01 * a02 - a00 * a12, a00 * a11 - a01 * a01
            df = (c00 * b0 + c01 * b1 + c02 * b2) / det
            dx = (c01 * b0 + c11 * b1 + c12 * b2) / det
            dy = (c02 * b0 + c12 * b1 + c22 * b2) / det
            variance[k, 0], variance[k, 1], variance[k, 2] = c00 / det, c11 / det, c22 / det
            length = math.hypot(dx, dy)
            if length > 0.4:
                dx *= 0.4 / length
                dy *= 0.4 / length
        # The stamp of slopes is of the table's sign: dP/d(pixel) = -dP/d(centre).
        nx, ny, nf = x[k] - dx, y[k] - dy, f + max(df, -0.7 * f)
        lost = (
            nf <= 0.0
            or (nx - start_x[k]) ** 2 + (ny - start_y[k]) ** 2 > limit * limit
            or nx < -0.5 or ny < -0.5 or nx > width - 0.5 or ny > height - 0.5
        )  # fmt: skip
        x0, x1, y0, y1 = _stamp(table, x[k], y[k], reach[k], height, width, value, gx, gy, False)
        for j in range(y0, y1):
            for i in range(x0, x1):
                residual[j, i] += np.float32(f * value[j - y0, i - x0])
        if lost:
            flux[k] = 0.0
            continue
        x0, x1, y0, y1 = _stamp(table, nx, ny, reach[k], height, width, value, gx, gy, False)
        for j in range(y0, y1):
            for i in range(x0, x1):
                residual[j, i] -= np.float32(nf * value[j - y0, i - x0])
        settled = abs(nf - f) < 0.05 * math.sqrt(variance[k, 0]) and math.hypot(
            nx - x[k], ny - y[k]
        ) < 0.05 * math.sqrt(variance[k, 1])
        x[k], y[k], flux[k] = nx, ny, nf
        if not settled:
            changing += 1
        state[k] = 0 if settled else 1
    return changing


@numba.njit(nogil=True, cache=True)
def star_shapes(residual, noise, bad, table, gain, x, y, flux, sigma, fit_radius, first, last, out):
    """Shapes of the stars ``first <= k < last`` with all others taken off.

    `out` columns: cxx, cyy, cxy [px^2] of Gaussian-windowed second moments freed of the window (Bernstein &
    Jarvis 2002, AJ 123, 583, section 3); stretch, the size of the profile that fits best over that of the
    table; peak [ADU]; chi, the root mean square of what is left within the fit radius over its noise; the number of
    bad pixels near the core.
    """
    height, width = residual.shape
    radius = int(math.ceil(4.0 * sigma))
    size = 2 * radius + 1
    stamp = np.empty((size, size))
    value = np.empty((size, size))
    for k in range(first, last):
        cx, cy, f = x[k], y[k], flux[k]
        x0, x1, y0, y1 = _stamp(table, cx, cy, radius, height, width, value, value, value, False)
        peak = -np.inf
        mxx = myy = mxy = msum = left = 0.0
        counted = 0
        bad_near = 0.0
        r_fit = (fit_radius + 0.5) ** 2
        for j in range(y0, y1):
            for i in range(x0, x1):
                dx, dy = i - cx, j - cy
                r2 = dx * dx + dy * dy
                if bad[j, i] and r2 < 4.0 * sigma * sigma:
                    bad_near += 1.0
                d = residual[j, i]
                if not (d == d):
                    stamp[j - y0, i - x0] = np.nan
                    continue
                p = f * value[j - y0, i - x0]
                whole = d + p
                stamp[j - y0, i - x0] = whole
                g = math.exp(-0.5 * r2 / (sigma * sigma)) * whole
                mxx += g * dx * dx
                myy += g * dy * dy
                mxy += g * dx * dy
                msum += g
                if r2 < 2.0 * sigma * sigma + 2.0 and whole > peak:
                    peak = whole
                if r2 < r_fit and not bad[j, i]:
                    v = noise[j, i] * noise[j, i]
                    if gain > 0.0 and p > 0.0:
                        v += p / gain
                    left += d * d / v
                    counted += 1
        free_of_window(mxx, myy, mxy, msum, sigma, out[k, 0:3])
        out[k, 3] = _stretch(stamp, noise, bad, table, gain, cx, cy, f, fit_radius, x0, x1, y0, y1)
        out[k, 4] = peak
        out[k, 5] = math.sqrt(left / counted) if counted > 0 else np.nan
        out[k, 6] = bad_near


@numba.njit(nogil=True, cache=True)
def _stretch(stamp, noise, bad, table, gain, cx, cy, f, fit_radius, x0, x1, y0, y1):
    """Size of the profile that fits a star best over that of the table, by a fit of flux and size; NaN when it fails."""
    size, amount = 1.0, f
    r2 = (fit_radius + 0.5) ** 2
    for _ in range(8):
        a00 = a01 = a11 = b0 = b1 = 0.0
        for j in range(y0, y1):
            for i in range(x0, x1):
                dx, dy = i - cx, j - cy
                whole = stamp[j - y0, i - x0]
                if dx * dx + dy * dy > r2 or not (whole == whole) or bad[j, i]:
                    continue
                s2 = size * size
                p = sample_table(table, dx / size, dy / size) / s2
                # d/d(size) of P(d / size) / size^2, by a symmetric difference.
                h = 0.02 * size
                up, down = size + h, size - h
                slope = (
                    sample_table(table, dx / up, dy / up) / (up * up)
                    - sample_table(table, dx / down, dy / down) / (down * down)
                ) / (2 * h)
                v = noise[j, i] * noise[j, i]
                if gain > 0.0 and p > 0.0:
                    v += amount * p / gain
                w = 1.0 / v
                m = amount * slope
                d = whole - amount * p
                a00 += w * p * p
                a01 += w * p * m
                a11 += w * m * m
                b0 += w * p * d
                b1 += w * m * d
        det = a00 * a11 - a01 * a01
        if not det > 0.0:
            return np.nan
        df, ds = (a11 * b0 - a01 * b1) / det, (a00 * b1 - a01 * b0) / det
        step = min(max(ds, -0.2 * size), 0.3 * size)
        size += step
        amount += df
        if size < 0.2 or size > 5.0 or amount <= 0.0:
            return min(max(size, 0.2), 5.0)
        if abs(step) < 1e-3:
            break
    return size


@numba.njit(nogil=True, cache=True)
def gather_profile(residual, noise, bad, table, gain, x, y, flux, radius, total, weight):
    """Add up what stars differ from the profile by at each table point (Anderson & King 2000, PASP 112, 1360).

    `total` and `weight`, of the table's shape, get weighted sums of (star - profile) / flux and the weights.
    """
    height, width = residual.shape
    half = (table.shape[0] - 1) // 2
    size = 2 * radius + 1
    value = np.empty((size, size))
    for k in range(x.size):
        if flux[k] <= 0.0:
            continue
        x0, x1, y0, y1 = _stamp(table, x[k], y[k], radius, height, width, value, value, value, False)
        for j in range(y0, y1):
            for i in range(x0, x1):
                d = residual[j, i]
                if not (d == d) or bad[j, i]:
                    continue
                u = int(round(2.0 * (i - x[k]))) + half
                v = int(round(2.0 * (j - y[k]))) + half
                if u < 0 or v < 0 or u >= table.shape[1] or v >= table.shape[0]:
                    continue
                p = flux[k] * max(value[j - y0, i - x0], 0.0)
                # A profile that is still wrong by a few per cent must not let the brightest star speak alone.
                variance = noise[j, i] * noise[j, i] + (p / gain if gain > 0.0 else 0.0) + (0.05 * p) ** 2
                if d * d > 36.0 * variance + (0.3 * p) ** 2:
                    continue
                w = flux[k] * flux[k] / variance
                total[v, u] += w * d / flux[k]
                weight[v, u] += w
