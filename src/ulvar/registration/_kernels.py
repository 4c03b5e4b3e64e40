"""Lanczos resampling."""

from __future__ import annotations

import math

import numba
import numpy as np

STEPS = 4096


def lanczos_table(order: int) -> np.ndarray:
    """Return weights of the ``2 * order`` taps at `STEPS` + 1 fractional positions, each row summing to 1."""
    fraction = np.arange(STEPS + 1)[:, None] / STEPS
    distance = fraction - np.arange(-order + 1, order + 1)[None, :]
    weights = np.sinc(distance) * np.sinc(distance / order)
    return np.ascontiguousarray((weights / weights.sum(axis=1, keepdims=True)).astype(np.float32))


@numba.njit(nogil=True, cache=True, fastmath={"contract", "reassoc"})
def lanczos_rows(data, holes, inverse, table, order, factor, out):
    """Fill ``out`` with `data` resampled at the inverse-mapped positions.

    Where `holes` (uint8) marks pixels without data within reach, the remaining taps are renormalised if
    they hold at least half of the kernel's positive weight in the inner taps; otherwise the pixel is NaN.
    """
    height, width = data.shape
    taps = 2 * order
    for j in range(out.shape[0]):
        for i in range(out.shape[1]):
            x = inverse[0, 0] * i + inverse[0, 1] * j + inverse[0, 2]
            y = inverse[1, 0] * i + inverse[1, 1] * j + inverse[1, 2]
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
                for b in range(taps):
                    row = np.float32(0.0)
                    for a in range(taps):
                        row += table[kx, a] * data[top + b, left + a]
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
