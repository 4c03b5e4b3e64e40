"""Circular apertures with an annulus for the sky, and honest errors."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F32Array, F64Array, MaskArray
from ulvar.frames import MaskBit
from ulvar.stars import StarFlag

_BAD = int(MaskBit.NO_DATA | MaskBit.HOT | MaskBit.COLD | MaskBit.COLUMN | MaskBit.COSMIC | MaskBit.TRAIL)
# How well the light of masked pixels is known from others at their distance: between the pixels of a ring the profile
# of a star of 2.5 px FWHM changes by about this share near its centre, and less further out.
_FILL_ERROR = 0.3
# Masked pixels with less of the star's light cannot move it by a third of a millimagnitude.
_SMALL_SHARE = 1e-3
_NO_MASK = np.empty((0, 0), dtype=np.uint16)


@dataclass(frozen=True)
class ApertureResult:
    """Measurements of one exposure; arrays of shape (stars,).

    Attributes
    ----------
    flux, flux_error : float64 array
        [ADU]; the error is NaN when the gain is unknown.
    sky, sky_error : float64 array
        Sky per pixel and its standard error [ADU].
    peak : float64 array
        Highest pixel in the aperture, sky included [ADU].
    area_px : float64 array
        Aperture area on the frame [px^2].
    flags : int64 array
        `ulvar.stars.StarFlag` bits.
    """

    flux: F64Array
    flux_error: F64Array
    sky: F64Array
    sky_error: F64Array
    peak: F64Array
    area_px: F64Array
    flags: np.ndarray


def circle_overlap(dx: float, dy: float, radius: float) -> float:
    """Area common to a circle about the origin and the unit pixel centred at (dx, dy) [px^2]; exact.

    Examples
    --------
    >>> circle_overlap(0.0, 0.0, 5.0)
    1.0
    >>> round(circle_overlap(0.0, 0.0, 0.3) / 0.09, 6)
    3.141593
    """
    from ulvar.photometry import _kernels

    return float(_kernels.pixel_overlap(dx, dy, radius))


def measure_apertures(
    data: F32Array,
    x: F64Array,
    y: F64Array,
    *,
    radius_px: float,
    inner_px: float,
    outer_px: float,
    mask: MaskArray | None = None,
    gain_e_per_adu: float | None = None,
    noise_correlation: float = 1.0,
) -> ApertureResult:
    """Measure stars in circular apertures with exact pixel overlap.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        Calibrated exposure [ADU]; not modified.
    x, y : float64 array, shape (stars,)
        Positions [px]; NaN gives a row flagged ``edge``.
    radius_px, inner_px, outer_px : float
        Aperture radius and annulus [px].
    mask : uint16 array, optional
        `MaskBit` plane.
    gain_e_per_adu : float, optional
        [e-/ADU]. Without it there is no error bar.
    noise_correlation : float
        Noise of areas over what that of their pixels, were they independent, would make: of resampled pictures.

    Returns
    -------
    ApertureResult

    Notes
    -----
    Variance in electrons: source + sum(w^2) s^2 + (sum w)^2 (pi/2) s^2 / n_sky (Merline & Howell 1995, Exp.
    Astron. 6, 163, with the exact weights in the place of a pixel count). s^2 is the variance of annulus pixels,
    which holds sky, dark, read-out and quantisation noise as they really are; pi/2 is the price of a median.

    Masked pixels and those without a value are not summed: the mean of the good pixels at their distance from the
    centre (within 0.75 px) stands in for each. The row is flagged ``bad_pixel``, but for pixels in the
    outer half of the aperture whose light is under a thousandth of the star's or 0.3 of its noise; 0.3 of that light
    goes into the error. Where a pixel has no good one at its distance there is no flux.
    """
    from ulvar.photometry import _kernels

    n = len(x)
    out = np.empty((n, 11), dtype=np.float64)
    _kernels.aperture_sums(
        data, _NO_MASK if mask is None else mask, np.uint16(_BAD), np.uint16(MaskBit.SATURATED),
        np.uint16(MaskBit.NONLINEAR), np.ascontiguousarray(x, dtype=np.float64), np.ascontiguousarray(y, dtype=np.float64),
        np.full(n, float(radius_px)), np.full(n, float(inner_px)), np.full(n, float(outer_px)), out,
    )  # fmt: skip
    total, weight, squares, peak, sky, deviation, count = (out[:, i] for i in range(7))
    deviation = deviation * noise_correlation
    with np.errstate(divide="ignore", invalid="ignore"):
        # Light that stands in for masked pixels: the star's, at their distance from its centre.
        filled = np.abs(out[:, 8] - sky * out[:, 9])
        flux = np.where((weight > 0) & ~np.isinf(out[:, 8]), total - sky * weight, np.nan)
        sky_error = deviation * np.sqrt(math.pi / 2 / count)
        if gain_e_per_adu is None or not gain_e_per_adu > 0:
            error = np.full(n, np.nan)
        else:
            variance = np.maximum(flux, 0) / gain_e_per_adu + squares * deviation**2 + (weight * sky_error) ** 2
            error = np.sqrt(variance + (_FILL_ERROR * filled) ** 2)
    return ApertureResult(
        flux=flux, flux_error=error, sky=sky, sky_error=np.where(count > 0, sky_error, np.nan), peak=peak,
        area_px=weight, flags=_flags(out, flux, filled, radius_px),
    )  # fmt: skip


def _flags(out: F64Array, flux: F64Array, filled: F64Array, radius_px: float) -> np.ndarray:
    """Return the flags; masked pixels in the outer half that hold next to nothing of the star's light raise none."""
    flags = out[:, 7].astype(np.int64)
    with np.errstate(invalid="ignore"):
        noise = np.sqrt(out[:, 2]) * out[:, 5]
        little = filled <= np.maximum(_SMALL_SHARE * np.abs(flux), _FILL_ERROR * noise)
    flags[little & (out[:, 10] > 0.5 * radius_px)] &= ~int(StarFlag.BAD_PIXEL)
    return flags
