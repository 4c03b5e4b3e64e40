"""The table of fitted stars: shapes, flags, and what is no star after all."""

from __future__ import annotations

import math

import cv2
import numpy as np
from scipy.spatial import cKDTree

from ulvar.engine import BoolArray, F64Array, in_parts
from ulvar.stars._kernels_psf import star_shapes
from ulvar.stars.bright import SIGMA_TO_FWHM, moment_shapes
from ulvar.stars.fitting import ProfileFit
from ulvar.stars.table import StarFlag, StarTable


def measure_stars(fit: ProfileFit, saturated_pixels: BoolArray) -> tuple[StarTable, float]:
    """Return all fitted stars and the ellipticity of the profile."""
    psf = fit.psf
    if not len(fit):
        return StarTable.empty(), math.nan
    sigma = psf.fwhm_px / SIGMA_TO_FWHM * (1.6 if psf.ring else 1.0)
    radius = (0.65 if psf.ring else 0.75) * psf.fwhm_px
    shapes = np.empty((len(fit), 7))

    def part(first: int, last: int) -> None:
        star_shapes(
            fit.left, fit.noise, fit.bad, psf.table, fit.gain, fit.x, fit.y, fit.flux, sigma, max(2.0, radius), first,
            last, shapes,
        )  # fmt: skip

    in_parts(part, len(fit), smallest=100)
    width, ellipticity, angle = moment_shapes(*shapes[:, :3].T)
    snr = fit.snr
    bright = np.argsort(-snr)[:200]
    # Moments see wings that the width at half maximum does not; the ratio is the exposure's own.
    ratio = psf.fwhm_px / float(np.nanmedian(width[bright])) if np.isfinite(width[bright]).any() else 1.0
    flags = np.zeros(len(fit), dtype=np.int64)
    saturated = (fit.core > 0) | _near(saturated_pixels, fit.x, fit.y, 2)
    flags[saturated] |= StarFlag.SATURATED
    reach = 2 * psf.fwhm_px
    rows, columns = fit.left.shape
    edge = (fit.x < reach) | (fit.y < reach) | (fit.x > columns - 1 - reach) | (fit.y > rows - 1 - reach)
    flags[edge] |= StarFlag.EDGE
    flags[(shapes[:, 6] > 0) & ~saturated] |= StarFlag.BAD_PIXEL
    flags[_has_neighbour(fit)] |= StarFlag.NEIGHBOUR
    table = StarTable(
        x=fit.x, y=fit.y, flux=fit.flux, flux_error=np.sqrt(fit.variance[:, 0]), snr=snr, fwhm_px=width * ratio,
        fwhm_fit_px=shapes[:, 3] * psf.fwhm_px, ellipticity=ellipticity,
        angle_deg=angle, peak=shapes[:, 4], flags=flags,
    )  # fmt: skip
    typical = table.ellipticity[bright]
    # What the profile does not fit is a track of a cosmic ray or a cluster of hot pixels. The profile changes a little
    # over the field: bright stars may differ from it by a twentieth of their light.
    # Blends that were taken for one star, beside another, have more leave.
    crowd = (flags & StarFlag.NEIGHBOUR) != 0
    likely = saturated | ~(shapes[:, 5] > np.where(crowd, 3.0, 1.0) * (3 + 0.05 * snr))
    return table.select(likely), float(np.nanmedian(typical)) if np.isfinite(typical).any() else math.nan


def _has_neighbour(fit: ProfileFit) -> BoolArray:
    """Tell stars within two widths of one that has a twentieth of their light or more."""
    result = np.zeros(len(fit), dtype=bool)
    pairs = cKDTree(np.column_stack([fit.x, fit.y])).query_pairs(2 * fit.psf.fwhm_px, output_type="ndarray")
    a, b = pairs[:, 0], pairs[:, 1]
    result[a[fit.flux[b] > 0.05 * fit.flux[a]]] = True
    result[b[fit.flux[a] > 0.05 * fit.flux[b]]] = True
    return result


def _near(plane: BoolArray, x: F64Array, y: F64Array, reach: int) -> BoolArray:
    if not plane.any():
        return np.zeros(len(x), dtype=np.bool_)
    grown = cv2.dilate(plane.astype(np.uint8), np.ones((2 * reach + 1, 2 * reach + 1), np.uint8))
    iy = np.clip(np.rint(y).astype(int), 0, plane.shape[0] - 1)
    ix = np.clip(np.rint(x).astype(int), 0, plane.shape[1] - 1)
    return np.asarray(grown[iy, ix] > 0)
