"""The pixel grid of a stack."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array
from ulvar.registration import PixelMap, Transform
from ulvar.stacking.options import Framing

_AS_IT_IS = (1.0, 0.0, 0.0, 0.0, 1.0, 0.0)
# A pixel of which only this much lies outside counts as inside [px].
_ROUNDING = 1e-6


@dataclass(frozen=True)
class Frame2D:
    """A grid: its size, and how it lies on the reference exposure.

    Attributes
    ----------
    width, height : int
    x0, y0 : int
        Where its first pixel lies on the reference, after that was turned [px].
    turned : tuple of six float
        Rows of the affine matrix that turns and scales the reference (see `turn_of`).
    """

    width: int
    height: int
    x0: int
    y0: int
    turned: tuple[float, ...] = _AS_IT_IS

    @property
    def way(self) -> Transform:
        """From the reference's pixels to those of the grid."""
        matrix = np.array(self.turned).reshape(2, 3)
        return Transform(
            matrix - [[0.0, 0.0, self.x0], [0.0, 0.0, self.y0]], kind="shift" if self.upright else "affine"
        )

    @property
    def upright(self) -> bool:
        """Whether its pixels are the reference's, but for the origin."""
        return self.turned == _AS_IT_IS

    def shifted(self, transform: PixelMap) -> PixelMap:
        """Return the transform onto this grid instead of onto the reference."""
        return transform.then(self.way)


def turn_of(scale: float = 1.0, turn_deg: float = 0.0, mirrored: bool = False) -> tuple[float, ...]:
    """Return how a grid lies on the reference, as `Frame2D` has it.

    Parameters
    ----------
    scale : float
        Pixels of the grid for one of the reference.
    turn_deg : float
        How far the picture is turned clockwise, first row at the bottom [deg].
    mirrored : bool
        Whether left and right are exchanged before.
    """
    angle = math.radians(turn_deg)
    c, s = scale * math.cos(angle), scale * math.sin(angle)
    linear = np.array([[c, s], [-s, c]]) @ np.diag([-1.0 if mirrored else 1.0, 1.0])
    # The outer corner of the first pixel stays where it is: pixels of half the size lie two in one.
    shift = linear @ [0.5, 0.5] - 0.5
    return tuple(float(v) for v in np.column_stack([linear, shift]).ravel())


def frame_exposures(
    transforms: Sequence[PixelMap],
    shapes: Sequence[tuple[int, int]],
    reference: tuple[int, int],
    framing: Framing,
    *,
    turned: tuple[float, ...] = _AS_IT_IS,
    part: tuple[int, int, int, int] | None = None,
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
    turned : tuple of six float
        How the grid lies on the reference (`turn_of`).
    part : (int, int, int, int), optional
        First column, first row, width and height of the part of the reference that is wanted; then framing does not count.

    Raises
    ------
    ValueError
        If the exposures have nothing in common and the common part is asked for.
    """
    turn = Transform(np.array(turned).reshape(2, 3))
    if part is not None or framing is Framing.REFERENCE or not transforms:
        return _covering(part or (0, 0, reference[1], reference[0]), turn, turned)
    transforms = [transform.then(turn) for transform in transforms]
    boxes = []
    for transform, (height, width) in zip(transforms, shapes):
        x = np.array([0.0, width - 1.0, 0.0, width - 1.0])
        y = np.array([0.0, 0.0, height - 1.0, height - 1.0])
        if framing is Framing.UNION:
            # A bent edge reaches beyond its corners.
            u, v = transform(*edge_places(width, height))
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
    return Frame2D(width, height, int(low[0]), int(low[1]), turned)


def _covering(part: tuple[int, int, int, int], turn: Transform, turned: tuple[float, ...]) -> Frame2D:
    """Return the smallest upright grid that holds a part of the reference, its pixels' edges included."""
    x0, y0, width, height = part
    x = np.array([x0, x0 + width, x0, x0 + width]) - 0.5
    y = np.array([y0, y0, y0 + height, y0 + height]) - 0.5
    u, v = turn(x, y)
    low = [math.floor(e.min() + 0.5 + _ROUNDING) for e in (u, v)]
    high = [math.ceil(e.max() - 0.5 - _ROUNDING) for e in (u, v)]
    return Frame2D(max(high[0] - low[0], 0) + 1, max(high[1] - low[1], 0) + 1, low[0], low[1], turned)


def edge_places(width: int, height: int, *, beyond: float = 0.0) -> tuple[F64Array, F64Array]:
    """Return places along the edges of an exposure [px], corners included; so far beyond the middles of its outer pixels."""
    along = np.linspace(-beyond, width - 1.0 + beyond, 17)
    up = np.linspace(-beyond, height - 1.0 + beyond, 17)
    x = np.concatenate([along, along, np.full(17, along[0]), np.full(17, along[-1])])
    y = np.concatenate([np.full(17, up[0]), np.full(17, up[-1]), up, up])
    return x, y
