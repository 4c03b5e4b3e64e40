"""Combining part by part: weights, levels, maps and noise of exposures that each cover a part of the grid."""

import unittest

import numpy as np
from tools.same import kept

from tests.stacking.test_drops import Rows
from ulvar.combine import Method, Rejection
from ulvar.registration import Transform
from ulvar.stacking import StackInput, Weighting
from ulvar.stacking.framing import edge_places
from ulvar.stacking.mosaic import MosaicInput, Window, match_levels, stack_mosaic

GRID = (90, 260)


def part(x0: int, x1: int, data: np.ndarray, noise: float, scale: float = 1.0) -> MosaicInput:
    """Return an exposure that covers columns of the grid."""
    window = Window(x0, 0, x1, GRID[0])
    entry = StackInput(Rows(data), float(np.median(data)), noise, 3.0, scale, 1.0)
    return MosaicInput(entry, window, Transform.shift(float(x0), 0.0), (GRID[0], x1 - x0))


class Parts(unittest.TestCase):
    def setUp(self) -> None:
        rng = np.random.default_rng(6)
        y, x = np.mgrid[: GRID[0], : GRID[1]]
        self.sky = 100 + 20 * np.sin(x / 17.0) * np.cos(y / 11.0)
        slope = 0.1 * (x - 130)
        # The second sees half the light over a level of its own that slopes, and is noisier.
        self.first = self.sky[:, :160] + rng.normal(0, 1.0, (GRID[0], 160))
        self.second = 0.5 * self.sky[:, 100:] + 40 + slope[:, 100:] + rng.normal(0, 1.0, (GRID[0], 160))
        self.inputs = [part(0, 160, self.first, 1.0), part(100, 260, self.second, 1.0, 0.5)]
        self.mean = Rejection(Method.MEAN)

    def test_levels_weights_and_maps(self) -> None:
        made = stack_mosaic(self.inputs, GRID, rejection=self.mean, weighting=Weighting.NOISE, maps=True)
        # Twice the light is twice the noise: a quarter of the weight.
        np.testing.assert_allclose(made.weights, [0.8, 0.2])
        self.assertEqual([f for f, _ in made.scaling], [1.0, 2.0])
        # One slope that all have in common is nobody's to know; without it the sky is what it was, on both sides.
        y, x = np.mgrid[: GRID[0], : GRID[1]]
        plane = np.stack([np.ones(GRID), x / 100, y / 100], axis=-1).reshape(-1, 3)
        off = made.data - self.sky
        off -= (plane @ np.linalg.lstsq(plane, off.ravel(), rcond=None)[0]).reshape(GRID)
        left, both, right = (off[:, a:b] for a, b in ((0, 100), (100, 160), (160, 260)))
        # Levels and slopes are known from some twelve blocks of the overlap.
        for side in (left, both, right):
            self.assertLess(float(np.abs(side.mean(axis=0)).mean()), 0.6)
        # At the middle of the reference its level stays.
        self.assertAlmostEqual(float((made.data - self.sky)[:, 75:86].mean()), 0.0, delta=0.2)
        self.assertAlmostEqual(float(left.std()), 1.0, delta=0.03)
        self.assertAlmostEqual(float(both.std()), np.hypot(0.8 * 1.0, 0.2 * 2.0), delta=0.05)
        self.assertEqual([int(np.median(made.kept[:, a:b])) for a, b in ((0, 100), (100, 160), (160, 260))], [1, 2, 1])
        assert made.maps is not None
        self.assertEqual(made.maps.weight.shape, GRID)
        # Where one alone is, its noise is told; where both are, that of their mean.
        self.assertAlmostEqual(float(np.median(made.noise[:, :100])), 1.0, places=3)
        self.assertAlmostEqual(float(np.median(made.noise[:, 160:])), 2.0, places=3)

    def test_rejection_and_what_overlaps_with_nothing(self) -> None:
        third = self.first.copy()
        third[40, 50:52] += 500.0
        rng = np.random.default_rng(7)
        others = [part(0, 160, self.first + rng.normal(0, 1, self.first.shape), 1.4) for _ in range(4)]
        lone = part(200, 260, np.full((GRID[0], 60), 900.0) + rng.normal(0, 1, (GRID[0], 60)), 1.0)
        made = stack_mosaic([self.inputs[0], *others, part(0, 160, third, 1.0), lone], GRID)
        self.assertLess(abs(float(made.data[40, 50] - self.sky[40, 50])), 5.0)
        self.assertAlmostEqual(float(np.nanmedian(made.data[:, 200:])), float(np.median(self.first)), delta=1.0)
        self.assertTrue(np.isnan(made.data[:, 160:200]).all())
        # Of its pixels the two that were hit, and a few that stand out by chance.
        self.assertGreater(made.rejected_fractions[5], 1.99 / self.first.size)
        self.assertLess(made.rejected_fractions[5], 0.01)
        with self.assertRaisesRegex(ValueError, "nothing to stack"):
            stack_mosaic([], GRID)
        kept(self, lone, made, third)

    def test_feathered_seams_fade(self) -> None:
        made = stack_mosaic(self.inputs, GRID, rejection=self.mean, weighting=Weighting.EQUAL, feather_px=20.0)
        second = 2 * (self.second - 40) - self.sky[:, 100:]
        # At its own edge an exposure counts next to nothing, in the middle of both as much as the other.
        for column, share in ((101, 0.07), (110, 0.344), (130, 0.5), (150, 0.66), (158, 0.93)):
            # The upper and the lower edge are those of both.
            rows = slice(21, 69)
            own = (self.first[:, column] - self.sky[:, column])[rows]
            mixed = (made.data[:, column] - self.sky[:, column])[rows]
            other = (second[:, column - 100] - np.mean(second[:, column - 100]))[rows]
            fitted = np.linalg.lstsq(np.column_stack([own, other, np.ones(len(own))]), mixed, rcond=None)[0]
            self.assertAlmostEqual(fitted[1], share, delta=0.03)
            self.assertAlmostEqual(fitted[0], 1 - share, delta=0.03)

    def test_the_reference_stays_at_its_own_middle(self) -> None:
        """Also where that is far from the grid's, and its neighbour's slope is large."""
        y, x = np.mgrid[: GRID[0], : GRID[1]]
        first, second = np.full((GRID[0], 160), 100.0), (100.0 + 0.5 * (x - 130) + 0.2 * y)[:, 100:]
        inputs = [part(0, 160, first, 1.0), part(100, 260, second, 1.0)]
        for base, (column, row) in ((0, (80, 45)), (1, (180, 45))):
            found = match_levels(inputs, [1.0, 1.0], GRID, base)[base].rows(0, GRID[0], GRID)
            self.assertAlmostEqual(float(found[row, column]), 0.0, delta=0.5)

    def test_what_one_exposure_alone_shows_pulls_no_level(self) -> None:
        rng = np.random.default_rng(8)
        first, second = (100.0 + rng.normal(0, 0.5, (GRID[0], 160)) for _ in range(2))
        # In one of six blocks in common.
        second[:30, :24] += 300.0
        surfaces = match_levels([part(0, 160, first, 1.0), part(100, 260, second, 1.0)], [1.0, 1.0], GRID, 0)
        for surface in surfaces:
            np.testing.assert_allclose(surface.rows(0, GRID[0], GRID)[:, 100:160], 0.0, atol=1.0)

    def test_places_along_edges(self) -> None:
        x, y = edge_places(10, 6, beyond=0.5)
        self.assertEqual((x.min(), x.max(), y.min(), y.max()), (-0.5, 9.5, -0.5, 5.5))
        on = np.isin(x, (-0.5, 9.5)) | np.isin(y, (-0.5, 5.5))
        self.assertTrue(on.all())
        corners = {(a, b) for a, b in zip(x.tolist(), y.tolist())}
        self.assertTrue({(-0.5, -0.5), (9.5, -0.5), (-0.5, 5.5), (9.5, 5.5)} <= corners)
