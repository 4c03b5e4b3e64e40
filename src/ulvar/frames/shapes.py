"""Shapes drawn on the picture: regions that are left out when stars are looked for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.engine import BoolArray

KINDS = ("rectangle", "circle", "polygon")


@dataclass(frozen=True)
class Shape:
    """A region of the sensor.

    Attributes
    ----------
    kind : str
        ``rectangle`` (two opposite corners), ``circle`` (middle; radius twice) or ``polygon`` (corners in order).
    points : tuple of (float, float)
        [px], 0-based; a pixel belongs to the region when its centre does.

    Raises
    ------
    ValueError
        For another kind, or points that make no region.
    """

    kind: str
    points: tuple[tuple[float, float], ...]

    def __post_init__(self) -> None:
        wanted = {"rectangle": 2, "circle": 2}.get(self.kind, 3)
        if self.kind not in KINDS:
            raise ValueError(f"a region is a {', '.join(KINDS)}, not a {self.kind}")
        if len(self.points) < wanted or (self.kind != "polygon" and len(self.points) > wanted):
            raise ValueError(f"a {self.kind} needs {wanted} points" + (" or more" if wanted == 3 else ""))

    def outline(self) -> list[tuple[float, float]]:
        """Return corners to draw it by [px]."""
        if self.kind == "rectangle":
            (x0, y0), (x1, y1) = self.points
            return [(x0, y0), (x1, y0), (x1, y1), (x0, y1)]
        if self.kind == "circle":
            (x, y), (radius, _) = self.points
            angles = np.linspace(0, 2 * np.pi, 48, endpoint=False)
            return [(x + radius * float(np.cos(a)), y + radius * float(np.sin(a))) for a in angles]
        return list(self.points)


def shapes_mask(shapes: Sequence[Shape], height: int, width: int) -> BoolArray:
    """Return a plane that is true within any of the shapes, shape (height, width).

    Examples
    --------
    >>> int(shapes_mask([Shape("rectangle", ((1, 1), (3, 2)))], 5, 5).sum())
    6
    """
    mask = np.zeros((height, width), dtype=np.bool_)
    for shape in shapes:
        if shape.kind == "rectangle":
            (x0, y0), (x1, y1) = shape.points
            x0, x1, y0, y1 = min(x0, x1), max(x0, x1), min(y0, y1), max(y0, y1)
            mask[
                max(0, int(np.ceil(y0))) : max(0, int(np.floor(y1)) + 1),
                max(0, int(np.ceil(x0))) : max(0, int(np.floor(x1)) + 1),
            ] = True
        elif shape.kind == "circle":
            (x, y), (radius, _) = shape.points
            ys, xs = np.ogrid[:height, :width]
            mask |= (xs - x) ** 2 + (ys - y) ** 2 <= radius**2
        else:
            import cv2

            plane = np.zeros((height, width), dtype=np.uint8)
            # Sixteenths of a pixel keep the corners where they were put.
            corners = np.rint(np.array(shape.points) * 16).astype(np.int32)
            cv2.fillPoly(plane, [corners], (1,), shift=4)
            mask |= plane.astype(np.bool_)
    return mask
