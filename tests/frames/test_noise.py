"""Spread and noise of pixels against noise that was put in."""

import math
import unittest

import numpy as np

from ulvar.frames import CLIPPED_TO_SIGMA, MAD_TO_SIGMA, difference_noise, median, robust_spread, sorted_quantiles


class Noise(unittest.TestCase):
    """What is known of a normal distribution comes back; stars, gradients and holes do not count."""

    def setUp(self) -> None:
        self.rng = np.random.default_rng(3)

    def test_spread(self) -> None:
        values = self.rng.normal(50.0, 4.0, 40_000)
        # The median absolute deviation of n values is known to 1.17 / sqrt(2 n).
        self.assertLess(abs(robust_spread(values) / 4.0 - 1), 5 * 1.17 / math.sqrt(80_000))
        self.assertGreater(robust_spread(values, about=0.0), 40.0)
        values[:4000] = 1e6
        values[4000:5000] = np.nan
        self.assertLess(abs(robust_spread(values) / 4.0 - 1), 0.2)
        self.assertTrue(math.isnan(robust_spread(np.full(4, np.nan))))

    def test_median(self) -> None:
        for kind in (np.float32, np.float64, np.uint16, np.int16):
            for shape in ((1,), (2,), (9, 3), (40, 5)):
                values = self.rng.normal(9000.0, 700.0, shape).astype(kind)
                self.assertEqual(median(values), float(np.median(values)), (kind, shape))
        values, shares = np.sort(self.rng.normal(9000.0, 700.0, 47)), (0.0, 0.013, 0.5, 0.77, 1.0)
        np.testing.assert_allclose(sorted_quantiles(values, shares), np.quantile(values, shares), rtol=1e-14)
        self.assertEqual(median(np.array([3.0, np.nan, 1.0, np.inf, 2.5])), 2.5)
        self.assertTrue(math.isnan(median(np.array([np.nan]))))

    def test_noise_from_neighbours(self) -> None:
        data = self.rng.normal(0.0, 3.0, (200, 300)).astype(np.float32)
        data += np.linspace(0, 500, 200, dtype=np.float32)[:, None]
        self.assertLess(abs(difference_noise(data) / 3.0 - 1), 0.03, "a gradient down the rows is no noise")
        self.assertLess(abs(difference_noise(data, thin=3) / 3.0 - 1), 0.05)
        mosaic = data.copy()
        mosaic[:, ::2] += 900.0
        self.assertLess(abs(difference_noise(mosaic) / 3.0 - 1), 0.03)
        self.assertGreater(difference_noise(mosaic, apart=1), 100.0)
        data[50:60, 50:60] += 4000.0
        data[100:120] = np.nan
        self.assertLess(abs(difference_noise(data) / 3.0 - 1), 0.03)
        self.assertTrue(math.isnan(difference_noise(np.full((4, 6), np.nan, np.float32))))

    def test_constants(self) -> None:
        values = self.rng.normal(0.0, 1.0, 1_000_000)
        # A million values: deviations to 0.1 %.
        self.assertLess(abs(MAD_TO_SIGMA * np.median(np.abs(values)) - 1), 0.005)
        self.assertLess(abs(CLIPPED_TO_SIGMA * values[np.abs(values) < 3].std() - 1), 0.004)
