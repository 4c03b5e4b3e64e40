"""Regions drawn on the picture, against a plain test of each pixel."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from tools.same import kept

from ulvar.frames import Shape, shapes_mask

_coordinate = st.floats(-10, 60, allow_nan=False)


class Shapes(unittest.TestCase):
    """Rectangles, circles, polygons."""

    @settings(max_examples=80, deadline=None)
    @given(_coordinate, _coordinate, _coordinate, _coordinate)
    def test_rectangles(self, x0: float, y0: float, x1: float, y1: float) -> None:
        mask = shapes_mask([Shape("rectangle", ((x0, y0), (x1, y1)))], 40, 50)
        ys, xs = np.mgrid[:40, :50]
        plain = (xs >= min(x0, x1)) & (xs <= max(x0, x1)) & (ys >= min(y0, y1)) & (ys <= max(y0, y1))
        np.testing.assert_array_equal(mask, plain)

    def test_circles_and_polygons(self) -> None:
        ys, xs = np.mgrid[:40, :50]
        circle = shapes_mask([Shape("circle", ((20.5, 15.0), (7.0, 7.0)))], 40, 50)
        np.testing.assert_array_equal(circle, np.hypot(xs - 20.5, ys - 15) <= 7)
        triangle = shapes_mask([Shape("polygon", ((5.0, 5.0), (45.0, 5.0), (5.0, 35.0)))], 40, 50)
        inside = (xs > 5) & (ys > 5) & ((xs - 5) / 40 + (ys - 5) / 30 < 1)
        # Pixels on the edge itself may go either way.
        self.assertLess((triangle != inside).sum(), 110)
        self.assertTrue(triangle[8, 8] and not triangle[33, 40])

    def test_several_together_and_none(self) -> None:
        two = [Shape("rectangle", ((0, 0), (1, 1))), Shape("rectangle", ((3, 3), (3, 3)))]
        self.assertEqual(shapes_mask(two, 5, 5).sum(), 5)
        self.assertEqual(shapes_mask([], 5, 5).sum(), 0)

    def test_outlines(self) -> None:
        self.assertEqual(len(Shape("rectangle", ((0, 0), (4, 2))).outline()), 4)
        ring = np.array(Shape("circle", ((10, 10), (3, 3))).outline())
        np.testing.assert_allclose(np.hypot(*(ring - 10).T), 3)
        kept(self, ring)

    def test_what_makes_no_region(self) -> None:
        for kind, points in (
            ("star", ((0, 0), (1, 1))), ("rectangle", ((0, 0),)), ("polygon", ((0, 0), (1, 1))),
            ("circle", ((0, 0), (1, 1), (2, 2))),
        ):  # fmt: skip
            with self.assertRaises(ValueError):
                Shape(kind, points)
