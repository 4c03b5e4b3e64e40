"""Resampling an exposure onto another pixel grid."""

from __future__ import annotations

import math
from functools import lru_cache

import cv2
import numpy as np

from ulvar.engine import F32Array, F64Array
from ulvar.engine.threads import in_rows
from ulvar.registration.options import RESAMPLING, Kernel, Resampling
from ulvar.registration.transform import PixelMap, Transform

# Between nodes so many pixels apart places are interpolated linearly; where a map bends more than this between them [px]
# nodes lie closer.
_STEP, _LEAST_STEP, _BENT_PX, _BENT_LIGHT = 64, 8, 0.004, 5e-4
# Up to this shear the image is interpolated along rows and then columns: within the kernel's reach a row's places then
# shift by less than a third of a pixel.
_LITTLE_SHEAR = 0.1


# Where a pixel of the target is so many pixels of the data wide, or more, it is a mean of them.
_LARGER, _WIDEST = 1.1, 8.0


# Maps bend slowly: whether nodes are close enough is seen by so many cells an axis.
_CELLS = 24
_CELL = (0.0, 1.0, 0.5, 0.0, 0.0), (0.0, 0.0, 0.0, 1.0, 0.5)


@lru_cache(maxsize=8)
def _table(kernel: str, stretch: float) -> F32Array:
    from ulvar.registration._kernels import kernel_table

    return kernel_table(kernel, stretch)  # type: ignore[no-any-return]


def _darkest(data: F32Array, order: int) -> F32Array:
    """Return the darkest of the ``2 * order`` pixels in each direction that a place between pixels is made of."""
    filled = np.where(np.isfinite(data), data, np.float32(np.finfo(np.float32).max))
    size, anchor = 2 * order, order - 1
    return np.asarray(cv2.erode(filled, np.ones((size, size), np.uint8), anchor=(anchor, anchor)))


def nodes_of(length: int, step: int) -> F64Array:
    """Return where the nodes of an axis are [px]: every pixel lies before the last one."""
    return step * np.arange(-(-length // step) + 1, dtype=np.float64)


def _spread(nodes: F64Array) -> F64Array:
    """Return at most `_CELLS` of the nodes, the first and the last among them."""
    return nodes if len(nodes) <= _CELLS else nodes[np.linspace(0, len(nodes) - 1, _CELLS).round().astype(int)]


def step_for(back: PixelMap, shape: tuple[int, int]) -> int:
    """Return how far apart nodes may lie for places between them to follow the map."""
    step = _STEP
    while step > _LEAST_STEP and not isinstance(back, Transform):
        x, y = np.meshgrid(_spread(nodes_of(shape[1], step)[:-1]), _spread(nodes_of(shape[0], step)[:-1]))
        # Of each cell the corner, two neighbours, and the middles of the edges to them.
        x, y = x + step * np.array(_CELL[0])[:, None, None], y + step * np.array(_CELL[1])[:, None, None]
        area = back.area(x, y)
        worst = [
            np.nanmax(np.abs((v[0] + v[right]) / 2 - v[middle]), initial=0.0)
            for v in back(x, y) for right, middle in ((1, 2), (3, 4))
        ]  # fmt: skip
        # Light goes with the area, which is linear between nodes, too.
        light = [np.nanmax(np.abs((area[0] + area[k]) / 2 / area[k + 1] - 1), initial=0.0) for k in (1, 3)]
        if max(worst) <= _BENT_PX and max(light) <= _BENT_LIGHT:
            break
        step //= 2
    return step


def resample(data: F32Array, transform: PixelMap, shape: tuple[int, int], how: Resampling = RESAMPLING) -> F32Array:
    """Return `data` on the target grid by interpolation.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        NaN marks pixels without data; not modified.
    transform : PixelMap
        From the data's pixels to the target's.
    shape : (int, int)
        Height and width of the target [px].
    how : Resampling

    Returns
    -------
    float32 array of `shape`
        NaN outside the data and where too much of the kernel falls on missing pixels. Flux per star is
        kept: values are multiplied by the area of a target pixel in source pixels.

    Notes
    -----
    Where the map hardly shears and changes the scale little, as it does between exposures of one night, Lanczos-3 is
    done in two passes of one dimension (Catmull & Smith 1980, Computer Graphics 14, 279):
    12 taps a pixel instead of 36. Edges and what lies beside missing pixels are done tap by tap.
    """
    from ulvar.registration._kernels import along_columns, along_rows, raise_to, tap_by_tap

    data = np.ascontiguousarray(data, dtype=np.float32)
    missing = ~np.isfinite(data)
    back = transform.inverse()
    middle = (shape[1] - 1) / 2, (shape[0] - 1) / 2
    pixels = math.sqrt(float(back.area(*(np.array([[v]]) for v in middle))[0, 0]))
    stretch = round(min(pixels, _WIDEST), 2) if _LARGER < pixels < math.inf else 1.0
    table = _table(how.kernel.value, stretch)
    order = table.shape[1] // 2
    # A tap may fall up to `order` pixels away from the position's own pixel, and another one where rows shear.
    reach = 2 * order + 3
    holes = (
        cv2.dilate(missing.astype(np.uint8), np.ones((reach, reach), np.uint8))
        if missing.any()
        else missing.view(np.uint8)
    )
    floor = _darkest(data, order) if how.clamp else None
    runs = back.linear_at(*middle)[0, 0]
    if abs(runs + 1) < _LITTLE_SHEAR and how.kernel is Kernel.LANCZOS3:
        # Rows that run the other way are turned round, so that both passes go along with memory.
        data, holes = np.ascontiguousarray(data[:, ::-1]), np.ascontiguousarray(holes[:, ::-1])
        floor = _darkest(data, order) if how.clamp else None
        back = back.then(Transform(np.array([[-1.0, 0.0, data.shape[1] - 1.0], [0.0, 1.0, 0.0]])))
        runs = -runs
    (height, width), out = shape, np.empty(shape, dtype=np.float32)
    step = step_for(back, shape)
    gx, gy = np.meshgrid(nodes_of(width, step), nodes_of(height, step))
    across, down = back(gx, gy)
    area = back.area(gx, gy)
    # Far from one pixel a pixel there are no runs of pixels that go along with each other.
    even = how.kernel is Kernel.LANCZOS3 and stretch == 1 and abs(runs - 1) < _LITTLE_SHEAR
    along = back.along_rows(nodes_of(width, step), nodes_of(data.shape[0], step), _LITTLE_SHEAR) if even else None
    which = np.full((height, across.shape[1] - 1), along is None)
    if along is not None:
        between = np.empty((data.shape[0], width), dtype=np.float32)
        turned = np.ascontiguousarray(table.T)
        in_rows(lambda a, b: along_rows(data, along, step, turned, between, a, b), data.shape)
        in_rows(
            lambda a, b: along_columns(between, holes, across, down, area, step, turned, which, out, a, b),
            shape,
        )  # fmt: skip
    in_rows(
        lambda a, b: tap_by_tap(data, holes, across, down, area, step, table, order, which, out, a, b),
        shape,
    )  # fmt: skip
    if floor is not None:
        in_rows(lambda a, b: raise_to(floor, across, down, area, step, out, a, b), shape)
    return out
