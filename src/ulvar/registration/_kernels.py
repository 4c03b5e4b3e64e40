"""Resampling: tap by tap anywhere, and by Lanczos-3 far faster along rows and then columns where the map hardly shears."""

from __future__ import annotations

import math

import numba
import numpy as np

STEPS = 4096
# An index that might be negative is looked at one by one; these are not.
_U = np.uint64
_QUICK = {"contract", "reassoc", "nsz"}


def _lanczos(order: int):
    def weight(d: np.ndarray) -> np.ndarray:
        return np.where(np.abs(d) < order, np.sinc(d) * np.sinc(d / order), 0.0)

    return weight


def _bicubic(d: np.ndarray) -> np.ndarray:
    # Keys 1981 (IEEE Trans. ASSP 29, 1153), equation 15: gives parabolas back.
    d = np.abs(d)
    near, far = 1.5 * d**3 - 2.5 * d**2 + 1, -0.5 * d**3 + 2.5 * d**2 - 4 * d + 2
    return np.where(d < 1, near, np.where(d < 2, far, 0.0))


# Reach [px], weight at a distance [px], and up to which power weights are made to give polynomials back.
_SHAPES = {
    "lanczos3": (3, _lanczos(3), 2), "lanczos4": (4, _lanczos(4), 2), "bicubic": (2, _bicubic, 0),
    "bilinear": (1, lambda d: np.maximum(1 - np.abs(d), 0.0), 0),
    "nearest": (1, lambda d: ((d > -0.5) & (d <= 0.5)).astype(np.float64), 0),
}  # fmt: skip


def kernel_table(name: str, stretch: float = 1.0) -> np.ndarray:
    """Return the weights of a kernel's taps at `STEPS` + 1 fractional positions, shape (STEPS + 1, an even number).

    A windowed sinc gives back no parabola, not even a slope: stars would move by up to 0.02 px. The least change under a
    wide Gaussian makes the weights' sum 1 and their first and second moments nought (the condition of Keys 1981, IEEE
    Trans. ASSP 29, 1153, for his kernel).

    Parameters
    ----------
    name : str
        Of a kernel.
    stretch : float
        The kernel is wider by this: where the target's pixels are as much larger, each is the mean of what it covers.
    """
    reach, shape, powers_kept = _SHAPES[name]
    # What is nearest has no width.
    stretch = 1.0 if name == "nearest" else stretch
    order = math.ceil(reach * stretch)
    fraction = np.arange(STEPS + 1)[:, None] / STEPS
    distance = np.arange(-order + 1, order + 1)[None, :] - fraction
    weights = shape(distance / stretch) / stretch
    if not powers_kept:
        weights /= weights.sum(axis=1, keepdims=True)
        return np.ascontiguousarray(weights.astype(np.float32))
    powers = np.stack([np.ones_like(distance), distance, distance**2], axis=1)
    wide = powers * np.exp(-(distance**2) / (2.0 * order**2))[:, None, :]
    missing = np.array([1.0, 0.0, 0.0]) - (powers @ weights[:, :, None])[:, :, 0]
    share = np.linalg.solve(wide @ powers.transpose(0, 2, 1), missing[:, :, None])
    weights += (wide * share).sum(axis=1)
    return np.ascontiguousarray(weights.astype(np.float32))


@numba.njit(nogil=True, cache=True, error_model="numpy", inline="always")
def _stretch(nodes, k, f, c, step):
    """Return value and slope of a stretch of a row that lies `f` of the way from node row `k` to the next."""
    start = nodes[k, c] * (1 - f) + nodes[k + 1, c] * f
    return start, (nodes[k, c + 1] * (1 - f) + nodes[k + 1, c + 1] * f - start) / step


@numba.njit(nogil=True, cache=True, fastmath={"contract", "reassoc"})
def tap_by_tap(data, holes, across, down, area, step, table, order, which, out, first, last):
    """Fill the stretches of rows `first` to `last` of ``out`` that `which` tells, tap by tap.

    `across`, `down` and `area` give, every `step` columns and rows of the target, the place in the data [px] and the
    data's pixels for one of the target; between them they are linear. Where `holes` (uint8) marks pixels without data
    within reach, the remaining taps are renormalised if they hold at least 0.6 of the kernel's weight; otherwise the
    pixel is NaN.
    """
    height, width = data.shape
    taps, wide = 2 * order, out.shape[1]
    for j in range(first, last):
        k = min(j // step, across.shape[0] - 2)
        f = (j - k * step) / step
        for c in range(across.shape[1] - 1):
            if not which[j, c]:
                continue
            x0, dx = _stretch(across, k, f, c, step)
            y0, dy = _stretch(down, k, f, c, step)
            a0, da = _stretch(area, k, f, c, step)
            for i in range(c * step, min((c + 1) * step, wide)):
                n = i - c * step
                x, y, factor = x0 + dx * n, y0 + dy * n, np.float32(a0 + da * n)
                # Also a place that is no number is outside; as an index it would be anywhere.
                if not (-0.5 <= x <= width - 0.5 and -0.5 <= y <= height - 0.5):
                    out[j, i] = np.nan
                    continue
                fx, fy = int(math.floor(x)), int(math.floor(y))
                kx = int((x - fx) * STEPS + 0.5)
                ky = int((y - fy) * STEPS + 0.5)
                left, top = fx - order + 1, fy - order + 1
                if left >= 0 and top >= 0 and left + taps <= width and top + taps <= height and holes[fy, fx] == 0:
                    total = np.float32(0.0)
                    u, v = _U(left), _U(top)
                    # Loops of a known length are unrolled.
                    if order == 3:
                        for b in range(6):
                            row = np.float32(0.0)
                            for a in range(6):
                                row += table[kx, a] * data[v + _U(b), u + _U(a)]
                            total += table[ky, b] * row
                    elif order == 4:
                        for b in range(8):
                            row = np.float32(0.0)
                            for a in range(8):
                                row += table[kx, a] * data[v + _U(b), u + _U(a)]
                            total += table[ky, b] * row
                    elif order == 2:
                        for b in range(4):
                            row = np.float32(0.0)
                            for a in range(4):
                                row += table[kx, a] * data[v + _U(b), u + _U(a)]
                            total += table[ky, b] * row
                    elif order == 1:
                        for b in range(2):
                            row = np.float32(0.0)
                            for a in range(2):
                                row += table[kx, a] * data[v + _U(b), u + _U(a)]
                            total += table[ky, b] * row
                    else:
                        for b in range(taps):
                            row = np.float32(0.0)
                            for a in range(taps):
                                row += table[kx, a] * data[v + _U(b), u + _U(a)]
                            total += table[ky, b] * row
                    out[j, i] = total * factor
                    continue
                total = np.float32(0.0)
                weight = np.float32(0.0)
                for b in range(taps):
                    yy = top + b
                    if yy < 0 or yy >= height:
                        continue
                    for a in range(taps):
                        xx = left + a
                        if xx < 0 or xx >= width:
                            continue
                        value = data[yy, xx]
                        if not (value == value):
                            continue
                        w = table[kx, a] * table[ky, b]
                        total += w * value
                        weight += w
                out[j, i] = total / weight * factor if weight > np.float32(0.6) else np.nan


@numba.njit(nogil=True, cache=True)
def raise_to(floor, across, down, area, step, out, first, last):
    """Raise rows `first` to `last` of ``out`` to what `floor` holds at their places, in the target's units.

    Nodes are those of `tap_by_tap`.
    """
    height, width = floor.shape
    wide = out.shape[1]
    for j in range(first, last):
        k = min(j // step, across.shape[0] - 2)
        f = (j - k * step) / step
        for c in range(across.shape[1] - 1):
            x0, dx = _stretch(across, k, f, c, step)
            y0, dy = _stretch(down, k, f, c, step)
            a0, da = _stretch(area, k, f, c, step)
            for i in range(c * step, min((c + 1) * step, wide)):
                n = i - c * step
                x, y = x0 + dx * n, y0 + dy * n
                if 0 <= x <= width - 1 and 0 <= y <= height - 1:
                    least = floor[int(y), int(x)] * np.float32(a0 + da * n)
                    if out[j, i] < least:
                        out[j, i] = least


# Over this change of the fraction of a pixel weights follow a parabola to 2e-4, as well as the table's steps.
_BENT = 1.0 / 8


@numba.njit(nogil=True, cache=True, inline="always")
def _parabola(first, middle, last, half):
    """Return value, slope and bend of the parabola through three values; `half` is 1 over the middle's distance."""
    return first, (2 * middle - 1.5 * first - 0.5 * last) * half, (0.5 * first - middle + 0.5 * last) * half * half


@numba.njit(nogil=True, cache=True, fastmath=_QUICK, error_model="numpy")
def _run(data, row, down, column, right, count, table, fraction, change, factor, out, j, i):
    """Fill `count` pixels of ``out[j, i:]`` with sums of six pixels of the data each.

    The first of them is ``data[row, column]``, the next one lies `down` rows and `right` columns further; with each pixel
    of ``out`` they go a column on. The place within the kernel's middle pixel begins at `fraction` and grows by `change`.
    """
    r0, r1, r2 = _U(row), _U(row + down), _U(row + 2 * down)
    r3, r4, r5 = _U(row + 3 * down), _U(row + 4 * down), _U(row + 5 * down)
    c0, c1, c2 = _U(column), _U(column + right), _U(column + 2 * right)
    c3, c4, c5 = _U(column + 3 * right), _U(column + 4 * right), _U(column + 5 * right)
    jj, ii = _U(j), _U(i)
    if abs(change) * count <= _BENT:
        # Weights follow a parabola through those of both ends and the middle.
        last = max(count - 1, 1)
        a, b = fraction * STEPS + 0.5, change * last * STEPS
        k0, k1, k2 = _U(a), _U(min(max(a + b / 2, 0.0), float(STEPS))), _U(min(max(a + b, 0.0), float(STEPS)))
        half = np.float32(2.0 / last)
        w0, p0, q0 = _parabola(table[0, k0], table[0, k1], table[0, k2], half)
        w1, p1, q1 = _parabola(table[1, k0], table[1, k1], table[1, k2], half)
        w2, p2, q2 = _parabola(table[2, k0], table[2, k1], table[2, k2], half)
        w3, p3, q3 = _parabola(table[3, k0], table[3, k1], table[3, k2], half)
        w4, p4, q4 = _parabola(table[4, k0], table[4, k1], table[4, k2], half)
        w5, p5, q5 = _parabola(table[5, k0], table[5, k1], table[5, k2], half)
        for n in range(count):
            k, u = np.float32(n), _U(n)
            total = (w0 + k * (p0 + k * q0)) * data[r0, c0 + u] + (w1 + k * (p1 + k * q1)) * data[r1, c1 + u]
            total += (w2 + k * (p2 + k * q2)) * data[r2, c2 + u] + (w3 + k * (p3 + k * q3)) * data[r3, c3 + u]
            total += (w4 + k * (p4 + k * q4)) * data[r4, c4 + u] + (w5 + k * (p5 + k * q5)) * data[r5, c5 + u]
            out[jj, ii + u] = total * factor
        return
    begin, grows = np.float32(fraction * STEPS + 0.5), np.float32(change * STEPS)
    for n in range(count):
        u = _U(n)
        # Rounding may carry the ends of a run past a pixel's.
        t = min(max(np.int32(begin + grows * np.float32(n)), np.int32(0)), np.int32(STEPS))
        total = table[0, t] * data[r0, c0 + u] + table[1, t] * data[r1, c1 + u] + table[2, t] * data[r2, c2 + u]
        total += table[3, t] * data[r3, c3 + u] + table[4, t] * data[r4, c4 + u] + table[5, t] * data[r5, c5 + u]
        out[jj, ii + u] = total * factor


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _run_end(place, change, begin, end):
    """Return where a run ends: up to there ``place + change * n`` keeps its whole part."""
    whole = math.floor(place + change * begin)
    if math.floor(place + change * (end - 1)) == whole:
        return end
    n = begin + 1
    while math.floor(place + change * n) == whole:
        n += 1
    return n


@numba.njit(nogil=True, cache=True, error_model="numpy")
def along_rows(data, nodes, step, table, out, first, last):
    """Fill rows `first` to `last` of ``out`` (height of the data, width of the target) by interpolation along each row.

    `nodes` gives, every `step` target columns and every `step` rows of the data, the place in the row [px]; between nodes
    it is linear. `table` (6, STEPS + 1) holds the weights. What lies nearer to an end than the kernel's reach is NaN.
    """
    width, wide = data.shape[1], out.shape[1]
    for j in range(first, last):
        k = min(j // step, nodes.shape[0] - 2)
        f = (j - k * step) / step
        for c in range(nodes.shape[1] - 1):
            left, slope = _stretch(nodes, k, f, c, step)
            start = c * step
            count = min(step, wide - start)
            # A run is a part of the stretch in which the pixels of the row go along with those of the target.
            n = 0
            while n < count:
                m = _run_end(left, slope - 1, n, count)
                # Told the way the run is, so that both see the same whole pixel.
                ahead = left + (slope - 1) * n
                base = int(math.floor(ahead)) + n - 2
                if base < 0 or base + 5 + (m - n) > width:
                    out[j, start + n : start + m] = np.nan
                else:
                    fraction, one = ahead - math.floor(ahead), np.float32(1.0)
                    _run(data, j, 0, base, 1, m - n, table, fraction, slope - 1, one, out, j, start + n)
                n = m


@numba.njit(nogil=True, cache=True, error_model="numpy")
def along_columns(between, holes, across, down, area, step, table, left_out, out, first, last):
    """Fill rows `first` to `last` of ``out`` from what `along_rows` gave, by interpolation along each column.

    Nodes are those of `tap_by_tap`, `table` (6, STEPS + 1) holds the weights. Stretches with a pixel that `holes`
    marks, or one that lies nearer to an edge of the data than the kernel's reach, are set in `left_out`, for
    `tap_by_tap` to fill.
    """
    height, width = holes.shape
    wide, reach = out.shape[1], 4
    for j in range(first, last):
        k = min(j // step, across.shape[0] - 2)
        f = (j - k * step) / step
        for c in range(across.shape[1] - 1):
            x0, dx = _stretch(across, k, f, c, step)
            y0, dy = _stretch(down, k, f, c, step)
            factor = np.float32(
                (area[k, c] + area[k, c + 1]) / 2 * (1 - f) + (area[k + 1, c] + area[k + 1, c + 1]) / 2 * f
            )
            start = c * step
            count = min(step, wide - start)
            # Places run straight along a stretch: its ends tell whether all of it lies inside.
            xe, ye = x0 + dx * (count - 1), y0 + dy * (count - 1)
            if not (
                min(x0, xe) >= reach
                and max(x0, xe) <= width - 1 - reach
                and min(y0, ye) >= reach
                and max(y0, ye) <= height - 1 - reach
            ):
                left_out[j, c] = True
                continue
            n = 0
            while n < count:
                m = _run_end(y0, dy, n, count)
                y = y0 + dy * n
                fy = int(y)
                # A run lies in one row of the data: what it passes there is looked through at once.
                begin, end = x0 + dx * n, x0 + dx * (m - 1)
                hole = np.uint8(0)
                for q in range(int(min(begin, end)), int(max(begin, end)) + 1):
                    hole |= holes[fy, q]
                if hole != 0:
                    left_out[j, c] = True
                    break
                _run(between, fy - 2, 1, start + n, 0, m - n, table, y - fy, dy, factor, out, j, start + n)
                n = m
