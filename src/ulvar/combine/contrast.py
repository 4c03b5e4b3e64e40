"""Where stars are, seeing moves values further than noise: what rejection takes there for outliers is looked at again."""

from __future__ import annotations

import numpy as np

from ulvar.engine import BoolArray, F32Array, F64Array

# Of nine pixels of noise the largest and the smallest differ by three deviations on average.
_NOISE_CONTRAST = 4.0


def local_contrast(data: F32Array, noise: F32Array) -> F32Array:
    """Return by how much neighbouring pixels of a combined picture differ beyond noise, 0 where they do not.

    Parameters
    ----------
    data, noise : float32 array, shape (height, width)
        The picture and its noise per pixel; NaN is passed over.
    """
    import cv2

    box = np.ones((3, 3), np.uint8)
    known = np.isfinite(data)
    # A pixel without a value is neither the largest nor the smallest.
    high = cv2.dilate(np.where(known, data, np.float32(-np.inf)), box)
    low = cv2.erode(np.where(known, data, np.float32(np.inf)), box)
    with np.errstate(invalid="ignore"):
        usual = np.float32(np.nanmedian(noise)) if np.isfinite(noise).any() else np.float32(0.0)
        contrast = high - low - np.float32(_NOISE_CONTRAST) * usual
    return np.asarray(np.where(np.isfinite(contrast) & (contrast > 0), contrast, np.float32(0.0)), dtype=np.float32)


def taken_back(
    values: F32Array, lows: np.ndarray, highs: np.ndarray, slack: F32Array
) -> tuple[BoolArray, BoolArray, BoolArray]:
    """Return which values are kept when those within slack of what was kept are no outliers, and which those are.

    Parameters
    ----------
    values : float32 array, shape (frames, pixels)
        NaN where a frame has none.
    lows, highs : int array, shape (pixels,)
        How many of the lowest and of the highest values were rejected.
    slack : float32 array, shape (pixels,)

    Returns
    -------
    (bool array, bool array, bool array) of the shape of `values`
        What is kept; what is taken back of the lowest, and of the highest.
    """
    ordered = np.sort(values, axis=0)
    count = np.isfinite(values).sum(axis=0)
    pixel = np.arange(values.shape[1])
    least, most = ordered[np.minimum(lows, count - 1), pixel], ordered[np.maximum(count - 1 - highs, 0), pixel]
    with np.errstate(invalid="ignore"):
        low = (values < least) & (values >= least - slack)
        high = (values > most) & (values <= most + slack)
        keep = (values >= least) & (values <= most)
    return keep | low | high, low, high


def combined_again(
    values: F32Array, keep: BoolArray, weights: F64Array
) -> tuple[F32Array, F32Array, np.ndarray, F32Array]:
    """Return weighted mean, sample deviation, count and share of the weight of the values kept, each (pixels,)."""
    v = np.where(keep, values, 0.0).astype(np.float64)
    w = np.where(keep, weights[:, None], 0.0)
    count, total = keep.sum(axis=0), w.sum(axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = (w * v).sum(axis=0) / total
        plain = v.sum(axis=0) / count
        squares = (np.where(keep, v - plain, 0.0) ** 2).sum(axis=0)
        spread = np.where(count > 1, np.sqrt(squares / (count - 1)), np.nan)
    return mean.astype(np.float32), spread.astype(np.float32), count, (total / weights.sum()).astype(np.float32)
