"""The pixel grid of a stack."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array
from ulvar.registration import PixelMap, Transform
from ulvar.stacking.options import Framing


@dataclass(frozen=True)
class Frame2D:
    """A grid: its size and where its origin lies on the reference exposure [px]."""

    width: int
    height: int
    x0: int
    y0: int

    def shifted(self, transform: PixelMap) -> PixelMap:
        """Return the transform onto this grid instead of onto the reference."""
        return transform.then(Transform.shift(-self.x0, -self.y0))


def frame_exposures(
    transforms: Sequence[PixelMap],
    shapes: Sequence[tuple[int, int]],
    reference: tuple[int, int],
    framing: Framing,
) -> Frame2D:
    """Return the grid for exposures that are mapped onto a reference.

    Parameters
    ----------
    transforms : sequence of PixelMap
        Exposure to reference.
    shapes : sequence of (int, int)
        Height and width of each exposure [px].
    reference : (int, int)
        Height and width of the reference exposure [px].
    framing : Framing

    Raises
    ------
    ValueError
        If the exposures have nothing in common and the common part is asked for.
    """
    if framing is Framing.REFERENCE or not transforms:
        return Frame2D(reference[1], reference[0], 0, 0)
    boxes = []
    for transform, (height, width) in zip(transforms, shapes):
        x = np.array([0.0, width - 1.0, 0.0, width - 1.0])
        y = np.array([0.0, 0.0, height - 1.0, height - 1.0])
        if framing is Framing.UNION:
            # A bent edge reaches beyond its corners.
            u, v = transform(*_edges(width, height))
            boxes.append((u.min(), v.min(), u.max(), v.max()))
        else:
            u, v = transform(x, y)
            # The inner box of the mapped corners: right for shifts and quarter turns, safe for small rotations.
            su, sv = np.sort(u), np.sort(v)
            boxes.append((su[1], sv[1], su[2], sv[2]))
    corners = np.array(boxes)
    if framing is Framing.UNION:
        low, high = np.floor(corners[:, :2].min(axis=0)), np.ceil(corners[:, 2:].max(axis=0))
    else:
        low, high = np.ceil(corners[:, :2].max(axis=0)), np.floor(corners[:, 2:].min(axis=0))
    width, height = math.floor(high[0] - low[0]) + 1, math.floor(high[1] - low[1]) + 1
    if width < 1 or height < 1:
        raise ValueError("the exposures have no part of the sky in common")
    return Frame2D(width, height, int(low[0]), int(low[1]))


def _edges(width: int, height: int) -> tuple[F64Array, F64Array]:
    """Return places along the edges of an exposure [px], corners included."""
    along, up = np.linspace(0.0, width - 1.0, 17), np.linspace(0.0, height - 1.0, 17)
    x = np.concatenate([along, along, np.zeros(17), np.full(17, width - 1.0)])
    y = np.concatenate([np.zeros(17), np.full(17, height - 1.0), up, up])
    return x, y
