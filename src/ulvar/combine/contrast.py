"""Where stars are, seeing moves values further than noise: what rejection takes there for outliers is looked at again."""

from __future__ import annotations

import numpy as np

from ulvar.engine import BoolArray, F32Array, F64Array

# Of nine pixels of noise the largest and the smallest differ by three deviations on average.
_NOISE_CONTRAST = 4.0


def local_contrast(data: F32Array, noise: F32Array, ys: np.ndarray, xs: np.ndarray) -> F32Array:
    """Return by how much the nine pixels around some differ beyond noise, 0 where they do not, shape (pixels,).

    Parameters
    ----------
    data : float32 array, shape (height, width)
        A combined picture; NaN is passed over.
    noise : float32 array, shape (pixels,)
        Of those pixels; where it is not known it counts as none.
    ys, xs : int array, shape (pixels,)
    """
    height, width = data.shape
    high, low = (np.full(len(ys), value, dtype=np.float32) for value in (-np.inf, np.inf))
    for dy in (-1, 0, 1):
        for dx in (-1, 0, 1):
            near = data[np.clip(ys + dy, 0, height - 1), np.clip(xs + dx, 0, width - 1)]
            # Of a number and none these are the number.
            np.fmax(high, near, out=high)
            np.fmin(low, near, out=low)
    contrast = high - low - np.float32(_NOISE_CONTRAST) * np.nan_to_num(noise)
    return np.asarray(np.where(np.isfinite(contrast) & (contrast > 0), contrast, np.float32(0.0)))


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
