"""How wide stars are before any is known: the autocorrelation of the picture."""

from __future__ import annotations

import math

import numpy as np
from scipy import fft

from ulvar.engine import F32Array
from ulvar.frames import robust_spread


def autocorrelation_width(residual: F32Array, noise_adu: float, *, tile_px: int = 768) -> float:
    """Return the FWHM [px] of a Gaussian as wide as the stars, from the autocorrelation of the picture's middle.

    Noise and hot pixels are correlated with themselves only, so that the peak at no shift is left away; what
    remains is the autocorrelation of the stars' profile, whatever its shape: of a ring it reaches over its
    whole diameter. For a Gaussian it falls to a tenth at 1.29 FWHM.

    Parameters
    ----------
    residual : float32 array, shape (height, width)
        Background-subtracted [ADU]; NaN counts as no signal.
    noise_adu : float
        Noise per pixel; values over 30 times it are cut so that one bright star does not speak alone.
    tile_px : int
        Side of the part that is looked at.

    Returns
    -------
    float
        NaN where nothing is correlated beyond noise.
    """
    height, width = residual.shape
    rows, columns = min(height, tile_px), min(width, tile_px)
    y0, x0 = (height - rows) // 2, (width - columns) // 2
    tile = np.nan_to_num(residual[y0 : y0 + rows, x0 : x0 + columns])
    if not noise_adu > 0 or min(tile.shape) < 16:
        return math.nan
    tile = np.clip(tile, -3 * noise_adu, 30 * noise_adu)
    tile = tile - tile.mean()
    # Padding keeps the far side of the tile from answering.
    shape = (fft.next_fast_len(2 * rows), fft.next_fast_len(2 * columns))
    power = np.abs(fft.rfft2(tile, shape)) ** 2
    answer = fft.irfft2(power, shape)
    reach = min(rows, columns) // 4
    lags = np.arange(-reach, reach + 1)
    near = answer[np.ix_(lags, lags)]
    distance = np.hypot(lags[:, None], lags[None, :])
    bins = np.arange(1, reach)
    mean = np.array([near[np.abs(distance - r) < 0.5].mean() for r in bins])
    floor = float(np.median(mean[len(mean) // 2 :]))
    mean = mean - floor
    scatter = robust_spread(mean[len(mean) // 2 :])
    if not mean[0] > max(6 * scatter, 0.0):
        return math.nan
    # The height at no shift without noise, from the first lags, which lie on a parabola.
    top = max(float(mean[0] + (mean[0] - mean[1]) / 3), float(mean[0])) if len(mean) > 1 else float(mean[0])
    below = np.flatnonzero(mean < 0.1 * top)
    if not len(below):
        return math.nan
    i = int(below[0])
    if i == 0:
        return 1.0
    share = (mean[i - 1] - 0.1 * top) / (mean[i - 1] - mean[i])
    return float((bins[i - 1] + share) / 1.29)
