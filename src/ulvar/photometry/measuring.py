"""Listed stars measured in one exposure."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from ulvar.engine import BoolArray, F32Array, F64Array, MaskArray
from ulvar.frames import Frame, difference_noise
from ulvar.photometry.aperture import BAD_BITS, CIRCLE, Shape, measure_apertures
from ulvar.photometry.listed import ListedStar
from ulvar.photometry.neighbours import Neighbours, blended
from ulvar.photometry.options import ApertureOptions
from ulvar.photometry.series import SeriesRow
from ulvar.stars import StarFlag, StarTable

# Rows that tell the noise: of a few hundred thousand pixels it is known to a per mille.
_NOISE_ROWS = 60


def measure_exposure(
    frame: Frame,
    stars: Sequence[ListedStar],
    x: F64Array,
    y: F64Array,
    *,
    fwhm_px: float,
    options: ApertureOptions,
    detected: StarTable | None = None,
    lost: np.ndarray | None = None,
    file: str = "",
) -> list[SeriesRow]:
    """Measure listed stars at given positions of one calibrated exposure.

    Parameters
    ----------
    frame : Frame
        A pedestal in it is no sky: it is taken off before.
    stars : sequence of ListedStar
    x, y : float64 array, shape (stars,)
        Aperture centres [px].
    fwhm_px : float
        Of the exposure [px].
    options : ApertureOptions
    detected : StarTable, optional
        Raises the flag ``neighbour`` for stars with another inside the aperture; the annulus leaves out what lies under others; tells
        the aperture's shape where it is to be that of the stars.
    lost : bool array, optional
        Stars whose re-centring failed.
    file : str
        What the rows call the exposure; its file name unless given.

    Returns
    -------
    list of SeriesRow
        For each radius those of all stars, without times and airmass (NaN), which need the site and the star's coordinates, and so
        without scintillation.

    Raises
    ------
    ValueError
        If the aperture follows an unknown FWHM.
    """
    radii, inner, outer = options.rings(fwhm_px)
    data = frame.above_pedestal()
    neighbours, shape = None, CIRCLE
    if detected is not None and len(detected):
        band = max(1, data.shape[0] // _NOISE_ROWS)
        neighbours = Neighbours.of(detected, fwhm_px, difference_noise(data[::band]))
        if options.elliptical:
            shape = shape_of(detected)
    rows: list[SeriesRow] = []
    for setting, radius in zip(options.every, radii):
        result = measure_apertures(
            data, x, y, radius_px=radius, inner_px=inner, outer_px=outer, mask=frame.mask,
            gain_e_per_adu=frame.facts.gain_e_per_adu, noise_correlation=frame.facts.noise_correlation or 1.0,
            shape=shape, sky=options.sky, neighbours=neighbours, read_noise_e=frame.facts.read_noise_e,
            flat_noise=frame.facts.flat_noise or 0.0,
        )  # fmt: skip
        flags = result.flags.copy()
        if detected is not None:
            crowded = blended(x, y, result.flux, detected, radius_px=radius * shape.long, fwhm_px=fwhm_px)
            flags[crowded] |= StarFlag.NEIGHBOUR
        if lost is not None:
            flags[lost] |= StarFlag.LOST
        terms = result.terms
        columns = np.column_stack([
            x, y, result.flux, result.flux_error, result.sky, result.sky_error, result.peak, result.covered,
            terms.source, terms.sky, terms.read, terms.level, terms.flat,
        ]).tolist()  # fmt: skip
        for star, values, bits in zip(stars, columns, flags.tolist()):
            at_x, at_y, flux, error, sky, sky_error, peak, covered, *parts = values
            rows.append(SeriesRow(
                file=file or frame.facts.name, time_utc_mid=frame.facts.mid_utc, jd_utc=math.nan, bjd_tdb=math.nan,
                name=star.name, role=star.role, x=at_x, y=at_y, flux=flux, flux_error=error, sky=sky,
                sky_error=sky_error, peak=peak, fwhm_px=fwhm_px, airmass=math.nan, flags=bits, radius_px=radius,
                inner_px=max(inner, radius * shape.long), outer_px=outer, covered=covered, noise_source=parts[0],
                noise_sky=parts[1], noise_read=parts[2], noise_level=parts[3], noise_flat=parts[4], aperture=setting,
            ))  # fmt: skip
    return rows


def shape_of(stars: StarTable) -> Shape:
    """Return the outline that the stars of an exposure share: a circle where they are round or few.

    Ellipticities are averaged as vectors of twice the angle, by medians over the 100 brightest clean stars.
    """
    clean = stars.select((stars.flags == 0) & (stars.snr > 20) & np.isfinite(stars.ellipticity))
    if len(clean) < 3:
        return CIRCLE
    best = clean.select(np.argsort(-clean.flux)[:100])
    twice = np.radians(2 * best.angle_deg)
    long, across = np.median(best.ellipticity * np.cos(twice)), np.median(best.ellipticity * np.sin(twice))
    ratio = 1 - float(np.hypot(long, across))
    # A few per cent are noise, and change no sum.
    return CIRCLE if ratio > 0.95 else Shape(max(ratio, 0.1), math.degrees(math.atan2(across, long)) / 2)


def middles_of_light(
    data: F32Array, x: F64Array, y: F64Array, fwhm_px: float, mask: MaskArray | None = None
) -> tuple[F64Array, F64Array, BoolArray]:
    """Return places moved to the middle of the light there, and which were found.

    First moments under a Gaussian window of the stars' width that follows them, on the sky of a ring about. A place that moves by more
    than the FWHM, or has no light, stays where it was.

    Parameters
    ----------
    data : float32 array, shape (height, width)
    x, y : float64 array, shape (stars,)
        [px]
    fwhm_px : float
        [px]; 3 where it is not known.
    mask : uint16 array, optional
    """
    from ulvar.photometry import _kernels
    from ulvar.stars import SIGMA_TO_FWHM

    width = fwhm_px if math.isfinite(fwhm_px) and fwhm_px > 0 else 3.0
    out = np.empty((len(x), 3))
    _kernels.light_middles(
        data, np.empty((0, 0), dtype=np.uint16) if mask is None else mask, np.uint16(BAD_BITS),
        np.ascontiguousarray(x, dtype=np.float64), np.ascontiguousarray(y, dtype=np.float64), width / SIGMA_TO_FWHM,
        max(width, 2.0), out,
    )  # fmt: skip
    found = out[:, 2] > 0
    return np.where(found, out[:, 0], x), np.where(found, out[:, 1], y), found
