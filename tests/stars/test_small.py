"""Small rules of star finding, each against numbers that were worked out by hand."""

import math
import unittest

import numpy as np

from tests.stars.fields import draw_trail
from ulvar.simulation import Psf, add_stars
from ulvar.stars import QUALITIES, find_stars, find_trails, measure_quality


def field(rng: np.random.Generator, *, sky: float = 400.0, noise: float = 6.0, shape: tuple[int, int] = (260, 340)) -> np.ndarray:
    image = np.full(shape, sky)
    add_stars(
        image, rng.uniform(15, shape[1] - 15, 40), rng.uniform(15, shape[0] - 15, 40), 10 ** rng.uniform(3.3, 4.6, 40), Psf(1.3),
    )  # fmt: skip
    return (image + rng.normal(0, noise, shape)).astype(np.float32)


class Expected(unittest.TestCase):
    def test_noise_of_photons_and_reading(self) -> None:
        found = find_stars(field(np.random.default_rng(1)))
        for gain, read in ((0.4, 5.0), (2.5, 12.0)):
            told = measure_quality(found, gain_e_per_adu=gain, read_noise_e=read)
            # 400 ADU of sky are so many electrons, whose noise is the root.
            self.assertAlmostEqual(told.expected_noise_adu, math.sqrt(400 * gain + read**2) / gain, delta=0.05 / gain)
        self.assertTrue(math.isnan(measure_quality(found, gain_e_per_adu=2.5).expected_noise_adu))
        self.assertTrue(math.isnan(measure_quality(found, read_noise_e=5.0).expected_noise_adu))

    def test_what_is_shown_in_per_cent_is_stored_as_a_share(self) -> None:
        for quality in QUALITIES.values():
            self.assertEqual(quality.factor, 100.0 if quality.unit == "%" else 1.0, quality.key)


class Lines(unittest.TestCase):
    def trails(self, image: np.ndarray) -> list:
        return list(find_trails(image, np.full_like(image, 6.0)))

    def test_a_bright_column_or_row_is_no_trail(self) -> None:
        rng = np.random.default_rng(5)
        for line in (np.s_[:, 120], np.s_[90, :]):
            image = rng.normal(0, 6, (260, 340)).astype(np.float32)
            image[line] += 60
            self.assertEqual(self.trails(image), [])

    def test_a_thin_trail_across_and_a_wide_one_along_an_axis_are(self) -> None:
        rng = np.random.default_rng(6)
        for start, end, width in (((-5, 20), (345, 210), 2.2), ((-5, 100), (345, 100), 4.0)):
            image = rng.normal(0, 6, (260, 340)).astype(np.float32)
            draw_trail(image, start, end, width_px=width, level=60.0)
            (found,) = self.trails(image)
            for x, y in ((found.x0, found.y0), (found.x1, found.y1)):
                along = (x - start[0]) / (end[0] - start[0])
                self.assertAlmostEqual(y, start[1] + along * (end[1] - start[1]), delta=2.0)
