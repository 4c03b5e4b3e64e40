"""One pass over memory for the whole calibration of a frame (NumPy reference in the tests)."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(nogil=True, cache=True)
def subtract_divide(data, dark, inverse_flat, out):
    """``out = (data - dark) * inverse_flat`` on flat float32 arrays; an empty plane is skipped."""
    with_dark, with_flat = dark.size > 0, inverse_flat.size > 0
    if with_dark and with_flat:
        for i in range(data.size):
            out[i] = (data[i] - dark[i]) * inverse_flat[i]
    elif with_dark:
        for i in range(data.size):
            out[i] = data[i] - dark[i]
    elif with_flat:
        for i in range(data.size):
            out[i] = data[i] * inverse_flat[i]
    else:
        for i in range(data.size):
            out[i] = data[i]


EMPTY = np.empty(0, dtype=np.float32)
