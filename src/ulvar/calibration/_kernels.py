"""Calibration arithmetic in one pass over memory, repair of pixels, Laplacian edges (NumPy references in the tests)."""

from __future__ import annotations

import numba
import numpy as np

EMPTY = np.empty(0, dtype=np.float32)


@numba.njit(nogil=True, cache=True)
def subtract_divide(data, zero, inverse_flat, out):
    """``out = (data - zero) * inverse_flat`` on flat float32 arrays; an empty plane is skipped.

    Returns how many pixels came out without a value.
    """
    with_zero, with_flat = zero.size > 0, inverse_flat.size > 0
    lost = 0
    if with_zero and with_flat:
        for i in range(data.size):
            value = (data[i] - zero[i]) * inverse_flat[i]
            out[i] = value
            lost += 0 if value == value else 1
    elif with_zero:
        for i in range(data.size):
            value = data[i] - zero[i]
            out[i] = value
            lost += 0 if value == value else 1
    elif with_flat:
        for i in range(data.size):
            value = data[i] * inverse_flat[i]
            out[i] = value
            lost += 0 if value == value else 1
    else:
        for i in range(data.size):
            value = data[i]
            out[i] = value
            lost += 0 if value == value else 1
    return lost


@numba.njit(nogil=True, cache=True)
def repair_pixels(data, mask, bad, ys, xs, step):
    """Median of the good pixels around each (ys, xs); returns which were repaired."""
    height, width = data.shape
    done = np.zeros(ys.size, dtype=np.bool_)
    fresh = np.empty(ys.size, dtype=np.float32)
    values = np.empty(81, dtype=np.float32)
    for k in range(ys.size):
        y, x = ys[k], xs[k]
        for reach in range(1, 5):
            n = 0
            for dy in range(-reach, reach + 1):
                for dx in range(-reach, reach + 1):
                    yy, xx = y + step * dy, x + step * dx
                    if 0 <= yy < height and 0 <= xx < width and (mask[yy, xx] & bad) == 0:
                        value = data[yy, xx]
                        if value == value:
                            values[n] = value
                            n += 1
            if n >= 3:
                fresh[k] = np.median(values[:n])
                done[k] = True
                break
    # Written at the end, so that no repaired pixel is the source of another.
    for k in range(ys.size):
        if done[k]:
            data[ys[k], xs[k]] = fresh[k]
    return done


@numba.njit(nogil=True, cache=True)
def laplacian_edges(data, step, out):
    """Positive Laplacian of a frame sampled twice as fine, averaged back to its pixels.

    Sampled twice as fine, each quarter of a pixel has two neighbours of its own value and two of the pixels
    beside it; negative quarters are cut, which keeps the dark moat around a spike from hiding it. An isolated
    spike of height h gives 2 h. `step` is 2 on a mosaic, where neighbours of the same colour count.
    """
    height, width = data.shape
    for y in range(height):
        up, down = max(y - step, 0), min(y + step, height - 1)
        for x in range(width):
            left, right = max(x - step, 0), min(x + step, width - 1)
            twice = 2 * data[y, x]
            a, b, c, d = data[up, x], data[down, x], data[y, left], data[y, right]
            total = max(twice - a - c, np.float32(0.0)) + max(twice - a - d, np.float32(0.0))
            total += max(twice - b - c, np.float32(0.0)) + max(twice - b - d, np.float32(0.0))
            out[y, x] = np.float32(0.25) * total
