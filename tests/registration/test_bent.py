"""Maps that bend: their slopes, the order of their terms, and how close nodes have to lie to follow them."""

import unittest

import numpy as np

from ulvar.registration.bent import Polynomial, powers
from ulvar.registration.resample import step_for

HALF = 100.0


def bent(**terms: tuple[float, float]) -> Polynomial:
    """Return the map that changes nothing but for terms of X and Y, named by powers of x and y: ``x2y1``."""
    order = max(int(name[1]) + int(name[3]) for name in terms)
    names = [f"x{n - k}y{k}" for n in range(order + 1) for k in range(n + 1)]
    coefficients = np.zeros((2, len(names)))
    coefficients[0, names.index("x1y0")] = coefficients[1, names.index("x0y1")] = HALF
    for name, values in terms.items():
        coefficients[:, names.index(name)] += values
    return Polynomial(coefficients, (0.0, 0.0), HALF)


class Terms(unittest.TestCase):
    def test_their_order_is_that_of_stored_nights(self) -> None:
        np.testing.assert_array_equal(powers(np.array(2.0), np.array(3.0), 3), [1, 2, 3, 4, 6, 9, 8, 12, 18, 27])

    def test_slopes(self) -> None:
        x, y = np.array([[30.0, -70.0]]), np.array([[50.0, 20.0]])
        found = bent(x2y0=(4.0, 0.0), x1y1=(0.0, -6.0), x0y2=(1.0, 2.0)).slopes(x, y)
        u, v = x / HALF, y / HALF
        wanted = [[1 + 8 * u / HALF, 2 * v / HALF], [-6 * v / HALF, 1 + (-6 * u + 4 * v) / HALF]]
        np.testing.assert_allclose(found, wanted, atol=1e-12)

    def test_a_column_and_a_row_cross_where_the_map_says(self) -> None:
        way = bent(x2y0=(0.5, 0.4), x1y1=(0.3, -0.6), x0y2=(-0.4, 0.7))
        columns, rows = np.array([-60.0, 5.0, 80.0]), np.array([-40.0, 30.0])
        found = way.along_rows(columns, rows, 0.1)
        for i, row in enumerate(rows):
            for k, column in enumerate(columns):
                y = np.linspace(row - 5, row + 5, 10_001)
                place = np.array(way(np.full_like(y, column), y))
                self.assertAlmostEqual(found[i, k], place[0, np.argmin(np.abs(place[1] - row))], delta=1e-4)


class Nodes(unittest.TestCase):
    def test_they_lie_closer_where_a_map_bends_more(self) -> None:
        # Half way between nodes a parabola c (x / half)^2 lies c (step / 2 half)^2 off the chord: at most 0.004 px.
        for name in ("x2y0", "x0y2"):
            for axis in range(2):
                for strength, step in ((0.03, 64), (0.1, 32), (0.3, 16), (3.0, 8)):
                    terms = np.zeros(2)
                    terms[axis] = strength
                    with self.subTest(name, axis=axis, strength=strength):
                        self.assertEqual(step_for(bent(**{name: tuple(terms)}), (300, 400)), step)

    def test_a_bend_at_the_far_end_of_a_large_frame_is_seen(self) -> None:
        # A cubic that is straight at the origin: 3 c x step^2 / 4 half^3 off the chord.
        for name, axis, shape in (("x3y0", 0, (100, 6000)), ("x0y3", 1, (6000, 100))):
            terms = np.zeros(2)
            terms[axis] = 4e-4
            self.assertEqual(step_for(bent(**{name: tuple(terms)}), shape), 32)
            self.assertEqual(step_for(bent(**{name: tuple(terms)}), (300, 300)), 64)
