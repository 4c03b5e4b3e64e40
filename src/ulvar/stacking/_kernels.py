"""Pixels dropped onto a finer grid: the area that each shrunken pixel covers of every pixel of the grid, exactly."""

from __future__ import annotations

import math

import numba
import numpy as np


@numba.njit(nogil=True, cache=True, error_model="numpy", inline="always")
def _below(y):
    """Return the integral from 0 to y of what of y lies between 0 and 1."""
    if y <= 0.0:
        return 0.0
    return 0.5 * y * y if y < 1.0 else y - 0.5


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _under(xa, ya, xb, yb):
    """Return the area of the unit square under an edge, negative where it runs back."""
    left, right = min(max(xa, 0.0), 1.0), min(max(xb, 0.0), 1.0)
    if left == right:
        return 0.0
    slope = (yb - ya) / (xb - xa)
    low, high = ya + slope * (left - xa), ya + slope * (right - xa)
    if abs(high - low) < 1e-9:
        return (right - left) * min(max(0.5 * (low + high), 0.0), 1.0)
    return (right - left) * (_below(high) - _below(low)) / (high - low)


@numba.njit(nogil=True, cache=True, error_model="numpy")
def square_overlap(xs, ys):
    """Return the area common to a quadrilateral, corners in turn (4,), and the unit square from (0, 0) to (1, 1).

    By Green's theorem it is the integral round the quadrilateral of y, held between 0 and 1, over the x between 0 and 1.
    """
    total = 0.0
    for k in range(4):
        n = (k + 1) % 4
        total += _under(xs[k], ys[k], xs[n], ys[n])
    return abs(total)


@numba.njit(nogil=True, cache=True, error_model="numpy", inline="always")
def _at(nodes, x, y, step):
    """Return what nodes `step` apart say at a place, linear between them and beyond."""
    c = min(max(int(x / step), 0), nodes.shape[1] - 2)
    k = min(max(int(y / step), 0), nodes.shape[0] - 2)
    fx, fy = x / step - c, y / step - k
    above = nodes[k, c] * (1 - fx) + nodes[k, c + 1] * fx
    below = nodes[k + 1, c] * (1 - fx) + nodes[k + 1, c + 1] * fx
    return above * (1 - fy) + below * fy


@numba.njit(nogil=True, cache=True, error_model="numpy")
def drop_rows(data, across, down, step, half, factor, addend, weight, variance, y0, sums, weights, squares):
    """Add an exposure's pixels to a band of the grid.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        NaN is no data.
    across, down : float64 array
        Place on the grid of the exposure's pixels `step` apart [px].
    step : int
    half : float
        Half the side of a drop [px of the exposure].
    factor, addend : float
        Bring light for a pixel of the grid to the reference.
    weight, variance : float
        Of the exposure, and of one of its pixels times `factor` [ADU^2].
    y0 : int
        First row of the band.
    sums, weights, squares : float64 array, shape (rows, width of the grid)
        Added to: weight times value, weight, and squared weight times variance.
    """
    height, width = data.shape
    rows, wide = sums.shape
    xs, ys = np.empty(4), np.empty(4)
    for j in range(height):
        for i in range(width):
            value = data[j, i]
            if not (value == value):
                continue
            for k in range(4):
                # Corners in turn.
                cx = i + (half if k == 1 or k == 2 else -half)
                cy = j + (half if k >= 2 else -half)
                xs[k], ys[k] = _at(across, cx, cy, step), _at(down, cx, cy, step)
            left, right = min(xs[0], xs[1], xs[2], xs[3]), max(xs[0], xs[1], xs[2], xs[3])
            low, high = min(ys[0], ys[1], ys[2], ys[3]), max(ys[0], ys[1], ys[2], ys[3])
            if not (high >= y0 - 0.5 and low <= y0 + rows - 0.5 and right >= -0.5 and left <= wide - 0.5):
                continue
            drop = 0.5 * abs((xs[2] - xs[0]) * (ys[3] - ys[1]) - (xs[3] - xs[1]) * (ys[2] - ys[0]))
            if drop <= 0.0:
                continue
            # A pixel of the grid is this share of one of the exposure.
            share = 4.0 * half * half / drop
            light = float(value) * share * factor + addend
            spread = variance * share * share
            first, last = max(int(math.floor(left + 0.5)), 0), min(int(math.floor(right + 0.5)), wide - 1)
            begin, end = max(int(math.floor(low + 0.5)), y0), min(int(math.floor(high + 0.5)), y0 + rows - 1)
            for r in range(begin, end + 1):
                for c in range(first, last + 1):
                    for k in range(4):
                        xs[k] -= c - 0.5
                        ys[k] -= r - 0.5
                    area = square_overlap(xs, ys)
                    for k in range(4):
                        xs[k] += c - 0.5
                        ys[k] += r - 0.5
                    if area > 0.0:
                        w = area * weight
                        sums[r - y0, c] += w * light
                        weights[r - y0, c] += w
                        squares[r - y0, c] += w * w * spread
