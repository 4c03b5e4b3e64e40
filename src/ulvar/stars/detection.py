"""Finding stars: matched filter, local maxima, one fit of all profiles together, shapes."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from scipy.spatial import cKDTree

from ulvar.engine import BoolArray, F32Array, F64Array, MaskArray
from ulvar.frames import MaskBit, is_mosaic
from ulvar.stars.background import Background, estimate_background
from ulvar.stars.bright import SIGMA_TO_FWHM, BrightStars, find_bright_stars
from ulvar.stars.fitting import gather_psf, stamps
from ulvar.stars.focus import autocorrelation_width
from ulvar.stars.found import Detection, limit_stars
from ulvar.stars.measuring import measure_stars
from ulvar.stars.mosaic import even_mosaic
from ulvar.stars.options import DetectOptions
from ulvar.stars.psf import MeasuredPsf, gaussian_psf
from ulvar.stars.search import Scene, search_stars, stars_for_profile
from ulvar.stars.table import StarTable
from ulvar.stars.trails import find_trails

# Saturated and bent pixels show where a star is, repaired ones have a value.
_UNUSABLE = np.uint16(0xFFFF & ~int(MaskBit.SATURATED | MaskBit.NONLINEAR | MaskBit.REPAIRED))


def find_stars(
    data: F32Array,
    *,
    mask: MaskArray | None = None,
    gain_e_per_adu: float | None = None,
    cfa: str = "",
    options: DetectOptions | None = None,
) -> Detection:
    """Find and measure the stars of one exposure.

    A first pass with a wide range of widths finds bright stars. Their shared profile makes the matched filter and
    is fitted to all stars together; the background is estimated again from the picture without them; what is left is
    searched again, so that stars beside brighter ones are found and every star is measured without its neighbours.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        [ADU]; not modified; NaN is passed over.
    mask : uint16 array, optional
        `ulvar.frames.MaskBit` plane: saturated pixels flag a star, which is then fitted by what is around them;
        other bits hide pixels.
    gain_e_per_adu : float, optional
        Adds the source's photon noise to weights and errors [e-/ADU].
    cfa : str
        Cell of a colour mosaic (``RGGB``): all bands are brought to the scale of green, see `even_mosaic`, and level,
        noise and fluxes are on it. Anything else is taken for a grey frame.
    options : DetectOptions, optional

    Returns
    -------
    Detection
        With an empty table and NaN shape where there are no stars.
    """
    settings = options or DetectOptions()
    hidden = ~np.isfinite(data)
    saturated = np.zeros(data.shape, dtype=np.bool_)
    if mask is not None:
        hidden |= (mask & _UNUSABLE) != 0
        saturated = (mask & np.uint16(MaskBit.SATURATED)) != 0
    gain = gain_e_per_adu or 0.0
    bands: tuple[tuple[float, float], ...] = ()
    if is_mosaic(cfa):
        even = even_mosaic(data, cfa, hidden=hidden | saturated, box_px=settings.box_px)
        data, bands, gain = even.data, even.bands, gain * even.gain_share
    # A first look; it is estimated again without the stars.
    background = estimate_background(data, masked=hidden, box_px=settings.box_px, samples=512, mosaic=bool(bands))
    nothing = Detection(StarTable.empty(), background, math.nan, math.nan, bands=bands)
    # In a frame whose pixels are all alike every rounding error would be a star.
    if not (math.isfinite(background.sky_adu) and background.noise_adu > 0):
        return nothing
    scene = Scene(
        _subtract(data, background, hidden), background, hidden, saturated, gain, settings.box_px,
        mosaic=bool(bands),
    )  # fmt: skip
    bright = find_bright_stars(
        scene.residual, background.noise, hidden, saturated, settings.fwhm_px or 3.0, settings.threshold
    )
    if bright is None:
        return nothing
    if 6 * bright.fwhm_px > settings.box_px:
        # Cells have to be several stars wide, or stars pass for background.
        scene.box_px = math.ceil(6 * bright.fwhm_px)
        scene.background = estimate_background(data, masked=hidden, box_px=scene.box_px, mosaic=scene.mosaic)
        scene.residual = _subtract(data, scene.background, hidden)
    psf = _first_psf(scene, bright, settings)
    trails = tuple(find_trails(scene.residual, scene.noise))
    threshold = _threshold(data.shape, psf, settings)
    fit = search_stars(scene, psf, threshold, trails)
    psf = fit.psf
    table, ellipticity = measure_stars(fit, saturated)
    stars = limit_stars(table, psf.fwhm_px, ellipticity, replace(settings, threshold=threshold))
    best = stars.ellipticity[(stars.snr > 20) & (stars.flags == 0)][:200]
    if np.isfinite(best).any():
        ellipticity = float(np.nanmedian(best))
    if not len(stars):
        return Detection(stars, scene.background, math.nan, math.nan, None, trails, threshold, bands)
    return Detection(stars, scene.background, psf.fwhm_px, ellipticity, psf, trails, threshold, bands)


def _subtract(data: F32Array, background: Background, hidden: BoolArray) -> F32Array:
    residual = data - background.level
    if hidden.any():
        residual[hidden] = np.nan
    return residual


def _threshold(shape: tuple[int, ...], psf: MeasuredPsf, options: DetectOptions) -> float:
    """Return the threshold at which no more than the allowed peaks of noise are expected in the frame.

    Maxima over u of a Gaussian field (Longuet-Higgins 1957, Phil. Trans. A 249, 321): A lambda (2 pi)^-1.5 u
    exp(-u^2 / 2), with lambda = 1 / (2 sigma^2) for white noise smoothed by a Gaussian of width sigma.
    """
    if options.noise_peaks <= 0:
        return options.threshold
    sigma = max(psf.fwhm_px / SIGMA_TO_FWHM, 0.5)
    fields = shape[0] * shape[1] / (2 * sigma**2) / (2 * math.pi) ** 1.5
    u = options.threshold
    while fields * u * math.exp(-u * u / 2) > options.noise_peaks and u < 8:
        u += 0.01
    return u


def _first_psf(scene: Scene, bright: BrightStars, settings: DetectOptions) -> MeasuredPsf:
    """Gather the profile from the brightest lone stars; what is wide is judged by the autocorrelation too."""
    fwhm = settings.fwhm_px or bright.fwhm_px
    start, doubt, rounds = gaussian_psf(fwhm, bright.covariance), 0.2, 3
    if fwhm > 5 and settings.fwhm_px is None:
        wide = autocorrelation_width(scene.residual, scene.background.noise_adu)
        if math.isfinite(wide) and wide > 0.7 * fwhm:
            # It may be a ring, which no Gaussian resembles.
            start, doubt, rounds = gaussian_psf(min(max(wide, fwhm / 1.5), 1.5 * fwhm)), 3.0, 6
    x, y, flux = _profile_stars(scene, bright, start.radius_px)
    (picture, noise, bad), x, y, inside = stamps((scene.residual, scene.noise, scene.bad), x, y, start.radius_px + 2)
    return gather_psf(
        start, picture, noise, bad, x, y, flux[inside], gain=scene.gain, noise_adu=scene.background.noise_adu,
        rounds=rounds, doubt=doubt, careful=False,
    )  # fmt: skip


def _profile_stars(scene: Scene, bright: BrightStars, radius: int) -> tuple[F64Array, F64Array, F64Array]:
    """Return positions and fluxes of up to 40 bright stars that are as much alone as the field allows."""
    rows = bright.rows
    x, y, flux = rows[:, 0], rows[:, 1], rows[:, 2]
    height, width = scene.residual.shape
    margin = radius + 3
    inside = (x > margin) & (y > margin) & (x < width - margin - 1) & (y < height - margin - 1)
    area = np.pi * 4 * (bright.fwhm_px / SIGMA_TO_FWHM) ** 2
    strong = flux > 15 * np.sqrt(area) * scene.background.noise_adu
    chosen = np.flatnonzero(inside & strong)
    if not len(chosen):
        chosen = np.flatnonzero(inside)
    near = cKDTree(np.column_stack([x, y])).query_pairs(0.8 * radius, output_type="ndarray")
    load = np.zeros(len(x))
    for a, b in ((0, 1), (1, 0)):
        np.add.at(load, near[:, a], flux[near[:, b]] / np.maximum(flux[near[:, a]], 1e-9))
    for most in (0.02, 0.1, 0.5, math.inf):
        alone = chosen[load[chosen] <= most]
        if len(alone) >= 6 or most == math.inf:
            break
    alone = alone[: stars_for_profile(flux[alone] / (np.sqrt(area) * scene.background.noise_adu))]
    return x[alone], y[alone], flux[alone]
