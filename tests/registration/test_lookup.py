"""Cells of stars against a tree, and the maps that pairs give against plain least squares."""

import unittest

import numpy as np
from scipy.spatial import cKDTree
from tools.same import kept

from tests.registration.test_registration import affine
from ulvar.registration import Transform
from ulvar.registration._kernels_matching import count_pairs, fitted, nearest, pair_up, paired
from ulvar.registration.lookup import Lookup
from ulvar.registration.refining import partners
from ulvar.registration.transform import fit_transform

LOOKUPS = {
    "strewn": (lambda rng: rng.uniform([-40, 900], [310, 1000], (150, 2)), 7.0),
    "small cells": (lambda rng: rng.uniform(0, 1, (300, 2)), 0.012),
    "a row": (lambda rng: np.column_stack([rng.uniform(0, 500, 40), np.full(40, 3.0)]), 9.0),
    "one far out": (lambda rng: np.vstack([rng.uniform(0, 50, (20, 2)), [[1e9, -1e9]]]), 3.0),
    "one": (lambda rng: np.array([[5.0, 6.0]]), 2.0),
}


class Cells(unittest.TestCase):
    """The same neighbours as by a tree: inside, at the edges and beyond them."""

    def test_within_and_nearest(self) -> None:
        rng = np.random.default_rng(4)
        for name, (make, reach) in LOOKUPS.items():
            points = make(rng)
            lookup, tree = Lookup.of(points, reach), cKDTree(points)
            places = points[rng.integers(0, len(points), 120)] + rng.normal(0, 0.6 * reach, (120, 2))
            low, high = points.min(axis=0) - 2 * reach, points.max(axis=0) + 2 * reach
            places = np.vstack([places, rng.uniform(low, high, (30, 2)), [low, high]])
            for look in (reach, 0.4 * reach):
                with self.subTest(name, look=look):
                    which, found = lookup.within(places, look)
                    expected = tree.query_ball_point(places, look)
                    self.assertEqual(
                        sorted(zip(which.tolist(), found.tolist())), sorted((i, k) for i, near in enumerate(expected) for k in near)
                    )
                    self.assertGreater(len(which), 20)
                    away, index = tree.query(places, distance_upper_bound=look)
                    for place, far, k in zip(places, away, index):
                        at, squared = nearest(*place, *lookup.cells, look)
                        self.assertEqual(lookup.order[at] if at >= 0 else len(points), k)
                        if at >= 0:
                            self.assertAlmostEqual(squared, far**2, delta=1e-9 * max(far**2, 1e-6))
        kept(self, lookup)


class Fitting(unittest.TestCase):
    """Each star takes one partner, the nearest; the map of all pairs is that of least squares."""

    def setUp(self) -> None:
        self.rng = np.random.default_rng(7)
        self.points = self.rng.uniform(0, [400, 250], (90, 2))

    def mapped(self, matrix: np.ndarray) -> np.ndarray:
        kept = self.points[:70] @ matrix[:, :2].T + matrix[:, 2] + self.rng.normal(0, 0.3, (70, 2))
        # Strangers, some of them beside a partner.
        return np.vstack([kept, kept[:12] + self.rng.normal(0, 2.0, (12, 2)), self.rng.uniform(0, 400, (20, 2))])

    def test_rounds_of_fits(self) -> None:
        for mirror in (False, True):
            matrix = affine(1.1, 0.7, 60.0, -20.0, mirror)
            target = self.mapped(matrix)
            lookup, tree = Lookup.of(target, 7.5), cKDTree(target)
            first = matrix + [[0.004, -0.003, 1.5], [0.002, 0.003, -1.0]]
            reaches = np.array([7.5, 3.75, 2.5])
            for few, points in ((8, self.points), (200, self.points), (8, self.points[:6])):
                plain = first
                for reach in reaches:
                    keep, partner = partners(Transform(plain), points, tree, reach)
                    plain = fit_transform(points[keep], target[partner], similarity=len(keep) < few, mirrored=mirror)
                with self.subTest(mirror=mirror, few=few, points=len(points)):
                    self.assertGreater(len(keep), 4)
                    found, count = fitted(first, points, *lookup.cells, reaches, 4, few)
                    self.assertEqual(count, len(keep))
                    np.testing.assert_allclose(found, plain, rtol=1e-7, atol=1e-7)
                    self.assertEqual(paired(plain, points, *lookup.cells, 1.0), len(partners(Transform(plain), points, tree, 1.0)[0]))

    def test_which_takes_which(self) -> None:
        matrix = affine(1.0, 0.0, 0.0, 0.0)
        target = self.points[:50] + self.rng.normal(0, 2.0, (50, 2))
        points = np.vstack([self.points, self.points + [1.0, 0.0], self.points])
        lookup = Lookup.of(target, 6.0)
        owner, away = np.zeros(len(target), dtype=np.int64), np.zeros(len(target))
        count = pair_up(matrix, points, *lookup.cells, 6.0, owner, away)
        keep, partner = partners(Transform(matrix), points, cKDTree(target), 6.0)
        self.assertEqual(count, len(keep))
        told = {int(lookup.order[k]): int(i) for k, i in enumerate(owner) if i >= 0}
        self.assertEqual(told, dict(zip(partner.tolist(), keep.tolist())))
        # Of equals it is the first.
        self.assertLess(max(told.values()), 180)
        kept(self, keep, partner, owner)

    def test_what_carries_no_map(self) -> None:
        line = np.column_stack([np.arange(20.0) * 9, np.arange(20.0) * 5])
        lookup = Lookup.of(line, 3.0)
        one = affine(1.0, 0.0, 0.0, 0.0)
        self.assertEqual(fitted(one, line, *lookup.cells, np.array([2.0]), 4, 8)[1], 0)
        # A similarity is carried by a line.
        found, count = fitted(one, line, *lookup.cells, np.array([2.0]), 4, 30)
        self.assertEqual(count, 20)
        np.testing.assert_allclose(found, one, atol=1e-9)
        self.assertEqual(fitted(one, line[:3], *lookup.cells, np.array([2.0]), 4, 8)[1], 0)
        self.assertEqual(fitted(one, line + 100.0, *lookup.cells, np.array([2.0]), 4, 8)[1], 0)

    def test_pairs_of_many_maps(self) -> None:
        target = self.mapped(affine(1.1, 0.7, 60.0, -20.0))
        lookup, tree = Lookup.of(target, 7.5), cKDTree(target)
        matrices = np.array([affine(1.1, 0.7 + k / 300, 60.0 + k, -20.0) for k in range(-6, 7)])
        box = np.concatenate([target.min(axis=0) + 5.0, target.max(axis=0) - 40.0])
        pairs, inside = count_pairs(matrices, self.points, *lookup.cells, 5.0, box)
        for k, matrix in enumerate(matrices):
            at = self.points @ matrix[:, :2].T + matrix[:, 2]
            here = ((at >= box[:2]) & (at <= box[2:])).all(axis=1)
            near = here & np.isfinite(tree.query(at, distance_upper_bound=5.0)[0])
            self.assertEqual((pairs[k], inside[k]), (near.sum(), here.sum()))
        self.assertTrue(0 < inside.max() < len(self.points) and len(set(pairs.tolist())) > 4, (pairs, inside))
        kept(self, lookup, pairs, inside)
