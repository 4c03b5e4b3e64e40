"""Exposures that do not match by themselves, helped by one or two stars that somebody points out."""

import math
import unittest

import numpy as np

from ulvar.engine import Failed
from ulvar.registration import PixelMap, match_pointed, match_stars

WIDTH, HEIGHT, NOISE = 1000.0, 750.0, 0.05


class Pointed(unittest.TestCase):
    def lists(
        self, seed: int, *, true: int, strewn: int, turn: float = 0.7, scale: float = 1.3, mirrored: bool = False
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """Return source and target with spurious entries, and the places of the stars that are in both."""
        rng = np.random.default_rng(seed)
        p = rng.uniform(0, 1, (true, 2)) * (WIDTH, HEIGHT)
        linear = scale * np.array([[math.cos(turn), -math.sin(turn)], [math.sin(turn), math.cos(turn)]])
        linear = linear @ np.diag([1, -1 if mirrored else 1])
        middle = np.array([WIDTH / 2, HEIGHT / 2])
        q = (p - middle) @ linear.T + middle + (31.0, -17.0)
        lists = [
            rng.permutation(np.vstack([part, rng.uniform(-0.2, 1.2, (strewn, 2)) * (WIDTH, HEIGHT)]))
            + rng.normal(0, NOISE, (true + strewn, 2))
            for part in (p, q)
        ]
        return lists[0], lists[1], p, q

    def assertCarries(self, way: PixelMap | Failed, p: np.ndarray, q: np.ndarray, within: float = 1.0) -> None:
        """Where the stars that are in both belong, they come."""
        assert not isinstance(way, Failed), way
        self.assertLess(np.hypot(*(np.column_stack(way(*p.T)) - q).T).max(), within)

    def test_one_star_is_enough_where_patterns_drown(self) -> None:
        for mirrored in (False, True):
            source, target, p, q = self.lists(3, true=7, strewn=60, mirrored=mirrored)
            self.assertIsInstance(match_stars(source, target), Failed)
            way = match_pointed(source, target, [((p[0, 0] + 2, p[0, 1]), (q[0, 0], q[0, 1] - 2))])
            self.assertCarries(way, p, q)
            assert not isinstance(way, Failed)
            self.assertEqual(way.matched >= 7, True)

    def test_a_star_that_is_not_the_same_matches_nothing(self) -> None:
        for seed in range(20):
            source, target, p, q = self.lists(seed, true=7, strewn=60)
            found = match_pointed(source, target, [(tuple(p[0]), tuple(q[1]))])
            assert isinstance(found, Failed)
            self.assertIn("point out a second one", found.reason)

    def test_two_stars_are_followed_by_the_rest(self) -> None:
        source, target, p, q = self.lists(5, true=8, strewn=150, turn=3.0, scale=0.7)
        way = match_pointed(source, target, [(tuple(p[k]), tuple(q[k])) for k in (0, 5)])
        self.assertCarries(way, p, q)
        assert not isinstance(way, Failed)
        self.assertGreater(way.matched, 6)

    def test_two_stars_are_believed_where_there_is_no_rest(self) -> None:
        none = np.empty((0, 2))
        a, b = (100.0, 100.0), (400.0, 100.0)
        way = match_pointed(none, none, [(a, (50.0, 70.0)), (b, (50.0, 370.0))])
        assert not isinstance(way, Failed)
        # A quarter turn; the third corner tells that nothing is turned over.
        np.testing.assert_allclose(way(np.array([100.0]), np.array([200.0])), [[-50.0], [70.0]], atol=1e-9)
        self.assertEqual((way.matched, way.kind), (2, "similarity"))

    def test_two_stars_of_a_field_that_is_turned_over(self) -> None:
        source, target, p, q = self.lists(8, true=9, strewn=60, mirrored=True)
        self.assertCarries(match_pointed(source, target, [(tuple(p[k]), tuple(q[k])) for k in (1, 4)]), p, q)

    def test_a_place_beside_a_star_stands_for_it(self) -> None:
        stars = np.array([[100.0, 100.0], [400.0, 100.0]])
        way = match_pointed(stars, stars + 10, [((103, 98), (113, 112)), ((398, 103), (407, 108))])
        self.assertCarries(way, stars, stars + 10, 1e-9)
        # Further away it is a place of its own.
        other = match_pointed(stars, stars + 10, [((108, 100), (118, 110)), ((408, 100), (418, 110))])
        self.assertCarries(other, stars, stars + 10, 1e-9)

    def test_what_cannot_be_the_same_is_told(self) -> None:
        none = np.empty((0, 2))
        far = match_pointed(none, none, [((0, 0), (0, 0)), ((100, 0), (230, 0))])
        close = match_pointed(none, none, [((0, 0), (0, 0)), ((10, 0), (10, 0))])
        assert isinstance(far, Failed) and isinstance(close, Failed)
        self.assertIn("2.30 times as far apart", far.reason)
        self.assertIn("too close to each other", close.reason)
        self.assertIsInstance(match_pointed(none, none, []), Failed)
        self.assertIsInstance(match_pointed(none, none, [((0, 0), (0, 0))]), Failed)
