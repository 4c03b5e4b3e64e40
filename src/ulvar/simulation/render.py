"""Adding stars to an image of expected electrons."""

from __future__ import annotations

import math

import numba
import numpy as np

from ulvar.engine import F32Array, F64Array
from ulvar.simulation.optics import Psf


@numba.njit(nogil=True, cache=True)
def _add(image, xs, ys, fluxes, fraction, sigma, radius):
    height, width = image.shape
    root = sigma * math.sqrt(2.0)
    column = np.empty(2 * radius + 1)
    row = np.empty(2 * radius + 1)
    for k in range(xs.size):
        if not (xs[k] == xs[k]):
            continue
        ix, iy = int(round(xs[k])), int(round(ys[k]))
        if ix < -radius or iy < -radius or ix >= width + radius or iy >= height + radius:
            continue
        for i in range(2 * radius + 1):
            x = ix - radius + i - xs[k]
            y = iy - radius + i - ys[k]
            row[i] = 0.5 * (math.erf((x + 0.5) / root) - math.erf((x - 0.5) / root))
            column[i] = 0.5 * (math.erf((y + 0.5) / root) - math.erf((y - 0.5) / root))
        amount = fluxes[k] * fraction
        for j in range(max(0, radius - iy), min(2 * radius + 1, height - iy + radius)):
            for i in range(max(0, radius - ix), min(2 * radius + 1, width - ix + radius)):
                image[iy - radius + j, ix - radius + i] += amount * row[i] * column[j]


def add_stars(
    image: F64Array,
    x: F64Array,
    y: F64Array,
    flux: F64Array,
    psf: Psf,
    *,
    trail_px: tuple[float, float] = (0.0, 0.0),
) -> None:
    """Add pixel-integrated stars to `image` (float64, changed in place).

    Parameters
    ----------
    image : float64 array, shape (height, width)
        Expected electrons.
    x, y, flux : float64 array, shape (stars,)
        Positions [px] and whole fluxes [e-]; NaN positions are passed over.
    psf : Psf
    trail_px : (float, float)
        Drift during the exposure along x and y [px], as a bad guiding makes it.
    """
    length = math.hypot(*trail_px)
    steps = max(1, round(2 * length))
    for step in range(steps):
        shift = (step + 0.5) / steps - 0.5
        for fraction, sigma in psf.parts:
            radius = max(3, math.ceil(5.0 * sigma))
            _add(
                image,
                np.ascontiguousarray(x + shift * trail_px[0], dtype=np.float64),
                np.ascontiguousarray(y + shift * trail_px[1], dtype=np.float64),
                np.ascontiguousarray(flux / steps, dtype=np.float64),
                fraction,
                sigma,
                radius,
            )


def star_field(
    rng: np.random.Generator,
    *,
    width: int,
    height: int,
    x: F64Array,
    y: F64Array,
    flux_e: F64Array,
    psf: Psf,
    sky_e: float = 200.0,
    read_noise_e: float = 5.0,
    gain_e_per_adu: float = 1.0,
    trail_px: tuple[float, float] = (0.0, 0.0),
) -> F32Array:
    """Return a noisy calibrated exposure [ADU] of given stars: the quick field for tests.

    Noise is Poisson of star and sky electrons and Gaussian read noise; there is no bias level.
    """
    expected = np.full((height, width), float(sky_e))
    add_stars(expected, x, y, flux_e, psf, trail_px=trail_px)
    electrons = rng.poisson(expected) + rng.normal(0.0, read_noise_e, expected.shape)
    return np.asarray(electrons / gain_e_per_adu, dtype=np.float32)
