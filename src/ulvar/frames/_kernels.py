"""Big-endian FITS pixels to float32, one pass over memory (NumPy reference: `frames.fits._plain`)."""

from __future__ import annotations

import numba
import numpy as np

from ulvar.engine import F32Array


@numba.njit(nogil=True, cache=True)
def swap16_to_float32(raw: np.ndarray, zero: np.float32, scale: np.float32, out: F32Array) -> None:
    """``out = zero + scale * raw`` for big-endian int16 pixels seen as native uint16 (flat arrays)."""
    for i in range(raw.size):
        word = raw[i]
        swapped = np.int16(np.uint16((word << 8) | (word >> 8)))
        out[i] = zero + scale * np.float32(swapped)
