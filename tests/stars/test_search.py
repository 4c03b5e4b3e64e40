"""Parts of the search by themselves: what is long, what is sharp, what stands out beside a bright star."""

import unittest

import numpy as np

from ulvar.stars.psf import SIGMA_TO_FWHM, gaussian_psf
from ulvar.stars.search import _long, _sharp, stars_for_profile


class Long(unittest.TestCase):
    def test_by_axis_ratio_in_any_direction(self) -> None:
        for ratio, angle, long in (
            (1.0, 0.0, False), (0.9, 30.0, False), (0.6, 0.0, True), (0.6, 90.0, True), (0.6, 45.0, True), (0.6, -45.0, True),
        ):  # fmt: skip
            turn = np.radians(angle)
            axes = np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])
            c = axes @ np.diag([1.0, ratio**2]) @ axes.T
            psf = gaussian_psf(4.0, (c[0, 0], c[1, 1], c[0, 1]))
            self.assertEqual(_long(psf), long, (ratio, angle))


class Sharp(unittest.TestCase):
    """A star lights its neighbours, on every side alike; a hot pixel none."""

    def setUp(self) -> None:
        self.psf = gaussian_psf(2.6)
        sigma = 2.6 / SIGMA_TO_FWHM
        self.left = np.zeros((40, 60), np.float32)
        rows, columns = np.mgrid[:40, :60]
        self.left += (900 * np.exp(-0.5 * ((columns - 20) ** 2 + (rows - 12) ** 2) / sigma**2)).astype(np.float32)
        self.left[30, 45] = 900.0
        # Two pixels in a column: half of a star's neighbours are dark.
        self.left[30, 10] = self.left[31, 10] = 900.0
        self.x, self.y, self.snr = (
            np.array([20.0, 45.0, 10.0]), np.array([12.0, 30.0, 30.0]), np.array([60.0, 60.0, 60.0]),
        )  # fmt: skip

    def test_star_hot_pixel_and_pair(self) -> None:
        told = _sharp(self.left, self.x, self.y, self.snr, self.psf)
        self.assertEqual(told.tolist(), [False, True, True])

    def test_faint_peaks_are_given_the_benefit_of_the_doubt(self) -> None:
        self.left[29:32, 44:47] = np.where(self.left[29:32, 44:47] > 0, 900.0, 330.0)
        self.assertEqual(_sharp(self.left, self.x, self.y, np.full(3, 60.0), self.psf)[1], False)
        self.left[29:32, 44:47] = np.where(self.left[29:32, 44:47] > 800, 900.0, 150.0)
        self.assertEqual(_sharp(self.left, self.x, self.y, np.full(3, 60.0), self.psf)[1], True)
        self.assertEqual(_sharp(self.left, self.x, self.y, np.full(3, 5.0), self.psf)[1], False)

    def test_neighbours_without_a_value_do_not_count(self) -> None:
        self.left[11, 19:22] = np.nan
        self.left[30, 44] = np.nan
        self.assertEqual(_sharp(self.left, self.x, self.y, self.snr, self.psf).tolist(), [False, True, True])


class Enough(unittest.TestCase):
    def test_bright_ones_are_forty_faint_ones_up_to_a_hundred_and_fifty(self) -> None:
        self.assertEqual(stars_for_profile(np.empty(0)), 0)
        self.assertEqual(stars_for_profile(np.full(500, 1000.0)), 40)
        self.assertEqual(stars_for_profile(np.full(500, 10.0)), 150)
        # 40 stars of SNR 100 are as good as 64 + of SNR 79.
        self.assertEqual(stars_for_profile(np.full(500, 79.0)), 64)
