"""Big-endian FITS pixels to float32 and back, one pass over memory (NumPy references: `frames.fits._plain`, the tests)."""

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


@numba.njit(nogil=True, cache=True)
def float32_to_swapped(words: np.ndarray, out: np.ndarray) -> np.uint64:
    """Write native 32-bit words big-endian into `out` (uint32, flat); returns their plain sum.

    A big-endian word read as big-endian is the native word, so the sum that FITS checksums ask for is that of
    the words as they are in memory.
    """
    total = np.uint64(0)
    for i in range(words.size):
        word = words[i]
        total += np.uint64(word)
        out[i] = (word << 24) | ((word & 0xFF00) << 8) | ((word >> 8) & 0xFF00) | (word >> 24)
    return total
