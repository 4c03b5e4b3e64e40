"""Apertures with an annulus for the sky, and honest errors."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F32Array, F64Array, MaskArray, in_parts
from ulvar.frames import MaskBit
from ulvar.photometry.neighbours import Neighbours
from ulvar.photometry.noise import NoiseTerms, sky_and_read
from ulvar.stars import StarFlag

BAD_BITS = int(MaskBit.NO_DATA | MaskBit.HOT | MaskBit.COLD | MaskBit.COLUMN | MaskBit.COSMIC | MaskBit.TRAIL)
# How well the light of masked pixels is known from others at their distance: between the pixels of a ring the profile
# of a star of 2.5 px FWHM changes by about this share near its centre, and less further out.
_FILL_ERROR = 0.3
# Masked pixels with less of the star's light cannot move it by a third of a millimagnitude.
_SMALL_SHARE = 1e-3
_NO_MASK = np.empty((0, 0), dtype=np.uint16)
# Fewer stars are not worth another thread.
_LEAST_PART = 500


# How the sky is taken from an annulus; as kernels number them.
SKY_METHODS = ("median", "mean", "mode", "plane")


@dataclass(frozen=True)
class Shape:
    """The aperture's outline: an ellipse of the circle's area.

    Attributes
    ----------
    axis_ratio : float
        Short over long axis, from 0.1 to 1.
    angle_deg : float
        Of the long axis, from +x to +y [deg].
    """

    axis_ratio: float = 1.0
    angle_deg: float = 0.0

    def __post_init__(self) -> None:
        if not 0.1 <= self.axis_ratio <= 1.0:
            raise ValueError(f"the axis ratio {self.axis_ratio:g} is not between 0.1 and 1")

    @property
    def long(self) -> float:
        """Half the long axis over the circle's radius."""
        return 1 / math.sqrt(self.axis_ratio)


CIRCLE = Shape()


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
    terms : NoiseTerms
        What the error is made of.
    covered : float64 array
        Share of the annulus that lies under other stars and was left out.
    """

    flux: F64Array
    flux_error: F64Array
    sky: F64Array
    sky_error: F64Array
    peak: F64Array
    area_px: F64Array
    flags: np.ndarray
    terms: NoiseTerms
    covered: F64Array


def circle_overlap(dx: float, dy: float, radius: float) -> float:
    """Area common to a circle about the origin and the unit pixel centred at (dx, dy) [px^2]; exact.

    Examples
    --------
    >>> circle_overlap(0.0, 0.0, 5.0)
    1.0
    >>> round(circle_overlap(0.0, 0.0, 0.3) / 0.09, 6)
    3.141593
    """
    from ulvar.photometry import _kernels_overlap

    return float(_kernels_overlap.pixel_overlap(dx, dy, radius))


def ellipse_overlap(dx: float, dy: float, long_px: float, short_px: float, angle_deg: float) -> float:
    """Area common to an ellipse about the origin and the unit pixel centred at (dx, dy) [px^2]; exact.

    Parameters
    ----------
    dx, dy : float
        [px]
    long_px, short_px : float
        Half axes [px].
    angle_deg : float
        Of the long one, from +x to +y [deg].

    Examples
    --------
    >>> ellipse_overlap(2.0, 0.0, 6.0, 3.0, 0.0)
    1.0
    """
    from ulvar.photometry import _kernels_overlap

    angle = math.radians(angle_deg)
    return float(_kernels_overlap.ellipse_overlap(dx, dy, long_px, short_px, math.cos(angle), math.sin(angle)))


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
    shape: Shape = CIRCLE,
    sky: str = "median",
    neighbours: Neighbours | None = None,
    read_noise_e: float | None = None,
    flat_noise: float = 0.0,
) -> ApertureResult:
    """Measure stars in apertures with exact pixel overlap.

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
    shape : Shape
        Of the aperture; the annulus is round.
    sky : str
        One of `SKY_METHODS`: of the annulus's values, clipped at three deviations, the median, the mean, the mode (3 median - 2
        mean), or the height of a plane through them at the star.
    neighbours : Neighbours, optional
        Circles about other stars, which the annulus leaves out.
    read_noise_e : float, optional
        [e-]; tells what of the error is read noise.
    flat_noise : float
        Relative noise of a pixel of the flat.

    Returns
    -------
    ApertureResult

    Raises
    ------
    ValueError
        For a way of taking the sky that there is not.

    Notes
    -----
    Variance in electrons: source + sum(w^2) s^2 + (sum w)^2 f s^2 / n_sky (Merline & Howell 1995, Exp.
    Astron. 6, 163, with the exact weights in the place of a pixel count). s^2 is the variance of annulus pixels,
    which holds sky, dark, read-out and quantisation noise as they really are; f is pi/2 for a median, 1 for a mean, 9 pi/2 - 8 for a
    mode and about 1 for a plane.

    Masked pixels and those without a value are not summed: the mean of the good pixels at their distance from the
    centre (within 0.75 px) stands in for each. The row is flagged ``bad_pixel``, but for pixels in the
    outer half of the aperture whose light is under a thousandth of the star's or 0.3 of its noise; 0.3 of that light
    goes into the error. Where a pixel has no good one at its distance there is no flux.
    """
    from ulvar.photometry import _kernels

    if sky not in SKY_METHODS:
        raise ValueError(f"'{sky}' is no way to take the sky; there are {', '.join(SKY_METHODS)}")
    n = len(x)
    out = np.empty((n, _kernels.COLUMNS), dtype=np.float64)
    # Row after row: neighbouring stars share what the processor holds of the picture.
    order = np.argsort(y, kind="stable")
    x, y = np.asarray(x, dtype=np.float64)[order], np.asarray(y, dtype=np.float64)[order]
    starts, near = (
        (np.zeros(n + 1, dtype=np.int64), np.empty((0, 3))) if neighbours is None else neighbours.about(x, y, outer_px)
    )
    outline = np.array(
        [shape.axis_ratio, math.cos(math.radians(shape.angle_deg)), math.sin(math.radians(shape.angle_deg))]
    )
    inner = max(float(inner_px), radius_px * shape.long)

    def sums(first: int, last: int) -> None:
        part = slice(first, last)
        _kernels.aperture_sums(
            data, _NO_MASK if mask is None else mask, np.uint16(BAD_BITS), np.uint16(MaskBit.SATURATED),
            np.uint16(MaskBit.NONLINEAR), x[part], y[part], np.full(last - first, float(radius_px)), outline,
            np.full(last - first, inner), np.full(last - first, float(outer_px)), starts[first : last + 1], near,
            SKY_METHODS.index(sky), out[part],
        )  # fmt: skip

    in_parts(sums, n, smallest=_LEAST_PART, each=5)
    out[order] = out.copy()
    return judged_sums(
        out, radius_px, gain_e_per_adu=gain_e_per_adu, noise_correlation=noise_correlation, read_noise_e=read_noise_e,
        flat_noise=flat_noise,
    )  # fmt: skip


def judged_sums(
    out: F64Array,
    radius_px: float,
    *,
    gain_e_per_adu: float | None,
    noise_correlation: float = 1.0,
    read_noise_e: float | None = None,
    flat_noise: float = 0.0,
) -> ApertureResult:
    """Return fluxes, errors and flags of what `_kernels.aperture_sums` added up, shape (stars, columns); as `measure_apertures`."""
    n = len(out)
    total, weight, squares, peak, level, deviation, count = (out[:, i] for i in range(7))
    deviation = deviation * noise_correlation
    known = gain_e_per_adu is not None and gain_e_per_adu > 0
    with np.errstate(divide="ignore", invalid="ignore"):
        # Light that stands in for masked pixels: the star's, at their distance from its centre.
        filled = np.abs(out[:, 8] - level * out[:, 9])
        flux = np.where((weight > 0) & ~np.isinf(out[:, 8]), total - level * weight, np.nan)
        sky_error = np.where(count > 0, deviation * np.sqrt(out[:, 13]), np.nan)
        light = out[:, 12] - 2 * level * out[:, 11] + level**2 * squares
        of_sky, of_read = sky_and_read(squares, deviation, read_noise_e, gain_e_per_adu)
        terms = NoiseTerms(
            source=np.sqrt(np.maximum(flux, 0) / gain_e_per_adu) if known else np.full(n, np.nan),
            sky=of_sky, read=of_read, level=weight * sky_error, filled=_FILL_ERROR * filled,
            flat=flat_noise * np.sqrt(np.maximum(light, 0.0)), scintillation=np.full(n, np.nan),
        )  # fmt: skip
    return ApertureResult(
        flux=flux, flux_error=terms.total, sky=level, sky_error=sky_error, peak=peak, area_px=weight,
        flags=_flags(out, flux, filled, radius_px), terms=terms, covered=out[:, 14],
    )  # fmt: skip


def _flags(out: F64Array, flux: F64Array, filled: F64Array, radius_px: float) -> np.ndarray:
    """Return the flags; masked pixels in the outer half that hold next to nothing of the star's light raise none."""
    flags = out[:, 7].astype(np.int64)
    with np.errstate(invalid="ignore"):
        noise = np.sqrt(out[:, 2]) * out[:, 5]
        little = filled <= np.maximum(_SMALL_SHARE * np.abs(flux), _FILL_ERROR * noise)
    flags[little & (out[:, 10] > 0.5 * radius_px)] &= ~int(StarFlag.BAD_PIXEL)
    return flags
