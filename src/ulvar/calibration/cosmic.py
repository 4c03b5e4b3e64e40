"""Cosmic rays in a single exposure, by their edges: sharper than the optics can make them.

References
----------
van Dokkum, P. G. 2001, PASP 113, 1420 (the Laplacian-edge method; sections 2 and 3).
"""

from __future__ import annotations

import cv2
import numpy as np

from ulvar.calibration.defects import repair
from ulvar.engine import BoolArray, F32Array, MaskArray
from ulvar.frames import MaskBit, mark, median, robust_spread


def _median(plane: F32Array, size: int, mosaic: bool) -> F32Array:
    if not mosaic:
        return cv2.medianBlur(np.ascontiguousarray(plane), size)
    out = np.empty_like(plane)
    for dy in (0, 1):
        for dx in (0, 1):
            out[dy::2, dx::2] = cv2.medianBlur(np.ascontiguousarray(plane[dy::2, dx::2]), size)
    return out


def find_cosmic_rays(
    data: F32Array,
    *,
    gain_e_per_adu: float | None,
    read_noise_e: float | None,
    sigma: float = 4.5,
    contrast: float = 3.0,
    mosaic: bool = False,
    mask: MaskArray | None = None,
) -> BoolArray:
    """Return which pixels a cosmic ray hit.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        Calibrated exposure, sky included [ADU]. Not modified.
    gain_e_per_adu, read_noise_e : float or None
        For the noise of each pixel; without a gain the frame's own sky noise stands for all of it, and bright
        stars are kept by their shape alone.
    sigma : float
        Edges that stand this many deviations of their own pixel's noise over those around.
    contrast : float
        Laplacian over fine structure: the larger, the more pixels in the cores of sharp stars are spared.
        2 suits stars of FWHM over 3 px, 5 undersampled ones.
    mosaic : bool
        Neighbours are then those of the same colour.
    mask : uint16 array, optional
        Pixels marked here are not looked at: defects, saturation, no data.

    Raises
    ------
    ValueError
        If sigma or contrast is not above 0.

    Notes
    -----
    Where we differ from the paper: the fine structure is evaluated only at pixels whose edge is significant,
    and neighbours of a hit are taken in at 0.3 sigma without asking for contrast, once.
    """
    from scipy import ndimage

    from ulvar.calibration._kernels import laplacian_edges

    if sigma <= 0 or contrast <= 0:
        raise ValueError("sigma and contrast must be above 0")
    good = np.isfinite(data)
    level = median(data[good][::7]) if good.any() else 0.0
    image = np.where(good, data, np.float32(level)).astype(np.float32)
    edges = np.empty_like(image)
    laplacian_edges(image, 2 if mosaic else 1, edges)
    smooth = _median(image, 5, mosaic)
    if gain_e_per_adu:
        variance = np.maximum(smooth, 0) / np.float32(gain_e_per_adu)
        variance += np.float32(((read_noise_e or 0.0) / gain_e_per_adu) ** 2)
        noise = np.sqrt(np.maximum(variance, np.float32(1e-6)))
    else:
        away = image - smooth
        noise = np.full_like(image, max(robust_spread(away.ravel()[::7], about=0.0), 1e-6))
    significance = edges / (2 * noise)
    # What stars themselves have of it is smooth over five pixels.
    significance -= _median(significance, 5, mosaic)
    usable = good if mask is None else good & (mask == 0)
    candidates = (significance > sigma) & usable
    hit = np.zeros(data.shape, dtype=np.bool_)
    ys, xs = np.nonzero(candidates)
    if not len(ys):
        return hit
    fine = _fine_structure(image, ys, xs, 2 if mosaic else 1)
    sharp = edges[ys, xs] / 2 > contrast * np.maximum(fine, noise[ys, xs] * 0.2)
    hit[ys[sharp], xs[sharp]] = True
    around = ndimage.binary_dilation(hit, structure=np.ones((3, 3))) if not mosaic else _grown_mosaic(hit)
    return np.asarray(hit | (around & (significance > 0.3 * sigma) & usable & (significance > 1.5)))


def _grown_mosaic(hit: BoolArray) -> BoolArray:
    from scipy import ndimage

    structure = np.zeros((5, 5), dtype=np.bool_)
    structure[::2, ::2] = True
    return np.asarray(ndimage.binary_dilation(hit, structure=structure))


def _fine_structure(image: F32Array, ys: np.ndarray, xs: np.ndarray, step: int) -> F32Array:
    """Return median 3 x 3 less the median 7 x 7 of it, at some pixels: what stars have and spikes have not."""
    reach = 4 * step
    padded = np.pad(image, reach, mode="edge")
    offsets = np.arange(-4, 5) * step
    values = np.empty(len(ys), dtype=np.float32)
    # In batches, so that a frame full of candidates does not need a copy of itself 81 times over.
    for start in range(0, len(ys), 20_000):
        part = slice(start, start + 20_000)
        rows = (ys[part] + reach)[:, None, None] + offsets[None, :, None]
        columns = (xs[part] + reach)[:, None, None] + offsets[None, None, :]
        patch = padded[rows, columns]
        windows = np.lib.stride_tricks.sliding_window_view(patch, (3, 3), axis=(1, 2))
        small = np.median(windows.reshape(len(patch), 7, 7, 9), axis=3)
        values[part] = small[:, 3, 3] - np.median(small.reshape(len(patch), 49), axis=1)
    return values


def clean_cosmic_rays(
    data: F32Array,
    mask: MaskArray,
    *,
    gain_e_per_adu: float | None,
    read_noise_e: float | None,
    sigma: float = 4.5,
    contrast: float = 3.0,
    mosaic: bool = False,
    rounds: int = 2,
) -> int:
    """Find and repair cosmic rays in place, until no more are found; returns how many pixels.

    Parameters as `find_cosmic_rays`, and how many times to look at most: what a first look leaves of a long hit
    has sharp edges of its own once the rest is gone. Hit pixels get `MaskBit.COSMIC` and `MaskBit.REPAIRED` in `mask`.
    """
    total = 0
    for _ in range(rounds):
        looked_past = np.where((mask & np.uint16(MaskBit.COSMIC)) != 0, np.uint16(0), mask).astype(np.uint16)
        hit = find_cosmic_rays(
            data, gain_e_per_adu=gain_e_per_adu, read_noise_e=read_noise_e, sigma=sigma, contrast=contrast,
            mosaic=mosaic, mask=looked_past,
        )  # fmt: skip
        fresh = hit & ((mask & np.uint16(MaskBit.COSMIC)) == 0)
        if not fresh.any():
            break
        total += int(fresh.sum())
        mark(mask, fresh, MaskBit.COSMIC)
        repair(data, mask, bits=MaskBit.COSMIC, mosaic=mosaic)
    return total
