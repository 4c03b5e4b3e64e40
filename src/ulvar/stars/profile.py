"""The recorded star profile: one Moffat fit to the pixels of many stars."""

from __future__ import annotations

import math

import numpy as np
from scipy.optimize import least_squares

from ulvar.engine import F32Array, F64Array


def measured_fwhm(
    data: F32Array, x: F64Array, y: F64Array, flux: F64Array, covariance: F64Array, *, start_px: float
) -> float:
    """Full width at half maximum of the profile shared by stars, as recorded (pixel integration included).

    Every pixel of every star is put at its elliptical radius, scaled by the star's flux, and one Moffat
    profile (Moffat 1969, A&A 3, 455) is fitted to all of them.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        Background-subtracted [ADU].
    x, y, flux : float64 array, shape (stars,)
        Centroids [px] and fluxes [ADU] of isolated unsaturated stars.
    covariance : float64 array, shape (3,)
        Shared shape cxx, cyy, cxy, which gives the axis ratio; only its shape matters, not its size.
    start_px : float
        A first FWHM [px].

    Returns
    -------
    float
        Geometric mean of the two axes' FWHM [px]; NaN when the fit is not possible.
    """
    cxx, cyy, cxy = covariance
    det = cxx * cyy - cxy * cxy
    if not det > 0 or len(x) == 0:
        return math.nan
    size = math.sqrt(det)
    ixx, iyy, ixy = cyy / size, cxx / size, -cxy / size
    reach = int(math.ceil(1.6 * start_px)) + 1
    radii: list[F64Array] = []
    values: list[F64Array] = []
    offsets_y, offsets_x = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    for cx, cy, total in zip(x, y, flux):
        ix, iy = round(cx), round(cy)
        if ix < reach or iy < reach or ix + reach >= data.shape[1] or iy + reach >= data.shape[0]:
            continue
        stamp = data[iy - reach : iy + reach + 1, ix - reach : ix + reach + 1]
        dx, dy = ix + offsets_x - cx, iy + offsets_y - cy
        radius = np.sqrt(ixx * dx * dx + iyy * dy * dy + 2 * ixy * dx * dy)
        good = np.isfinite(stamp) & (radius < 1.6 * start_px)
        radii.append(radius[good])
        values.append(stamp[good].astype(np.float64) / total)
    if not radii:
        return math.nan
    r, v = np.concatenate(radii), np.concatenate(values)

    def model(p: F64Array) -> F64Array:
        # Width and beta are fitted as logarithms to keep them positive.
        alpha, beta = math.exp(p[1]), 1.0 + math.exp(p[2])
        return np.asarray(p[0] * (1 + (r / alpha) ** 2) ** -beta + p[3])

    scale = float(np.percentile(v, 99))
    first = np.array([scale, math.log(start_px), math.log(2.5), 0.0])
    try:
        fit = least_squares(lambda p: (model(p) - v) / scale, first, loss="soft_l1", f_scale=0.02, max_nfev=200)
    except ValueError:
        return math.nan
    alpha, beta = math.exp(fit.x[1]), 1.0 + math.exp(fit.x[2])
    fwhm = 2 * alpha * math.sqrt(2 ** (1 / beta) - 1)
    return fwhm if fit.success and 0.3 * start_px < fwhm < 4 * start_px else math.nan
