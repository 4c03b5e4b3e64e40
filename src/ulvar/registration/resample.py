"""Resampling an exposure onto another pixel grid."""

from __future__ import annotations

from functools import lru_cache

import cv2
import numpy as np

from ulvar.engine import F32Array
from ulvar.registration.transform import Transform


@lru_cache(maxsize=4)
def _table(order: int) -> F32Array:
    from ulvar.registration._kernels import lanczos_table

    return lanczos_table(order)  # type: ignore[no-any-return]


def resample(data: F32Array, transform: Transform, shape: tuple[int, int], *, order: int = 3) -> F32Array:
    """Return `data` on the target grid by Lanczos interpolation.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        NaN marks pixels without data; not modified.
    transform : Transform
        From the data's pixels to the target's.
    shape : (int, int)
        Height and width of the target [px].
    order : int
        Lobes of the Lanczos kernel, 3 or 4 (Duchon 1979, J. Appl. Meteor. 18, 1016).

    Returns
    -------
    float32 array of `shape`
        NaN outside the data and where too much of the kernel falls on missing pixels. Flux per star is
        kept: values are multiplied by the area of a target pixel in source pixels.

    Raises
    ------
    ValueError
        For another order.
    """
    from ulvar.registration._kernels import lanczos_rows

    if order not in (3, 4):
        raise ValueError("the Lanczos order is 3 or 4")
    missing = ~np.isfinite(data)
    # A tap may fall up to `order` pixels away from the position's own pixel.
    holes = (
        cv2.dilate(missing.astype(np.uint8), np.ones((2 * order + 1, 2 * order + 1), np.uint8))
        if missing.any()
        else missing.astype(np.uint8)
    )
    out = np.empty(shape, dtype=np.float32)
    inverse = np.ascontiguousarray(transform.inverse().matrix)
    factor = np.float32(abs(np.linalg.det(inverse[:, :2])))
    lanczos_rows(np.ascontiguousarray(data, dtype=np.float32), holes, inverse, _table(order), order, factor, out)
    return out
