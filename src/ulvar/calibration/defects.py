"""Pixels that calibration cannot save."""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from ulvar.engine import BoolArray, F32Array


def _robust_sigma(values: F32Array) -> float:
    low, high = np.percentile(values, [15.865, 84.135])
    return float(high - low) / 2


def dark_defects(dark: F32Array, *, sigma: float = 8.0) -> BoolArray:
    """Return hot pixels: those that stand `sigma` robust deviations over their surroundings in a master dark.

    Parameters
    ----------
    dark : float32 array, shape (height, width)
        Master dark [ADU].
    sigma : float
        Threshold; the deviation is that of the dark's residual from its local median.

    Returns
    -------
    bool array of the same shape
    """
    residual = dark - ndimage.median_filter(dark, size=5, mode="nearest")
    spread = _robust_sigma(residual[np.isfinite(residual)])
    if not spread > 0:
        return np.zeros(dark.shape, dtype=np.bool_)
    return np.asarray(residual > sigma * spread)


def flat_defects(flat: F32Array, *, lowest: float = 0.5) -> BoolArray:
    """Return cold pixels: those below `lowest` times their surroundings in a master flat.

    The surroundings are the median of a row segment 9 px wide by 3 high, so that a dead column, one pixel
    wide, does not become its own reference.
    """
    around = ndimage.median_filter(flat, size=(3, 9), mode="nearest")
    return np.asarray(~(flat > lowest * around))
