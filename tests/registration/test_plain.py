"""Resampling and the last fit against plain ways; the limits that a match keeps."""

import math
import unittest

import numba
import numpy as np
from bench.by_hand import lanczos_by_hand
from scipy.ndimage import map_coordinates
from tools.same import kept

from tests.registration.test_registration import affine
from ulvar.engine import Failed
from ulvar.registration import Kernel, Resampling, Transform, match_stars, resample
from ulvar.registration._kernels import raise_to
from ulvar.registration.matching import MatchOptions
from ulvar.registration.transform import fit_transform
from ulvar.simulation import Psf, add_stars


class TapByTap(unittest.TestCase):
    """Every pixel is the reference's: inside, at the edges, beside holes, turned, mirrored and scaled."""

    def test_against_tap_by_tap(self) -> None:
        rng = np.random.default_rng(6)
        image = rng.normal(100, 10, (24, 31)).astype(np.float32)
        image[9, 14] = np.nan
        image[16:19, 3:6] = np.nan
        for order, kernel in ((3, Kernel.LANCZOS3), (4, Kernel.LANCZOS4)):
            for scale, angle, mirror in ((1.0, 0.0, False), (1.0, 0.4, False), (1.3, 2.0, True), (0.8, -1.0, False), (0.95, -1.0, False)):
                turn = Transform(affine(scale, angle, 0, 0, mirror))
                cx, cy = (float(v[0]) for v in turn(np.array([15.0]), np.array([11.5])))
                transform = Transform(affine(scale, angle, 19.3 - cx, 15.7 - cy, mirror))
                with self.subTest(order=order, scale=scale, angle=angle, mirror=mirror):
                    out = resample(image, transform, (32, 38), Resampling(kernel))
                    plain = lanczos_by_hand(image, transform, (32, 38), order)
                    np.testing.assert_array_equal(np.isnan(out), np.isnan(plain))
                    self.assertTrue(np.isnan(plain).any() and np.isfinite(plain).any())
                    # Positions are rounded to 1/4096 px: the weights are good to some 3e-4 of 10 ADU of noise.
                    inside = np.isfinite(plain)
                    self.assertLess(np.abs(out - plain)[inside].max(), 0.05)

    def test_the_identity_gives_the_data(self) -> None:
        image = np.random.default_rng(1).normal(100, 10, (12, 15)).astype(np.float32)
        np.testing.assert_allclose(resample(image, Transform.identity(), image.shape), image, rtol=1e-6)


class Kernels(unittest.TestCase):
    """Each kernel against its definition; wider ones average; a clamp takes rings and nothing else."""

    def setUp(self) -> None:
        self.image = np.random.default_rng(8).normal(100, 10, (40, 50)).astype(np.float32)
        self.way = Transform(affine(1.0, 0.3, 6.2, -4.7))
        jj, ii = np.mgrid[:36, :44]
        self.x, self.y = self.way.inverse()(ii.astype(float), jj.astype(float))
        self.inside = (self.x > 3) & (self.x < 46) & (self.y > 3) & (self.y < 36)

    def test_bilinear_and_nearest(self) -> None:
        for kernel, order in ((Kernel.BILINEAR, 1), (Kernel.NEAREST, 0)):
            out = resample(self.image, self.way, (36, 44), Resampling(kernel))
            plain = map_coordinates(self.image, [self.y, self.x], order=order)
            # At the border between two pixels either is the nearest.
            clear = self.inside & (np.abs(np.abs(self.x % 1 - 0.5)) > 1e-3) & (np.abs(np.abs(self.y % 1 - 0.5)) > 1e-3)
            np.testing.assert_allclose(out[clear], plain[clear], rtol=0, atol=0.02)

    def test_bicubic_gives_parabolas_back(self) -> None:
        y, x = np.mgrid[:40, :50]
        surface = (3 + 0.2 * x - 0.1 * y + 0.01 * x * y - 0.03 * x**2 + 0.02 * y**2).astype(np.float32)
        out = resample(surface, self.way, (36, 44), Resampling(Kernel.BICUBIC))
        u, v = self.x, self.y
        true = 3 + 0.2 * u - 0.1 * v + 0.01 * u * v - 0.03 * u**2 + 0.02 * v**2
        np.testing.assert_allclose(out[self.inside], true[self.inside], rtol=0, atol=0.02)
        # It is no Lanczos: four pixels in each direction make one, with Keys' weights.
        one = np.zeros((9, 9), np.float32)
        one[4, 4] = 1.0
        shifted = resample(one, Transform.shift(0.5, 0.0), (9, 9), Resampling(Kernel.BICUBIC))
        np.testing.assert_allclose(shifted[4, 2:8], [0, -0.0625, 0.5625, 0.5625, -0.0625, 0], atol=1e-6)

    def test_larger_pixels_are_means(self) -> None:
        image = np.random.default_rng(9).normal(100, 10, (400, 500) if not numba.config.DISABLE_JIT else (140, 120)).astype(np.float32)
        half = Transform(np.array([[0.5, 0.0, -0.25], [0.0, 0.5, -0.25]]))
        shape = image.shape[0] // 2, image.shape[1] // 2
        for kernel in (Kernel.LANCZOS3, Kernel.BICUBIC, Kernel.BILINEAR):
            out = resample(image, half, shape, Resampling(kernel))[8:-8, 8:-8]
            # Four pixels of noise 10 in one: 20, less what neighbours share.
            self.assertAlmostEqual(float(out.mean()), 400.0, delta=0.5)
            self.assertTrue(11.0 < float(out.std()) < 21.0, (kernel, float(out.std())))
        chosen = resample(image, half, shape, Resampling(Kernel.NEAREST))
        self.assertTrue(np.isin(chosen, image * np.float32(4)).all())

    def test_a_clamp_takes_the_ring_and_leaves_the_rest(self) -> None:
        rng = np.random.default_rng(10)
        image = np.zeros((84, 96))
        add_stars(image, np.array([46.4]), np.array([40.6]), np.array([1e5]), Psf.with_fwhm(1.1))
        image = (image + rng.normal(100, 5, image.shape)).astype(np.float32)
        for angle in (0.0, 0.7, math.pi):
            turn = Transform(affine(1.0, angle, 0, 0))
            cx, cy = (float(v[0]) for v in turn(np.array([47.5]), np.array([41.5])))
            way = Transform(affine(1.0, angle, 47.5 - cx + 0.45, 41.5 - cy + 0.4))
            with self.subTest(angle=angle):
                ringed, clamped = (resample(image, way, image.shape, Resampling(clamp=on)) for on in (False, True))
                sx, sy = (float(v[0]) for v in way(np.array([46.4]), np.array([40.6])))
                yy, xx = np.mgrid[: image.shape[0], : image.shape[1]]
                near, far = np.hypot(xx - sx, yy - sy) < 8, np.hypot(xx - sx, yy - sy) > 14
                self.assertLess(float(ringed[near].min()), -100.0)
                self.assertGreater(float(clamped[near].min()), 75.0)
                np.testing.assert_array_equal(np.isnan(ringed), np.isnan(clamped))
                far &= np.isfinite(ringed)
                # Of noise alone next to nothing is changed.
                self.assertLess(float((clamped - ringed)[far].mean()), 0.01 * 5)
                np.testing.assert_array_equal(clamped[near & (ringed > 130)], ringed[near & (ringed > 130)])


class Raised(unittest.TestCase):
    """What resampling makes darker than all it is made of, under a map that bends."""

    def test_against_numpy(self) -> None:
        rng = np.random.default_rng(9)
        floor, step, shape = rng.uniform(50, 60, (30, 41)).astype(np.float32), 8, (33, 43)
        y, x = np.mgrid[0:6, 0:7] * float(step)
        across, down, area = x - 3 + rng.uniform(-2, 2, x.shape), y - 4 + rng.uniform(-2, 2, x.shape), rng.uniform(0.8, 1.2, x.shape)
        data = rng.uniform(40, 70, shape).astype(np.float32)
        out = data.copy()
        for first, last in ((0, 17), (17, 33)):
            raise_to(floor, across, down, area, step, out, first, last)
        at = np.mgrid[0:33, 0:43] / step
        xs, ys, areas = (map_coordinates(nodes, at, order=1) for nodes in (across, down, area))
        inside = (xs >= 0) & (xs <= 40) & (ys >= 0) & (ys <= 29)
        least = floor[ys.astype(int).clip(0, 29), xs.astype(int).clip(0, 40)] * areas
        wanted = np.where(inside, np.maximum(data, least), data)
        np.testing.assert_allclose(out, wanted, rtol=1e-5)
        self.assertGreater((wanted > data).sum(), 300)
        self.assertGreater((~inside).sum(), 100)


class TwoPasses(unittest.TestCase):
    """Large frames are interpolated along rows and then columns: the same picture, where there is one between the pixels."""

    # The middle of the frame; line by line in Python less of it has to do.
    MARGIN = 80 if numba.config.DISABLE_JIT else 50
    SHAPE = (230 - 2 * MARGIN, 301 - 2 * MARGIN)

    @classmethod
    def setUpClass(cls) -> None:
        rng = np.random.default_rng(17)
        sky = np.zeros((240, 310))
        x, y = rng.uniform(0, 310, 150), rng.uniform(0, 240, 150)
        add_stars(sky, x, y, 10 ** rng.uniform(3, 5, 150), Psf.with_fwhm(3.2))
        cls.image = (sky + 200).astype(np.float32)

    def compared(self, image: np.ndarray, matrix: np.ndarray, wanted: float) -> np.ndarray:
        """Compare with tap by tap, to a part of the brightest pixel; returns what was resampled."""
        inside = np.array([[1.0, 0.0, -self.MARGIN], [0.0, 1.0, -self.MARGIN]])
        transform = Transform(matrix).then(Transform(inside))
        back = transform.inverse()
        self.assertIsNotNone(back.along_rows(np.arange(3.0), np.arange(3.0), 0.1), "this one goes in two passes")
        out, plain = resample(image, transform, self.SHAPE), lanczos_by_hand(image, transform, self.SHAPE, 3)
        np.testing.assert_array_equal(np.isnan(out), np.isnan(plain))
        self.assertLess(float(np.nanmax(np.abs(out - plain))), wanted * float(np.nanmax(image)))
        return out

    def test_shifts_and_scales_are_the_same_taps(self) -> None:
        for scale_x, scale_y, dx, dy in (
            (1.0, 1.0, 0.37, -1.64), (1.0, 1.0, -12.0, 3.0), (1.03, 1.02, -2.2, -1.3), (0.97, 0.98, 3.1, 2.4), (-1.0, 1.0, 305.4, 0.5),
            (1.0, -1.0, 0.25, 233.1), (-1.001, -0.999, 300.2, 231.7),
        ):  # fmt: skip
            with self.subTest(scale=(scale_x, scale_y), shift=(dx, dy)):
                # Weights are rounded to 1/4096 px, or follow a parabola, twice.
                self.compared(self.image, np.array([[scale_x, 0, dx], [0, scale_y, dy]]), 6e-4)

    def test_small_rotations(self) -> None:
        for angle in (1e-4, -0.004, 0.02, 0.09, math.pi + 0.01):
            with self.subTest(angle):
                matrix = affine(1.0, angle, 0, 0)
                matrix[:, 2] = [151.3, 116.8] - matrix[:, :2] @ [155.0, 120.0]
                # Stars of 3.2 px are all but band-limited: whatever way it goes, interpolation errs by so much.
                self.compared(self.image, matrix, 2.5e-3)

    def test_holes(self) -> None:
        image = self.image.copy()
        rng = np.random.default_rng(3)
        image[rng.integers(0, 240, 40), rng.integers(0, 310, 40)] = np.nan
        image[100:104, 40:290] = np.nan
        image[:, 200] = np.nan
        for matrix in (np.array([[1, 0, 0.4], [0, 1, 0.6]]), affine(1.0, 0.03, -2, 4), np.array([[-1, 0, 308.6], [0, 1, 0.2]])):
            out = self.compared(image, matrix, 2.5e-3)
            self.assertTrue(np.isnan(out).any() and np.isfinite(out).mean() > 0.9)

    def test_a_place_on_a_whole_pixel_however_it_is_rounded(self) -> None:
        self.SHAPE = (60, 90)
        for shift in (5.0, 5 - 1e-15, 5 + 1e-15, np.nextafter(5.0, 0), np.nextafter(5.0, 9)):
            for grow in (1.0, 1 + 1e-9, 1 - 1e-9, 1 + 3e-5, 1 - 3e-5):
                with self.subTest(shift=shift, grow=grow):
                    self.compared(self.image, np.array([[grow, 0, shift], [0, grow, shift]]), 6e-4)


class Limits(unittest.TestCase):
    """A match keeps to the scales asked for, tells its pairs, and weighs them."""

    def setUp(self) -> None:
        self.rng = np.random.default_rng(12)
        self.source = self.rng.uniform(0, 900, (60, 2))

    def mapped(self, matrix: np.ndarray, noise: float = 0.02) -> np.ndarray:
        return self.source @ matrix[:, :2].T + matrix[:, 2] + self.rng.normal(0, noise, self.source.shape)

    def test_scales(self) -> None:
        for scale, options, found in (
            (2.4, None, False), (0.4, None, False), (1.9, None, True), (0.55, None, True),
            (2.4, MatchOptions(scale_low=2.0, scale_high=3.0), True),
            (1.0, MatchOptions(scale_low=2.0, scale_high=3.0), False),
            (1.0, MatchOptions(scale_low=0.3, scale_high=0.6), False),
        ):  # fmt: skip
            with self.subTest(scale=scale, options=options):
                result = match_stars(self.source, self.mapped(affine(scale, 0.7, 5, 9)), options=options)
                self.assertEqual(not isinstance(result, Failed), found, result)

    def test_pairs_are_the_stars(self) -> None:
        matrix = affine(1.02, 1.1, 40, -7)
        target = self.mapped(matrix)
        order = self.rng.permutation(60)
        result = match_stars(self.source, target[order])
        assert not isinstance(result, Failed) and result.fit.pairs is not None and result.fit.residuals is not None
        self.assertEqual(result.matched, 60)
        np.testing.assert_array_equal(order[result.fit.pairs[:, 1]], result.fit.pairs[:, 0])
        x, y = result(*self.source[result.fit.pairs[:, 0]].T)
        np.testing.assert_allclose(result.fit.residuals, target[result.fit.pairs[:, 0]] - np.column_stack([x, y]), atol=1e-9)
        self.assertAlmostEqual(result.rms_px, float(np.sqrt((result.fit.residuals**2).mean())), places=12)
        # Six numbers are fitted to 120; the noise of 0.02 px is known from them to 7 %.
        self.assertAlmostEqual(result.rms_px, 0.02 * math.sqrt(114 / 120), delta=0.004)
        kept(self, result, order)

    def test_weights_go_by_the_signal_to_noise(self) -> None:
        matrix = affine(1.0, 0.2, 3, 4)
        snr = np.where(np.arange(60) < 30, 400.0, 4.0)
        noise = self.rng.normal(0, 1, self.source.shape) * (1.2 / snr)[:, None]
        target = self.source @ matrix[:, :2].T + matrix[:, 2] + noise
        other = 0.5 * snr
        result = match_stars(self.source, target, source_snr=snr, target_snr=other)
        plain = match_stars(self.source, target)
        assert not isinstance(result, Failed) and not isinstance(plain, Failed) and result.fit.pairs is not None
        keep, partner = result.fit.pairs.T
        variance = 1 / snr[keep] ** 2 + 1 / other[partner] ** 2
        expected = fit_transform(
            self.source[keep], target[partner], weights=1 / (variance + np.median(variance) + 1e-6),
            similarity=result.kind == "similarity",
        )  # fmt: skip
        np.testing.assert_allclose(result.matrix, expected, atol=1e-4)

        def miss(found: Transform) -> float:
            corner = np.array([0.0, 900.0])
            x, y = found(corner, corner[::-1])
            wanted = np.column_stack([corner, corner[::-1]]) @ matrix[:, :2].T + matrix[:, 2]
            return float(np.hypot(x - wanted[:, 0], y - wanted[:, 1]).max())

        self.assertLess(miss(result), miss(plain))
        # The quoted rms is that of the bright stars when there are enough of them.
        bright = snr[keep] > 50
        self.assertAlmostEqual(result.rms_px, float(np.sqrt((result.fit.residuals[bright] ** 2).mean())), places=9)
        kept(self, result, plain, noise, expected)

    def test_a_sheared_field_is_no_match(self) -> None:
        sheared = np.array([[1.0, 0.25, 0.0], [0.0, 1.0, 0.0]])
        self.assertIsInstance(match_stars(self.source, self.mapped(sheared)), Failed)

    def test_the_identity_moves_nothing(self) -> None:
        x, y = Transform.identity()(np.array([3.0, -7.0]), np.array([4.0, 11.0]))
        self.assertEqual((x.tolist(), y.tolist()), ([3.0, -7.0], [4.0, 11.0]))
