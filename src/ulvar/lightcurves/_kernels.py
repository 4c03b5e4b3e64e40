"""Searches that look at a light curve a great many times."""

from __future__ import annotations

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
