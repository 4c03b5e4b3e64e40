"""Small rules of star finding, each against numbers that were worked out by hand."""

import math
import unittest
from dataclasses import replace

import numpy as np
from bench.made_fields import draw_trail

from ulvar.simulation import Psf, add_stars
from ulvar.stars import QUALITIES, StarTable, Trail, find_stars, find_trails, measure_quality
from ulvar.stars.bright import _candidates, _settled
from ulvar.stars.pairs import _starts
from ulvar.stars.placing import Patch, _moffat
from ulvar.stars.quick import _hide
from ulvar.stars.trails import under_trail


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

    def test_what_lies_under_one(self) -> None:
        """Against the distance of each pixel from the line, whose ends are drawn out by two pixels and round."""
        trail = Trail(12.3, 8.0, 50.6, 31.7, 2.0, 100.0, 50.0)
        y, x = np.mgrid[:48, :72]
        z, (a, b) = x + 1j * y, (complex(trail.x0, trail.y0), complex(trail.x1, trail.y1))
        along = np.clip(((z - a) / (b - a)).real, -2 / abs(b - a), 1 + 2 / abs(b - a))
        away = np.abs(z - (a + along * (b - a)))
        found = under_trail((48, 72), trail, 3.5, beyond_px=2.0)
        self.assertTrue(found[away < 2.9].all() and not found[away > 4.1].any())


class Places(unittest.TestCase):
    def test_two_that_share_a_peak_begin_on_either_side_of_it(self) -> None:
        y, x = np.mgrid[:41, :41]
        light = 1000 * np.exp(-((x - 20) ** 2 + (y - 18) ** 2) / 8.0)
        patch = Patch(light, 1.0, np.ones((41, 41), bool), np.zeros((41, 41), bool), 100, 200, 1.0)
        starts = _starts(patch, (119.0, 217.0), (122.0, 221.0), 4.0)
        # 0.9 of the width of 4 px along a line of 3 by 4.
        step = 0.9 * 4 * np.array([0.6, 0.8])
        middle = np.array([20.0, 18.0])
        for start, first in zip(starts, ([19.0, 17.0], middle - 0.5 * step, middle, middle - step)):
            np.testing.assert_allclose(start[:2], first)
        for start in starts[1:]:
            np.testing.assert_allclose(start[2:] - start[:2], step)

    def test_stars_are_hidden_as_far_as_they_are_bright(self) -> None:
        """To where a profile with wings has a fifth of the noise: two to ten half widths."""
        for peak, half_widths in ((1.0, 2.0), (0.2 * 5.0**4, 5.0), (1e9, 10.0)):
            half, star = (
                np.zeros((101, 101), np.float32),
                replace(StarTable.empty(), x=np.array([100.0]), y=np.array([90.0]), peak=np.array([peak])),
            )
            area = _hide(half, star, 4.0, 1.0)
            self.assertAlmostEqual(area, math.pi * (2 * half_widths) ** 2, delta=1e-6 * area)
            rows, columns = np.nonzero(np.isnan(half))
            np.testing.assert_allclose((rows.mean(), columns.mean(), np.ptp(rows) / 2), (45, 50, 2 * half_widths), atol=0.6)

    def test_one_neighbour_that_is_bright_as_well_makes_a_star(self) -> None:
        for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1), (1, 1), (-1, -1)):
            image = np.zeros((60, 60), np.float32)
            image[30, 30], image[30 + dy, 30 + dx], image[10, 45] = 1000.0, 990.0, 1000.0
            x, y = _candidates(image, np.ones_like(image), np.zeros(image.shape, bool), 1.0, 5.0)
            self.assertEqual(list(zip(x, y)), [(30.0, 30.0)], "a pixel alone is none")

    def test_the_width_of_long_stars_that_lie_askew(self) -> None:
        rng = np.random.default_rng(5)
        image, (y, x) = np.zeros((300, 300), np.float32), np.mgrid[:300, :300]
        at = [(px + rng.uniform(-0.5, 0.5), py + rng.uniform(-0.5, 0.5)) for px in range(30, 280, 60) for py in range(30, 280, 60)]
        for px, py in at:
            u, v = ((x - px) + (y - py)) / math.sqrt(2), ((y - py) - (x - px)) / math.sqrt(2)
            image += (3000 * np.exp(-0.5 * ((u / 3.0) ** 2 + (v / 1.5) ** 2))).astype(np.float32)
        px, py = np.rint(np.array(at).T)
        found = _settled(image, np.ones_like(image), np.zeros(image.shape, bool), px, py, 6.0)
        assert found is not None
        self.assertAlmostEqual(found.fwhm_px / (2.3548 * math.sqrt(3.0 * 1.5)), 1.0, delta=0.03)

    def test_what_is_better_when_it_is_larger(self) -> None:
        self.assertEqual({k for k, q in QUALITIES.items() if q.better > 0}, {"score", "stars", "transparency"})
        self.assertEqual({k for k, q in QUALITIES.items() if q.better == 0}, {"shift_px", "rotation_deg"})

    def test_a_moffat_profile(self) -> None:
        y, x = np.mgrid[-60:61, -60:61].astype(float)
        shape = np.array([math.log(3.0), 0.3, -0.2, math.log(2.0)])
        light = _moffat(shape, x, y)
        # Wings beyond 60 px hold (1 + 400)^-2 of it.
        self.assertAlmostEqual(float(light.sum()), 1.0, delta=1e-4)
        share = math.tanh(math.hypot(0.3, 0.2)) / math.hypot(0.3, 0.2)
        # Second moments of the core, by the curvature in the middle: they go as 1 + e1, 1 - e1 and e2.
        along, across, askew = (float(np.log(light[60, 60] / light[60 + v, 60 + u])) for u, v in ((1, 0), (0, 1), (1, 1)))
        self.assertAlmostEqual(math.expm1(across / 3) / math.expm1(along / 3), (1 + 0.3 * share) / (1 - 0.3 * share), places=6)
        self.assertAlmostEqual(
            (math.expm1(askew / 3) - math.expm1(along / 3) - math.expm1(across / 3)) / math.expm1(along / 3), 0.4 * share / (1 - 0.3 * share), places=6,
        )  # fmt: skip
        for wide, narrow in ((5.0, 4.0), (-3.0, -2.0)):
            np.testing.assert_array_equal(_moffat(np.array([wide, 0, 0, 0.0]), x, y), _moffat(np.array([narrow, 0, 0, 0.0]), x, y))
