"""The brightest few hundred stars of an exposure, as fast as a picture can be looked through: enough to align it."""

from __future__ import annotations

import math
from dataclasses import replace

import cv2
import numpy as np
from scipy.spatial import cKDTree

from ulvar.engine import BoolArray, F32Array, F64Array, MaskArray, in_rows
from ulvar.frames import MaskBit
from ulvar.stars.background import Background, mesh_background
from ulvar.stars.bright import SIGMA_TO_FWHM, find_maxima, moment_shapes, ring_mean, window_moments
from ulvar.stars.fitting import stamps
from ulvar.stars.found import Detection, limit_stars
from ulvar.stars.options import DetectOptions
from ulvar.stars.table import StarFlag, StarTable
from ulvar.stars.trails import Trail, find_trails

# With fewer stars a frame is no easy one, nor with wider ones (they may be rings) or longer ones.
_LEAST, _WIDEST_PX, _LONGEST = 60, 8.0, 0.35
# Cells of the background, in pixels of the picture of half the size.
_CELL_PX = 64
# Where bright stars cover more of the frame, faint ones lift the sky that is left between them.
_CROWDED = 0.1
# Peaks that are looked at, for each star that is wanted.
_LOOKED_AT = 2.0
# With as many peaks, mostly hot pixels of a frame that is not calibrated, it is no easy one either.
_TOO_MANY = 20_000
# Saturated stars tell little of where they are: they count as one of this signal-to-noise ratio.
_SATURATED_SNR = 20.0
_HIDDEN = 0xFFFF & ~int(MaskBit.SATURATED | MaskBit.NONLINEAR | MaskBit.REPAIRED)


def find_brightest(
    data: F32Array,
    *,
    mask: MaskArray | None = None,
    gain_e_per_adu: float | None = None,
    options: DetectOptions | None = None,
    most: int = 400,
) -> Detection | None:
    """Find the brightest stars of an easy exposure: round, neither wide nor few.

    Peaks are sought in the picture of half the size. Places, fluxes and widths come from moments under a Gaussian window
    of the stars' own width in the full picture (`ulvar.stars.find_stars` fits the profile of all stars together, which
    serves measuring; for a map between exposures a few hundred windowed centroids do as well).

    Parameters
    ----------
    data : float32 array, shape (height, width)
        [ADU]; not modified; no mosaic of colours; NaN is passed over.
    mask : uint16 array, optional
        `ulvar.frames.MaskBit` plane.
    gain_e_per_adu : float, optional
        Adds the source's photon noise to errors [e-/ADU].
    options : DetectOptions, optional
    most : int
        As many stars at most.

    Returns
    -------
    Detection, or None
        Its background is that of the picture of half the size; None where the exposure is not an easy one, and
        `ulvar.stars.find_stars` is to be asked.
    """
    settings = options or DetectOptions()
    height, width = data.shape
    if min(height, width) < 64:
        return None
    hidden = np.zeros(data.shape, dtype=np.bool_) if mask is None else (mask & np.uint16(_HIDDEN)) != 0
    half = _halved(data, hidden)
    cells = _sky(half)
    noise_adu = _pixel_noise(data, hidden)
    if cells is None or not noise_adu > 0:
        return None
    shape = half.shape[1], half.shape[0]
    level = cv2.resize(cells.level, shape, interpolation=cv2.INTER_LINEAR)
    noise = np.maximum(cv2.resize(cells.noise, shape, interpolation=cv2.INTER_LINEAR), 1e-6)
    background = Background(level, noise, cells.sky_adu, noise_adu)
    half -= level
    trails = tuple(_full_size(trail) for trail in find_trails(half, noise))
    places = _peaks(data, half, background, hidden, round(_LOOKED_AT * most))
    if len(places) < _LEAST:
        return None
    found = _measured(data, cells.level, hidden, mask, noise_adu, places, gain_e_per_adu or 0.0)
    if found is None:
        return None
    table, fwhm = found
    ellipticity = float(np.nanmedian(table.ellipticity))
    stars = limit_stars(table, fwhm, ellipticity, replace(settings, max_stars=min(most, settings.max_stars)))
    if len(stars) < _LEAST or fwhm > _WIDEST_PX or ellipticity > _LONGEST:
        return None
    # Cells without the stars tell the sky itself.
    half += level
    if _hide(half, table, fwhm, noise_adu) > _CROWDED * half.size:
        return None
    cells = _sky(half, 2 * _CELL_PX) or cells
    background = replace(background, sky_adu=cells.sky_adu)
    return Detection(stars, background, fwhm, ellipticity, None, trails, settings.threshold)


def _sky(half: F32Array, box_px: int = _CELL_PX) -> Background | None:
    """Return the background of the picture of half the size by cells."""
    return mesh_background(half, box_px=box_px, samples=512)


def _pixel_noise(data: F32Array, hidden: BoolArray) -> float:
    """Return the noise of a pixel from every eighth row; NaN where nothing is known."""
    cells = mesh_background(
        np.ascontiguousarray(data[::8]), masked=np.ascontiguousarray(hidden[::8]), box_px=2 * _CELL_PX
    )
    return math.nan if cells is None else cells.noise_adu


def _hide(half: F32Array, stars: StarTable, fwhm: float, noise_adu: float) -> float:
    """Take out, in place, the pixels that stars lighten by more than a fifth of the noise; returns how many discs have."""
    # Of profiles with wings, not of Gaussians: light falls with the fourth power.
    reach = 0.5 * fwhm * np.clip((stars.peak / (0.2 * noise_adu)) ** 0.25, 2.0, 10.0)
    for x, y, radius in zip(stars.x, stars.y, reach):
        cv2.circle(half, (round((x - 0.5) / 2), round((y - 0.5) / 2)), math.ceil(radius), math.nan, -1)
    return float((math.pi * reach**2).sum())


def _full_size(trail: Trail) -> Trail:
    """Return a trail of the picture of half the size in that of the full one."""
    x0, y0, x1, y1 = (2 * v + 0.5 for v in (trail.x0, trail.y0, trail.x1, trail.y1))
    return replace(trail, x0=x0, y0=y0, x1=x1, y1=y1, width_px=2 * trail.width_px)


def _halved(data: F32Array, hidden: BoolArray) -> F32Array:
    """Return the means of 2 x 2 pixels; without the hidden ones, NaN where three of them are."""
    from ulvar.stars._kernels import halve

    out = np.empty((data.shape[0] // 2, data.shape[1] // 2), dtype=np.float32)
    in_rows(lambda first, last: halve(data, hidden, out, first, last), out.shape)
    return out


def _peaks(data: F32Array, half: F32Array, background: Background, hidden: BoolArray, most: int) -> F64Array:
    """Return x, y, shape (n, 2), of the highest peaks that do not stand alone in their pixel, the brightest first."""
    nowhere = np.isnan(half)
    filled = np.nan_to_num(half, nan=0.0) if nowhere.any() else half
    kernel = np.array([0.25, 0.5, 0.25])
    smooth = cv2.sepFilter2D(filled, cv2.CV_32F, kernel, kernel, borderType=cv2.BORDER_REFLECT)
    factor = float((kernel**2).sum())
    for threshold in (15.0, 7.0):
        xs, ys = find_maxima(smooth, background.noise, threshold * factor, nowhere, 1, limit=_TOO_MANY)
        if len(xs) >= _TOO_MANY:
            # The search ends with so many, somewhere in the middle of the frame.
            return np.empty((0, 2))
        if len(xs) >= most:
            break
    # The pixel of the peak is one of the sixteen around.
    dx, dy = (d.ravel() for d in np.meshgrid(np.arange(-1, 3), np.arange(-1, 3)))
    height, width = data.shape
    inside = (ys >= 2) & (xs >= 2) & (2 * ys + 4 < height) & (2 * xs + 4 < width)
    xs, ys = xs[inside], ys[inside]
    columns, rows = 2 * xs[:, None] + dx, 2 * ys[:, None] + dy
    values = np.where(hidden[rows, columns], -np.inf, np.nan_to_num(data[rows, columns], nan=-np.inf))
    top = values.argmax(axis=1)[:, None]
    x, y = (np.take_along_axis(c, top, axis=1)[:, 0] for c in (columns, rows))
    level = background.level[ys, xs]
    # A pixel that stands alone is hot, or hit by a cosmic ray: thousands of them would hide the stars.
    good = np.isfinite(data[y, x]) & (ring_mean(data, x, y) - level > 0.12 * (data[y, x] - level))
    chosen = np.flatnonzero(good)[:most]
    return np.column_stack([x[chosen], y[chosen]]).astype(np.float64)


def _measured(
    data: F32Array,
    level: F32Array,
    hidden: BoolArray,
    mask: MaskArray | None,
    noise_adu: float,
    places: F64Array,
    gain: float,
) -> tuple[StarTable, float] | None:
    """Return the table of the stars at places, and the width that they share."""
    saturated = hidden if mask is None else (mask & np.uint16(MaskBit.SATURATED)) != 0
    fwhm, rows = 3.0, np.empty((0, 11))
    x, y = places.T
    for _ in range(8):
        sigma = fwhm / SIGMA_TO_FWHM
        margin = math.ceil(4 * sigma) + 3
        (picture, bad, full), sx, sy, inside = stamps((data, hidden, saturated), x, y, margin)
        if inside.sum() < _LEAST:
            return None
        picture -= np.repeat(_level_at(level, data.shape, x[inside], y[inside]), 2 * margin + 1)
        picture[bad] = np.nan
        rows = window_moments(picture, np.full(picture.shape, noise_adu, np.float32), bad, sx, sy, sigma, gain)
        rows[:, 0] += x[inside] - sx
        rows[:, 1] += y[inside] - sy
        core = slice(margin - 2, margin + 3)
        clipped = np.asarray(full.reshape(len(full), -1, len(full))[core, :, core].any(axis=(0, 2)))
        good = (rows[:, 9] > 0) & np.isfinite(rows[:, 4]) & (rows[:, 8] > 0.12) & (rows[:, 2] > 0)
        rows, clipped = rows[good], clipped[good]
        lone = ~clipped & (rows[:, 10] == 0)
        if lone.sum() < _LEAST / 2:
            return None
        cxx, cyy, cxy = (float(np.median(rows[lone, column])) for column in (4, 5, 6))
        new = min(max(SIGMA_TO_FWHM * max(cxx * cyy - cxy * cxy, 0.0) ** 0.25, 1.0), 2 * _WIDEST_PX)
        if abs(new - fwhm) < 0.01 * fwhm:
            break
        fwhm = new
    return _table(rows, clipped, fwhm, data.shape), fwhm


def _level_at(cells: F32Array, shape: tuple[int, ...], x: F64Array, y: F64Array) -> F32Array:
    """Return the background at places, between the middles of its cells."""
    places = [
        ((v + 0.5) * count / size - 0.5).astype(np.float32)[None, :]
        for v, count, size in ((x, cells.shape[1], shape[1]), (y, cells.shape[0], shape[0]))
    ]
    found = cv2.remap(cells, places[0], places[1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return np.asarray(found[0], dtype=np.float32)


def _table(rows: F64Array, clipped: BoolArray, fwhm: float, shape: tuple[int, ...]) -> StarTable:
    own, ellipticity, angle = moment_shapes(*rows[:, 4:7].T)
    error = np.sqrt(rows[:, 3])
    flags = np.where(clipped, int(StarFlag.SATURATED), 0) | np.where(rows[:, 10] > 0, int(StarFlag.BAD_PIXEL), 0)
    x, y, reach = rows[:, 0], rows[:, 1], 2 * fwhm
    edge = (x < reach) | (y < reach) | (x > shape[1] - 1 - reach) | (y > shape[0] - 1 - reach)
    snr = rows[:, 2] / error
    stars = StarTable(
        x=x, y=y, flux=rows[:, 2], flux_error=error, snr=np.where(clipped, np.minimum(snr, _SATURATED_SNR), snr), fwhm_px=own, fwhm_fit_px=own,
        ellipticity=ellipticity, angle_deg=angle, peak=rows[:, 7], flags=flags | np.where(edge, int(StarFlag.EDGE), 0),
    )  # fmt: skip
    # Peaks of one star ran to the same place.
    near = cKDTree(np.column_stack([x, y])).query_pairs(0.7 * fwhm, output_type="ndarray")
    keep = np.ones(len(stars), dtype=bool)
    keep[np.where(stars.flux[near[:, 0]] < stars.flux[near[:, 1]], near[:, 0], near[:, 1])] = False
    return stars.select(keep)
