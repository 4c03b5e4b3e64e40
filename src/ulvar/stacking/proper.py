"""The proper coadd: the image in which faint stars are found best, of exposures of unequal seeing.

B. Zackay and E. O. Ofek 2017, ApJ 836, 188, equations 7 to 13. Each exposure is correlated with its own profile before they are added, and the
sum is made white again: it holds all that the exposures tell of a sky that does not change, where a weighted mean loses what blurs.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.combine import RowSource
from ulvar.engine import F32Array, F64Array, StopToken

# Stars that tell a profile: as many at most, and as few at least.
_MOST, LEAST_STARS = 60, 5
# Spatial frequencies at which no exposure has more than this of its power tell nothing.
_FLOOR = 1e-9
# What lies this many deviations off the stack, and so many times what stands near in it, is no light of the sky: in seeing twice
# as good a star's peak is four times as high.
_ODD, _NEAR, _NEAR_PX = 6.0, 3.0, 5


@dataclass(frozen=True)
class CoaddInput:
    """One exposure on the stack's grid.

    Attributes
    ----------
    source : RowSource
        Brought to the reference's level and brightness [ADU].
    noise_adu : float
        Per pixel, so brought.
    psf : float32 array, shape (2 r + 1, 2 r + 1)
        Its profile, sum 1.
    """

    source: RowSource
    noise_adu: float
    psf: F32Array


@dataclass(frozen=True)
class ProperCoadd:
    """The coadd with what belongs to it.

    Attributes
    ----------
    data : float32 array, shape (height, width)
        Over a background of 0, in the units of the exposures [ADU]; NaN where the stack has nothing.
    noise_adu : float
        Of a pixel; from pixel to pixel it is independent.
    psf : float32 array, shape (2 r + 1, 2 r + 1)
        Its profile: of a star of 1 ADU in all, what lies on these pixels.
    """

    data: F32Array
    noise_adu: float
    psf: F32Array


def proper_bytes(shape: tuple[int, int]) -> int:
    """Return what `proper_coadd` needs for a picture (height, width), at most."""
    return 40 * shape[0] * shape[1]


def proper_coadd(
    inputs: Sequence[CoaddInput], stack: F32Array, sky_adu: float, *, workers: int = 1, stop: StopToken | None = None
) -> ProperCoadd:
    """Return the proper coadd of exposures.

    Parameters
    ----------
    inputs : sequence of CoaddInput
    stack : float32 array, shape (height, width)
        Their mean with outliers rejected: it stands in for what an exposure lacks, and tells outliers.
    sky_adu : float
        Its background.
    workers : int
        Threads of the Fourier transforms.
    stop : StopToken, optional
        Looked at before each exposure.

    Raises
    ------
    ValueError
        If there is nothing to add.
    """
    import cv2
    from scipy import fft

    if not inputs:
        raise ValueError("there is nothing to add")
    height, width = stack.shape
    reach = max(one.psf.shape[0] for one in inputs)
    shape = fft.next_fast_len(height + reach, real=True), fft.next_fast_len(width + reach, real=True)
    known = np.nan_to_num(stack - np.float32(sky_adu))
    near = np.float32(_NEAR) * cv2.dilate(np.abs(known), np.ones((_NEAR_PX, _NEAR_PX), np.uint8))
    above = np.zeros((shape[0], shape[1] // 2 + 1), dtype=np.complex64)
    below = np.zeros(above.shape, dtype=np.float32)
    total = 0.0
    for one in inputs:
        if stop is not None:
            stop.check()
        image = one.source.rows(0, height) - np.float32(sky_adu)
        with np.errstate(invalid="ignore"):
            odd = ~(np.abs(image - known) <= np.float32(_ODD * one.noise_adu) + near)
        image[odd] = known[odd]
        weight = 1.0 / one.noise_adu**2
        profile = fft.rfft2(_at_origin(one.psf, shape), workers=workers)
        above += np.float32(weight) * np.conj(profile) * fft.rfft2(image, shape, workers=workers)
        below += np.float32(weight) * (profile.real**2 + profile.imag**2)
        total += weight
    flux = math.sqrt(total)
    root = np.sqrt(np.maximum(below, _FLOOR * float(below.max())))
    data = fft.irfft2(above / root, shape, workers=workers)[:height, :width] / np.float32(flux)
    data = np.asarray(data, dtype=np.float32)
    data[~np.isfinite(stack)] = np.nan
    whole = fft.irfft2(root / np.float32(flux), shape, workers=workers)
    side = reach // 2
    psf = np.roll(whole, (side, side), axis=(0, 1))[: 2 * side + 1, : 2 * side + 1]
    return ProperCoadd(data, 1.0 / flux, np.asarray(psf, dtype=np.float32))


def _at_origin(psf: F32Array, shape: tuple[int, int]) -> F32Array:
    """Return a profile on a grid, its middle in the corner."""
    side = psf.shape[0] // 2
    out = np.zeros(shape, dtype=np.float32)
    out[: psf.shape[0], : psf.shape[1]] = psf
    return np.roll(out, (-side, -side), axis=(0, 1))


def star_profile(data: F32Array, x: F64Array, y: F64Array, fwhm_px: float, sky_adu: float) -> F32Array:
    """Return the profile of an exposure from stars of which each stands alone.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        [ADU]
    x, y : float64 array, shape (stars,)
        Their places, the brightest first [px].
    fwhm_px : float
    sky_adu : float

    Returns
    -------
    float32 array, shape (2 r + 1, 2 r + 1)
        Sum 1; r is four times the FWHM. Of fewer than `LEAST_STARS` a Gaussian of the FWHM.
    """
    import cv2

    radius = max(6, math.ceil(4 * fwhm_px))
    yy, xx = np.mgrid[-radius : radius + 1, -radius : radius + 1].astype(np.float32)
    away = np.hypot(xx, yy)
    ring, core = (away > 0.8 * radius) & (away <= radius), away <= 1.5 * fwhm_px
    cut = []
    for sx, sy in zip(x, y):
        inside = radius <= sx < data.shape[1] - radius - 1 and radius <= sy < data.shape[0] - radius - 1
        if not inside:
            continue
        x0, y0 = int(sx) - radius - 4, int(sy) - radius - 4
        part = data[max(y0, 0) : y0 + 2 * radius + 10, max(x0, 0) : x0 + 2 * radius + 10] - np.float32(sky_adu)
        places = (xx + np.float32(sx - max(x0, 0)), yy + np.float32(sy - max(y0, 0)))
        one = cv2.remap(part, *places, cv2.INTER_LANCZOS4, borderMode=cv2.BORDER_REPLICATE)
        light = float(one[core].sum())
        if np.isfinite(one).all() and light > 0:
            cut.append((one - np.median(one[ring])) / light)
        if len(cut) == _MOST:
            break
    if len(cut) < LEAST_STARS:
        profile = np.exp(-4 * math.log(2) * (away / fwhm_px) ** 2)
    else:
        profile = np.median(np.stack(cut), axis=0)
        # The noise of far pixels would be taken for light.
        profile = np.where(away > 3 * fwhm_px, 0.0, np.maximum(profile, 0.0))
    return np.asarray(profile / profile.sum(), dtype=np.float32)


def alone(x: F64Array, y: F64Array, flux: F64Array, apart_px: float) -> np.ndarray:
    """Return which stars have no neighbour of a fiftieth of their light within so many pixels, bool of shape (stars,)."""
    from scipy.spatial import cKDTree

    if not len(x):
        return np.zeros(0, dtype=bool)
    near = cKDTree(np.column_stack([x, y])).query_ball_point(np.column_stack([x, y]), apart_px)
    return np.array([all(j == i or flux[j] < 0.02 * flux[i] for j in found) for i, found in enumerate(near)])
