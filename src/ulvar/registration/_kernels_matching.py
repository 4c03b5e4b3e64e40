"""What a match tries thousands of times: which stars are near a place, and what a map that they give brings together."""

from __future__ import annotations

import math

import numba
import numpy as np


@numba.njit(cache=True, nogil=True, inline="always")
def _column(value, low, cell, count):
    """Return the column of cells of a place; what lies outside belongs to the cells at the edge."""
    return min(max(int(math.floor((value - low) / cell)), 0), count - 1)


@numba.njit(cache=True, nogil=True)
def nearest(px, py, stars, starts, low, cell, shape, reach):
    """Return which star is nearest to a place and how far squared; -1 where none is within `reach`, a cell at most."""
    best, found = reach * reach, -1
    # A place farther outside than this is beyond reach of the cells at the edge.
    if not (
        px >= low[0] - reach
        and py >= low[1] - reach
        and px <= low[0] + cell * shape[0] + reach
        and py <= low[1] + cell * shape[1] + reach
    ):
        return found, best
    column, row = _column(px, low[0], cell, shape[0]), _column(py, low[1], cell, shape[1])
    for j in range(max(row - 1, 0), min(row + 2, shape[1])):
        first = starts[j * shape[0] + max(column - 1, 0)]
        last = starts[j * shape[0] + min(column + 1, shape[0] - 1) + 1]
        for k in range(first, last):
            dx, dy = stars[k, 0] - px, stars[k, 1] - py
            away = dx * dx + dy * dy
            if away < best:
                best, found = away, k
    return found, best


@numba.njit(cache=True, nogil=True)
def stars_within(points, stars, starts, low, cell, shape, reach, counts, out):
    """Count the stars within `reach`, a cell at most, of each place; unless `out` is empty, list them there, place by place."""
    n = 0
    for i in range(len(points)):
        before = n
        column, row = _column(points[i, 0], low[0], cell, shape[0]), _column(points[i, 1], low[1], cell, shape[1])
        for j in range(max(row - 1, 0), min(row + 2, shape[1])):
            first = starts[j * shape[0] + max(column - 1, 0)]
            last = starts[j * shape[0] + min(column + 1, shape[0] - 1) + 1]
            for k in range(first, last):
                dx, dy = stars[k, 0] - points[i, 0], stars[k, 1] - points[i, 1]
                if dx * dx + dy * dy <= reach * reach:
                    if out.size > 0:
                        out[n] = k
                    n += 1
        counts[i] = n - before
    return n


@numba.njit(cache=True, nogil=True)
def count_pairs(matrices, points, stars, starts, low, cell, shape, reach, box):
    """Return how many points each affine matrix (k, 2, 3) brings within `reach` of a star, and how many into the box."""
    pairs, inside = np.zeros(len(matrices), dtype=np.int64), np.zeros(len(matrices), dtype=np.int64)
    for m in range(len(matrices)):
        a = matrices[m]
        for i in range(len(points)):
            x = a[0, 0] * points[i, 0] + a[0, 1] * points[i, 1] + a[0, 2]
            y = a[1, 0] * points[i, 0] + a[1, 1] * points[i, 1] + a[1, 2]
            if x >= box[0] and y >= box[1] and x <= box[2] and y <= box[3]:
                inside[m] += 1
                pairs[m] += nearest(x, y, stars, starts, low, cell, shape, reach)[0] >= 0
    return pairs, inside


@numba.njit(cache=True, nogil=True)
def pair_up(matrix, points, stars, starts, low, cell, shape, reach, owner, away):
    """Note for each star the nearest of the points that a matrix brings within `reach` of it; returns how many have one."""
    owner[:] = -1
    found = 0
    for i in range(len(points)):
        x = matrix[0, 0] * points[i, 0] + matrix[0, 1] * points[i, 1] + matrix[0, 2]
        y = matrix[1, 0] * points[i, 0] + matrix[1, 1] * points[i, 1] + matrix[1, 2]
        k, distance = nearest(x, y, stars, starts, low, cell, shape, reach)
        if k < 0:
            continue
        if owner[k] < 0:
            found += 1
        elif away[k] <= distance:
            continue
        owner[k], away[k] = i, distance
    return found


@numba.njit(cache=True, nogil=True)
def fit_pairs(points, stars, owner, few, mirrored, out):
    """Put into `out` the affine matrix of the pairs by least squares, a similarity where they are few; False where they carry none."""
    n, sx, sy, tx, ty = 0, 0.0, 0.0, 0.0, 0.0
    for k in range(len(stars)):
        i = owner[k]
        if i >= 0:
            n += 1
            sx += points[i, 0]
            sy += points[i, 1]
            tx += stars[k, 0]
            ty += stars[k, 1]
    sx, sy, tx, ty = sx / n, sy / n, tx / n, ty / n
    flip = -1.0 if mirrored else 1.0
    xx, xy, yy, xu, yu, xv, yv = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    for k in range(len(stars)):
        i = owner[k]
        if i >= 0:
            x, y = points[i, 0] - sx, points[i, 1] - sy
            u, v = stars[k, 0] - tx, stars[k, 1] - ty
            xx += x * x
            xy += x * y
            yy += y * y
            xu += x * u
            yu += y * u
            xv += x * v
            yv += y * v
    if few:
        if xx + yy <= 0.0:
            return False
        a, b = (xu + flip * yv) / (xx + yy), (xv - flip * yu) / (xx + yy)
        out[0, 0], out[0, 1], out[1, 0], out[1, 1] = a, -flip * b, b, flip * a
    else:
        volume = xx * yy - xy * xy
        # Stars on a line tell nothing of what is beside it.
        if volume <= 1e-12 * (xx + yy) ** 2:
            return False
        out[0, 0], out[0, 1] = (xu * yy - yu * xy) / volume, (yu * xx - xu * xy) / volume
        out[1, 0], out[1, 1] = (xv * yy - yv * xy) / volume, (yv * xx - xv * xy) / volume
    out[0, 2] = tx - out[0, 0] * sx - out[0, 1] * sy
    out[1, 2] = ty - out[1, 0] * sx - out[1, 1] * sy
    return True


@numba.njit(cache=True, nogil=True)
def fitted(matrix, points, stars, starts, low, cell, shape, reaches, least, enough):
    """Return a matrix fitted again to the pairs within each reach in turn, and how many the last had; 0 where too few are left."""
    out = matrix.copy()
    owner, away = np.empty(len(stars), dtype=np.int64), np.empty(len(stars))
    mirrored = matrix[0, 0] * matrix[1, 1] - matrix[0, 1] * matrix[1, 0] < 0
    count = 0
    for reach in reaches:
        count = pair_up(out, points, stars, starts, low, cell, shape, reach, owner, away)
        if count < least or not fit_pairs(points, stars, owner, count < enough, mirrored, out):
            return out, 0
    return out, count


@numba.njit(cache=True, nogil=True)
def paired(matrix, points, stars, starts, low, cell, shape, reach):
    """Return how many stars have a point that a matrix brings within `reach`."""
    owner, away = np.empty(len(stars), dtype=np.int64), np.empty(len(stars))
    return pair_up(matrix, points, stars, starts, low, cell, shape, reach, owner, away)
