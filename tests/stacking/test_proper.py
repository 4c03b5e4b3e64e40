"""The proper coadd finds faint stars better than any mean where seeing varies, with the noise and the profile that it tells."""

import math
import unittest

import numpy as np
from tools.same import kept

from tests.stacking.test_stacking import Rows
from ulvar.simulation import Psf, add_stars
from ulvar.stacking.proper import CoaddInput, alone, proper_coadd, star_profile

SIZE, SKY = 360, 100.0
WIDTHS = np.geomspace(2.0, 4.4, 10)
NOISE = np.array([4.0, 6.0, 4.0, 5.0, 8.0, 4.0, 5.0, 4.0, 6.0, 5.0])
FAINT = 150.0


def profile(fwhm: float, radius: int = 18) -> np.ndarray:
    """Return a star's image, sum 1, on its middle pixel."""
    image = np.zeros((2 * radius + 1, 2 * radius + 1))
    add_stars(image, np.array([float(radius)]), np.array([float(radius)]), np.array([1.0]), Psf.with_fwhm(fwhm, 0.0))
    return (image / image.sum()).astype(np.float32)


def matched(data: np.ndarray, psf: np.ndarray, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Return the light of stars on whole pixels by a matched filter."""
    side = psf.shape[0] // 2
    cut = np.stack([data[b - side : b + side + 1, a - side : a + side + 1] for a, b in zip(x, y)]).astype(np.float64)
    return (cut * psf).sum(axis=(1, 2)) / (psf.astype(np.float64) ** 2).sum()


class Coadd(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        rng = np.random.default_rng(11)
        grid = np.arange(30, SIZE - 30, 30)
        cls.x, cls.y = (v.ravel() for v in np.meshgrid(grid, grid))
        cls.images, cls.psfs = [], [profile(float(w)) for w in WIDTHS]
        for width, noise in zip(WIDTHS, NOISE):
            image = np.full((SIZE, SIZE), SKY)
            faint = np.full(len(cls.x), FAINT)
            add_stars(image, cls.x.astype(float), cls.y.astype(float), faint, Psf.with_fwhm(float(width), 0.0))
            cls.images.append((image + rng.normal(0, noise, image.shape)).astype(np.float32))
        cls.mean = np.average(cls.images, axis=0, weights=1 / (NOISE * WIDTHS) ** 2).astype(np.float32)

    def coadd(self, images: list[np.ndarray]):  # type: ignore[no-untyped-def]
        inputs = [CoaddInput(Rows(i), float(n), p) for i, n, p in zip(images, NOISE, self.psfs)]
        return proper_coadd(inputs, self.mean, SKY)

    def test_noise_profile_and_depth(self) -> None:
        found = self.coadd(self.images)
        self.assertAlmostEqual(found.noise_adu, 1 / math.sqrt((1 / NOISE**2).sum()), places=5)
        self.assertAlmostEqual(float(found.psf.sum()), 1.0, delta=0.02)
        # Between the stars is noise as told, independent from pixel to pixel.
        empty = np.ones((SIZE, SIZE), dtype=bool)
        for a, b in zip(self.x, self.y):
            empty[b - 11 : b + 12, a - 11 : a + 12] = False
        empty[:12], empty[-12:], empty[:, :12], empty[:, -12:] = False, False, False, False
        sky = np.where(empty, found.data, np.nan)
        self.assertAlmostEqual(float(np.nanstd(sky)) / found.noise_adu, 1.0, delta=0.02)
        for shifted in (np.roll(sky, 1, axis=0), np.roll(sky, 1, axis=1), np.roll(sky, 2, axis=1)):
            self.assertLess(abs(float(np.nanmean(sky * shifted))) / found.noise_adu**2, 0.03)
        # A star has all of its light, in the profile that is told.
        light = matched(found.data, found.psf, self.x, self.y)
        self.assertAlmostEqual(light.mean() / FAINT, 1.0, delta=0.03)
        # The ratio is the root of the sum of squares of what each exposure alone would give.
        best = FAINT * math.sqrt(sum((p.astype(float) ** 2).sum() / n**2 for p, n in zip(self.psfs, NOISE)))
        reached = FAINT / (found.noise_adu / math.sqrt((found.psf.astype(float) ** 2).sum()))
        self.assertAlmostEqual(reached / best, 1.0, delta=0.01)
        self.assertAlmostEqual(light.mean() / light.std() / best, 1.0, delta=3 / math.sqrt(2 * len(light)))

    def test_it_is_deeper_than_the_weighted_mean(self) -> None:
        found = self.coadd(self.images)
        w = 1 / (NOISE * WIDTHS) ** 2
        blurred = np.average(self.psfs, axis=0, weights=w)
        noise = math.sqrt(w**2 @ NOISE**2) / w.sum()
        mean = math.sqrt((blurred.astype(float) ** 2).sum()) / noise
        proper = math.sqrt((found.psf.astype(float) ** 2).sum()) / found.noise_adu
        # Seeing by a factor of 2.2: some per cent.
        self.assertGreater(proper / mean, 1.03)

    def test_bright_stars_keep_their_light_and_profile(self) -> None:
        """Seeing by a factor of two makes peaks of four times: no outliers."""
        flux, images = 2e5, []
        for width in WIDTHS:
            image = np.full((200, 200), SKY)
            add_stars(image, np.array([100.0]), np.array([90.0]), np.array([flux]), Psf.with_fwhm(float(width), 0.0))
            images.append(image.astype(np.float32))
        inputs = [CoaddInput(Rows(i), float(n), p) for i, n, p in zip(images, NOISE, self.psfs)]
        found = proper_coadd(inputs, np.average(images, axis=0, weights=1 / (NOISE * WIDTHS) ** 2).astype(np.float32), SKY)
        side = found.psf.shape[0] // 2
        box = found.data[90 - side : 90 + side + 1, 100 - side : 100 + side + 1]
        np.testing.assert_allclose(box / flux, found.psf, atol=0.005 * float(found.psf.max()))

    def test_a_lopsided_profile_moves_no_star(self) -> None:
        """A profile that trails off to one side is undone by its own mirror image."""
        tails = []
        for k, angle in enumerate((0.3, 1.9, 4.0)):
            side = 18
            yy, xx = np.mgrid[-side : side + 1, -side : side + 1]
            tail = sum(np.exp(-((xx - s * math.cos(angle)) ** 2 + (yy - s * math.sin(angle)) ** 2) / 4) / (1 + s) for s in range(6 + k))
            tails.append((tail / tail.sum()).astype(np.float32))
        images = []
        for tail in tails:
            image = np.full((200, 220), SKY, dtype=np.float32)
            image[90 - 18 : 90 + 19, 120 - 18 : 120 + 19] += 5000 * tail
            images.append(image)
        inputs = [CoaddInput(Rows(i), 5.0, p) for i, p in zip(images, tails)]
        found = proper_coadd(inputs, np.mean(images, axis=0), SKY)
        self.assertEqual(np.unravel_index(np.argmax(found.data), found.data.shape), (90, 120))
        box = found.data[90 - 18 : 90 + 19, 120 - 18 : 120 + 19]
        np.testing.assert_allclose(box, 5000 * found.psf, atol=0.02 * float(box.max()))

    def test_particles_and_holes_do_no_harm(self) -> None:
        clean = self.coadd(self.images)
        hurt = [i.copy() for i in self.images]
        hurt[2][140:144, 200:203] += 5000
        hurt[5][60:80, 60:90] = np.nan
        found = self.coadd(hurt)
        self.assertTrue(np.isfinite(found.data).all())
        self.assertLess(np.abs(found.data - clean.data)[135:150, 195:210].max(), 6 * clean.noise_adu)
        self.assertLess(np.abs(found.data - clean.data).max(), 6 * clean.noise_adu)
        with self.assertRaisesRegex(ValueError, "nothing to add"):
            proper_coadd([], self.mean, SKY)
        kept(self, clean, found)


class Profiles(unittest.TestCase):
    def test_from_stars(self) -> None:
        rng = np.random.default_rng(2)
        image = np.full((300, 400), SKY)
        x, y = rng.uniform(25, 375, 40), rng.uniform(25, 275, 40)
        flux = np.sort(10 ** rng.uniform(3.8, 5, 40))[::-1]
        add_stars(image, x, y, flux, Psf.with_fwhm(3.1, 0.0))
        image += rng.normal(0, 4, image.shape)
        single = alone(x, y, flux, 26.0)
        self.assertGreater(single.sum(), 10)
        found = star_profile(image.astype(np.float32), x[single], y[single], 3.1, SKY)
        side = found.shape[0] // 2
        true = profile(3.1, side)
        self.assertLess(np.abs(found - true).max(), 0.02 * true.max())
        self.assertAlmostEqual(float(found.sum()), 1.0, places=5)
        round_one = star_profile(image.astype(np.float32), x[:2], y[:2], 3.1, SKY)
        half = round_one[side] > round_one[side, side] / 2
        self.assertAlmostEqual(half.sum(), 3.1, delta=1.1)

    def test_who_stands_alone(self) -> None:
        x, y, flux = np.array([0.0, 5.0, 50.0]), np.zeros(3), np.array([1000.0, 15.0, 900.0])
        self.assertEqual(list(alone(x, y, flux, 10.0)), [True, False, True])
        self.assertEqual(list(alone(x, y, flux * [1, 2, 1], 10.0)), [False, False, True])
        self.assertEqual(len(alone(x[:0], y[:0], flux[:0], 10.0)), 0)
