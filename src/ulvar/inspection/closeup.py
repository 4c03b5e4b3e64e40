"""One star, or one rectangle of the picture, looked at closely."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F32Array, F64Array, Failed, MaskArray
from ulvar.frames import CLIPPED_TO_SIGMA, MaskBit, median
from ulvar.photometry import measure_apertures
from ulvar.stars.bright import SIGMA_TO_FWHM

# Farther out another star is nearer than this one's light is of use.
_REACH = 40


@dataclass(frozen=True)
class StarCloseUp:
    """A star under the cursor.

    Attributes
    ----------
    x, y : float
        Centroid [px].
    sky_adu, noise_adu : float
        Of the ring around it, per pixel [ADU].
    peak_adu : float
        Highest pixel less the sky [ADU].
    flux_adu : float
        In the aperture of the best signal-to-noise ratio, less sky [ADU].
    snr : float
        Of that; NaN when the gain is unknown.
    fwhm_px, fwhm_fit_px : float
        From second moments, and from a Moffat profile fitted to the star's pixels [px].
    ellipticity, angle_deg : float
    saturated : bool
    radius_px, value_adu : float64 array
        Distance of each pixel from the centroid and its value less the sky: the radial profile.
    model : float64 array, shape (3,)
        Height, scale [px] and exponent of the fitted profile h (1 + (r / a)^2)^-b.
    growth_px, growth_adu, growth_snr : float64 array
        Radii, light within, and its signal-to-noise ratio: the growth curve.
    best_px : float
        Radius of the best signal-to-noise ratio [px].
    """

    x: float
    y: float
    sky_adu: float
    noise_adu: float
    peak_adu: float
    flux_adu: float
    snr: float
    fwhm_px: float
    fwhm_fit_px: float
    ellipticity: float
    angle_deg: float
    saturated: bool
    radius_px: F64Array
    value_adu: F64Array
    model: F64Array
    growth_px: F64Array
    growth_adu: F64Array
    growth_snr: F64Array
    best_px: float


def look_at_star(
    data: F32Array,
    x: float,
    y: float,
    *,
    fwhm_px: float = 3.0,
    mask: MaskArray | None = None,
    gain_e_per_adu: float | None = None,
    saturation_adu: float | None = None,
) -> StarCloseUp | Failed:
    """Measure the star at a place of a picture: profile, width, growth curve.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        [ADU]; not modified.
    x, y : float
        About where it is; the highest pixel within two widths is taken first.
    fwhm_px : float
        About how wide stars are [px].
    mask : uint16 array, optional
        `MaskBit` plane.
    gain_e_per_adu : float, optional
        For the signal-to-noise ratio [e-/ADU]; without it only the sky's noise counts.
    saturation_adu : float, optional
        Values from here on are saturated [ADU].

    Returns
    -------
    StarCloseUp, or Failed where there is no star
    """
    height, width = data.shape
    reach = max(2, round(2 * fwhm_px))
    x0, y0 = round(x), round(y)
    if not (0 <= x0 < width and 0 <= y0 < height):
        return Failed("the place is outside the picture")
    left, low = max(0, x0 - _REACH - reach), max(0, y0 - _REACH - reach)
    cut = np.asarray(data[low : y0 + _REACH + reach + 1, left : x0 + _REACH + reach + 1], dtype=np.float32)
    good = np.isfinite(cut)
    if good.sum() < 50:
        return Failed("there are too few pixels with a value")
    sky, noise = _sky(cut[good])
    near = np.s_[max(0, y0 - reach) - low : y0 + reach + 1 - low, max(0, x0 - reach) - left : x0 + reach + 1 - left]
    smooth = _smoothed(np.where(good, cut - sky, 0), max(0.6, fwhm_px / SIGMA_TO_FWHM / 1.5))
    top = np.unravel_index(int(np.argmax(smooth[near])), smooth[near].shape)
    py, px = float(top[0] + near[0].start), float(top[1] + near[1].start)
    moments = _settled_moments(cut - np.float32(sky), noise, px, py, fwhm_px)
    if moments is None:
        return Failed("there is no star here")
    cx, cy, cxx, cyy, cxy, moment_fwhm = moments
    ys, xs = np.mgrid[: cut.shape[0], : cut.shape[1]]
    distance = np.hypot(xs - cx, ys - cy)
    radius = min(float(_REACH), max(12.0, 5 * moment_fwhm))
    ring = good & (distance > 0.6 * radius) & (distance < radius + 4)
    if ring.sum() > 40:
        sky, noise = _sky(cut[ring])
    inside = good & (distance <= radius)
    values = cut[inside].astype(np.float64) - sky
    core = good & (distance < max(2.0, moment_fwhm))
    peak = float(cut[core].max()) - sky
    if peak < 4 * noise:
        return Failed("there is no star here")
    fit_fwhm, model = _profile(distance[inside], values, moment_fwhm, peak)
    radii = np.arange(1.0, radius + 0.01, 0.5)
    mask_cut = (
        None if mask is None else np.ascontiguousarray(mask[low : low + cut.shape[0], left : left + cut.shape[1]])
    )
    flux, snr = _growth(cut, cx, cy, radii, sky, noise, gain_e_per_adu)
    best = int(np.argmax(snr))
    saturated = bool(saturation_adu is not None and peak + sky >= saturation_adu)
    if mask_cut is not None:
        saturated |= bool((mask_cut[core] & np.uint16(MaskBit.SATURATED)).any())
    spread, mean = math.hypot((cxx - cyy) / 2, cxy), (cxx + cyy) / 2
    order = np.argsort(distance[inside])
    return StarCloseUp(
        cx + left, cy + low, sky, noise, peak, float(flux[best]),
        float(snr[best]) if gain_e_per_adu else math.nan, moment_fwhm, fit_fwhm,
        1 - math.sqrt(max(0.0, mean - spread) / (mean + spread)), math.degrees(0.5 * math.atan2(2 * cxy, cxx - cyy)),
        saturated, distance[inside][order], values[order], model, radii, flux, snr, float(radii[best]),
    )  # fmt: skip


def _sky(values: F32Array) -> tuple[float, float]:
    kept = values.astype(np.float64)
    for _ in range(8):
        middle, spread = median(kept), float(kept.std())
        inside = np.abs(kept - middle) < 3 * spread
        if inside.all() or inside.sum() < 20:
            break
        kept = kept[inside]
    return median(kept), max(float(kept.std()) * CLIPPED_TO_SIGMA, 1e-9)


def _smoothed(data: F64Array, sigma: float) -> F64Array:
    from scipy.ndimage import gaussian_filter

    return np.asarray(gaussian_filter(data, sigma))


def _settled_moments(
    cut: F32Array, noise: float, x: float, y: float, fwhm_px: float
) -> tuple[float, float, float, float, float, float] | None:
    """Windowed centroid and moments with a window as wide as the star."""
    from ulvar.stars._kernels import windowed_moments

    fwhm = fwhm_px
    noise_plane = np.full(cut.shape, noise, dtype=np.float32)
    bad = ~np.isfinite(cut)
    for _ in range(8):
        out = np.empty((1, 11))
        windowed_moments(cut, noise_plane, bad, np.array([x]), np.array([y]), fwhm / SIGMA_TO_FWHM, 0.0, out)
        row = out[0]
        if row[9] <= 0 or not np.isfinite(row[4]):
            return None
        x, y = float(row[0]), float(row[1])
        new = SIGMA_TO_FWHM * float(row[4] * row[5] - row[6] ** 2) ** 0.25
        if not 0.5 < new < 2 * _REACH:
            return None
        settled = abs(new - fwhm) < 0.01 * fwhm
        fwhm = new
        if settled:
            break
    return x, y, float(row[4]), float(row[5]), float(row[6]), fwhm


def _profile(radius: F64Array, values: F64Array, fwhm: float, peak: float) -> tuple[float, F64Array]:
    """Fit a Moffat profile (Moffat 1969, A&A 3, 455) to the core; (NaN, zeros) when it does not settle."""
    from scipy.optimize import least_squares

    core = radius < 2 * fwhm
    r, v = radius[core], values[core] / peak

    def model(p: F64Array) -> F64Array:
        # A Gaussian is the limit of large exponents, where scale and exponent can no longer be told apart.
        return np.asarray(p[0] * (1 + (r / math.exp(p[1])) ** 2) ** -(1 + math.exp(min(p[2], 4.0))))

    try:
        fit = least_squares(lambda p: model(p) - v, [1.0, math.log(fwhm), math.log(2.0)], loss="soft_l1", f_scale=0.1)
    except ValueError:
        return math.nan, np.zeros(3)
    scale, exponent = math.exp(fit.x[1]), 1 + math.exp(min(fit.x[2], 4.0))
    width = 2 * scale * math.sqrt(2 ** (1 / exponent) - 1)
    if not 0.2 * fwhm < width < 3 * fwhm:
        return math.nan, np.zeros(3)
    return width, np.array([fit.x[0] * peak, scale, exponent])


def _growth(
    cut: F32Array, x: float, y: float, radii: F64Array, sky: float, noise: float, gain: float | None
) -> tuple[F64Array, F64Array]:
    """Light within each radius by exact overlap, and its signal-to-noise ratio."""
    clean = np.ascontiguousarray(np.nan_to_num(cut, nan=sky))
    flux = np.empty(len(radii))
    area = np.pi * radii**2
    for i, r in enumerate(radii):
        # The ring of the aperture code is not used: one sky serves all radii.
        result = measure_apertures(
            clean, np.array([x]), np.array([y]), radius_px=float(r), inner_px=float(r) + 1, outer_px=float(r) + 3
        )
        flux[i] = result.flux[0] + (result.sky[0] - sky) * result.area_px[0]
    photons = np.maximum(flux, 0) / gain if gain else 0.0
    return flux, flux / np.sqrt(area * noise**2 + photons)


@dataclass(frozen=True)
class RegionStatistics:
    """Statistics of a rectangle [ADU].

    Attributes
    ----------
    median, sigma : float
        Of the pixels that clipping at three deviations keeps: `sigma`; the median is of all.
    lowest, highest : float
    count : int
        Pixels with a value.
    saturated : int
    """

    median: float
    sigma: float
    lowest: float
    highest: float
    count: int
    saturated: int


def region_statistics(
    data: F32Array, *, mask: MaskArray | None = None, saturation_adu: float | None = None
) -> RegionStatistics | Failed:
    """Return statistics of a piece of a picture.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        The piece [ADU]; NaN is passed over.
    mask : uint16 array, optional
        Of the same piece.
    saturation_adu : float, optional
        Values from here on count as saturated.

    Examples
    --------
    >>> region_statistics(np.arange(12, dtype=np.float32).reshape(3, 4)).median
    5.5
    """
    values = data[np.isfinite(data)].astype(np.float64)
    if not values.size:
        return Failed("there is no pixel with a value in it")
    _, sigma = _sky(values.astype(np.float32)) if values.size > 3 else (0.0, float(values.std()))
    saturated = 0
    if mask is not None:
        saturated = int(((mask & np.uint16(MaskBit.SATURATED)) != 0).sum())
    elif saturation_adu is not None:
        saturated = int((values >= saturation_adu).sum())
    return RegionStatistics(
        float(np.median(values)), sigma, float(values.min()), float(values.max()), int(values.size), saturated
    )
