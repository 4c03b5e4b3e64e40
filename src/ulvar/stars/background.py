"""Sky background and its noise, smooth over the frame."""

from __future__ import annotations

from dataclasses import dataclass, replace

import cv2
import numpy as np

from ulvar.engine import BoolArray, F32Array, in_parts
from ulvar.frames import CELL_SITES

# A thread takes at least so many cells.
_LEAST_CELLS = 50


@dataclass(frozen=True)
class Background:
    """Background of a frame.

    Attributes
    ----------
    level, noise : float32 array, shape (height, width)
        Sky level and its standard deviation per pixel [ADU].
    sky_adu, noise_adu : float
        Their medians over the frame [ADU].
    """

    level: F32Array
    noise: F32Array
    sky_adu: float
    noise_adu: float


def estimate_background(
    data: F32Array,
    *,
    masked: BoolArray | None = None,
    box_px: int = 64,
    samples: int = 1024,
    starless: bool = False,
    mosaic: bool = False,
) -> Background:
    """Estimate the background on a mesh of clipped modes, median-filtered, interpolated bicubically.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        [ADU]; NaN is passed over.
    masked : bool array, optional
        True where pixels are not to be used (stars, in a second pass).
    box_px : int
        Wanted size of a mesh cell [px]; cells are evened out over the frame.
    samples : int
        Pixels of a cell that are looked at, about: a thousand tell its level to a thirtieth of the noise.
    starless : bool
        The stars are taken off already: clipped means are used. The mode, which stars hardly raise, lies a
        few hundredths of the noise under the mean where photons are few, for they scatter unevenly.
    mosaic : bool
        The four pixels of a 2 x 2 cell have noises of their own: the level is their mean, the noise their root mean
        square. The clipped deviation of them all together would be too small.

    Returns
    -------
    Background
        All zero level with NaN medians where nothing is usable at all.
    """
    height, width = data.shape
    cells = mesh_background(data, masked=masked, box_px=box_px, samples=samples, starless=starless, mosaic=mosaic)
    if cells is None:
        return Background(np.zeros_like(data), np.full_like(data, np.inf), float("nan"), float("nan"))
    return replace(
        cells,
        level=cv2.resize(cells.level, (width, height), interpolation=cv2.INTER_CUBIC),
        noise=np.maximum(cv2.resize(cells.noise, (width, height), interpolation=cv2.INTER_LINEAR), 1e-6),
    )


def mesh_background(
    data: F32Array,
    *,
    masked: BoolArray | None = None,
    box_px: int = 64,
    samples: int = 1024,
    starless: bool = False,
    mosaic: bool = False,
) -> Background | None:
    """Estimate the background as `estimate_background` does; return it with a value for each cell of the mesh.

    None where nothing is usable at all.
    """
    height, width = data.shape
    skip = np.zeros(data.shape, dtype=np.bool_) if masked is None else masked
    rows, columns = max(1, round(height / box_px)), max(1, round(width / box_px))
    step = max(2, (box_px * box_px) // samples)
    if mosaic:
        meshes = [
            _mesh(np.ascontiguousarray(data[at]), np.ascontiguousarray(skip[at]), rows, columns, step, starless)
            for at in CELL_SITES
        ]
        level = np.asarray(np.mean([m[0] for m in meshes], axis=0), dtype=np.float32)
        noise = np.asarray(np.sqrt(np.mean([m[1] ** 2 for m in meshes], axis=0)), dtype=np.float32)
    else:
        level, noise = _mesh(data, skip, rows, columns, step, starless)
    if not np.isfinite(level).any():
        return None
    level, noise = _smooth(level), _smooth(noise)
    return Background(level, noise, sky_adu=float(np.median(level)), noise_adu=float(np.median(noise)))


def _mesh(
    data: F32Array, skip: BoolArray, rows: int, columns: int, step: int, starless: bool
) -> tuple[F32Array, F32Array]:
    """Return level and noise of each cell, NaN where too few pixels are usable."""
    from ulvar.stars._kernels import clipped_cells

    height, width = data.shape
    edges_y = np.linspace(0, height, rows + 1).round().astype(np.int64)
    edges_x = np.linspace(0, width, columns + 1).round().astype(np.int64)
    level = np.empty((rows, columns), dtype=np.float32)
    noise = np.empty((rows, columns), dtype=np.float32)
    in_parts(
        lambda first, last: clipped_cells(data, skip, edges_y, edges_x, step, not starless, first, last, level, noise),
        rows, smallest=max(1, _LEAST_CELLS // columns),
    )  # fmt: skip
    return level, noise


def _smooth(cells: F32Array) -> F32Array:
    from scipy import ndimage

    filled = cells.copy()
    holes = ~np.isfinite(filled)
    if holes.any():
        nearest = ndimage.distance_transform_edt(holes, return_distances=False, return_indices=True)
        filled = filled[tuple(nearest)]
    if min(filled.shape) < 3:
        return filled
    return np.asarray(ndimage.median_filter(filled, size=3, mode="nearest"), dtype=np.float32)
