"""The plain NumPy way of combining, kept simple so that it can be believed."""

from __future__ import annotations

import warnings

import numpy as np


def sigma_clipped(values: np.ndarray, low: float, high: float, usual: float, first: float) -> np.ndarray:
    """Return which of one pixel's values are kept, by iterated clipping about the median."""
    keep = np.isfinite(values)
    spread = max(first, usual)
    for step in range(12):
        centre = np.median(values[keep])
        new = keep & (values >= centre - low * spread) & (values <= centre + high * spread)
        if new.sum() < 2:
            break
        changed = (new != keep).any()
        keep = new
        if step > 0 and not changed:
            break
        own = max(np.std(values[keep], ddof=1), usual)
        spread = min(spread, own) if step > 0 else own
    return keep


def nan_median(stack: np.ndarray) -> np.ndarray:
    """Median along the frames, NaN where there is no value."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)
        return np.nanmedian(stack, axis=0)
