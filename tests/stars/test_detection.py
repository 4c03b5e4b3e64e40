"""Star finding against simulated truth."""

import math
import unittest

import numpy as np
from scipy.spatial import cKDTree
from tools.same import kept

from ulvar.frames import MaskBit
from ulvar.simulation import Psf, add_stars, recorded_fwhm, star_field
from ulvar.stars import DetectOptions, StarFlag, estimate_background, find_stars, measure_quality, relative_scores


def lone_positions(rng: np.random.Generator, n: int, width: int, height: int, apart: float) -> tuple[np.ndarray, np.ndarray]:
    """Return positions at least `apart` from each other and 25 px from the edge."""
    chosen: list[tuple[float, float]] = []
    while len(chosen) < n:
        x, y = rng.uniform(25, width - 25), rng.uniform(25, height - 25)
        if all((x - a) ** 2 + (y - b) ** 2 > apart**2 for a, b in chosen):
            chosen.append((x, y))
    return np.array([c[0] for c in chosen]), np.array([c[1] for c in chosen])


def matched(detection, x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return (distance to the nearest detection, its index) for each true star."""
    stars = detection.stars
    return cKDTree(np.column_stack([stars.x, stars.y])).query(np.column_stack([x, y]))


class Truth(unittest.TestCase):
    """Completeness, false detections, centroids, widths, fluxes."""

    @classmethod
    def setUpClass(cls) -> None:
        rng = np.random.default_rng(11)
        cls.sky, cls.read = 200.0, 5.0
        cls.fields = []
        for fwhm in (2.2, 3.0, 4.5):
            x, y = lone_positions(rng, 260, 900, 700, 9 * fwhm / 1.5)
            flux = 10 ** rng.uniform(2.6, 5.0, 260)
            psf = Psf.with_fwhm(fwhm)
            image = star_field(rng, width=900, height=700, x=x, y=y, flux_e=flux, psf=psf, sky_e=cls.sky, read_noise_e=cls.read)
            image.setflags(write=False)
            cls.fields.append((fwhm, x, y, flux, psf, image, find_stars(image, gain_e_per_adu=1.0)))

    def snr(self, fwhm: float, flux: np.ndarray) -> np.ndarray:
        """Matched-filter signal to noise of a star over sky and read noise (King 1983)."""
        area = 4 * math.pi * (fwhm / 2.3548) ** 2
        return flux / np.sqrt(area * (self.sky + self.read**2))

    def test_words_burnt_into_a_corner_do_not_hide_the_stars(self) -> None:
        fwhm, x, y, flux, _, image, _ = self.fields[1]
        burnt = image.copy()
        rng = np.random.default_rng(12)
        burnt[12:48, 15:480] = np.where(rng.random((36, 465)) > 0.5, 60000.0, 0.0)
        burnt[350], burnt[:, 450] = 60000.0, 60000.0
        found = find_stars(burnt, gain_e_per_adu=1.0)
        # Letters that pass for stars have a share in it.
        self.assertAlmostEqual(found.fwhm_px, self.fields[1][-1].fwhm_px, delta=0.2)
        assert found.psf is not None
        self.assertLess(found.psf.radius_px, 40, "a first guess of 23 px made it 83")
        # Beside them the background of the cells is theirs.
        apart = (y > 200) & (np.abs(y - 350) > 15) & (np.abs(x - 450) > 15) & (self.snr(fwhm, flux) > 10)
        distance, _ = matched(found, x[apart], y[apart])
        self.assertGreater((distance < 1).mean(), 0.96)

    def test_completeness_and_false_detections(self) -> None:
        for fwhm, x, y, flux, _, _, found in self.fields:
            with self.subTest(fwhm=fwhm):
                distance, _ = matched(found, x, y)
                bright = self.snr(fwhm, flux) > 7
                self.assertGreaterEqual((distance[bright] < 1).mean(), 0.95)
                back, _ = cKDTree(np.column_stack([x, y])).query(np.column_stack([found.stars.x, found.stars.y]))
                self.assertLessEqual((back > 2).sum(), 0.01 * len(found.stars) + 1)

    def test_width(self) -> None:
        for fwhm, _, _, _, psf, _, found in self.fields:
            self.assertAlmostEqual(recorded_fwhm(psf), fwhm, places=4)
            self.assertLess(abs(found.fwhm_px / fwhm - 1), 0.02, fwhm)
            self.assertLess(found.ellipticity, 0.05)

    def test_centroids_are_near_the_bound(self) -> None:
        rng = np.random.default_rng(15)
        for fwhm in (2.5, 4.0):
            x, y = lone_positions(rng, 300, 1000, 800, 30)
            # Gaussian stars, for which the bound is known in closed form.
            flux = np.full(300, 25 * math.sqrt(4 * math.pi * (fwhm / 2.3548) ** 2 * (self.sky + self.read**2)))
            psf = Psf.with_fwhm(fwhm, wing_fraction=0.0)
            found = find_stars(star_field(rng, width=1000, height=800, x=x, y=y, flux_e=flux, psf=psf, sky_e=self.sky))
            distance, index = matched(found, x, y)
            use = distance < 1
            # Sky-limited: sqrt(2) sigma / SNR = fwhm / (1.665 SNR); photons of the star itself add to the noise.
            peak = flux[0] / (2 * math.pi * (fwhm / 2.3548) ** 2)
            bound = fwhm / (1.665 * 25) * math.sqrt(1 + 0.5 * peak / (self.sky + self.read**2))
            pull = np.concatenate([(found.stars.x[index] - x)[use], (found.stars.y[index] - y)[use]]) / bound
            with self.subTest(fwhm=fwhm):
                self.assertGreater(use.mean(), 0.97)
                # 600 values give the scatter to 3 %; 1.1 is the target.
                self.assertLess(np.sqrt(np.mean(pull**2)), 1.1 + 0.09)
                self.assertLess(abs(pull.mean()), 4 / math.sqrt(len(pull)))
        kept(self, psf, found)

    def test_flux_and_its_error(self) -> None:
        for fwhm, x, y, flux, _, _, found in self.fields:
            with self.subTest(fwhm=fwhm):
                distance, index = matched(found, x, y)
                use = distance < 1
                bright = use & (flux > 2e4)
                self.assertLess(abs(np.median(found.stars.flux[index][bright] / flux[bright]) - 1), 0.015)
                faint = use & (self.snr(fwhm, flux) < 30)
                pull = (found.stars.flux[index] - flux)[faint] / found.stars.flux_error[index][faint]
                self.assertLess(abs(np.std(pull) - 1), 0.35)

    def test_background(self) -> None:
        for _, _, _, _, _, image, found in self.fields:
            expected = math.sqrt(self.sky + self.read**2)
            self.assertLess(abs(found.background.sky_adu - self.sky), 0.05 * expected)
            self.assertLess(abs(found.background.noise_adu / expected - 1), 0.02)
            self.assertEqual(found.background.level.shape, image.shape)


class Rejected(unittest.TestCase):
    """What is not a star stays out; what is doubtful is flagged."""

    def setUp(self) -> None:
        self.rng = np.random.default_rng(12)
        self.x, self.y = lone_positions(self.rng, 60, 500, 400, 25)
        self.flux = 10 ** self.rng.uniform(3.6, 4.6, 60)
        self.image = star_field(self.rng, width=500, height=400, x=self.x, y=self.y, flux_e=self.flux, psf=Psf.with_fwhm(3.2))

    def false_near(self, found, x: np.ndarray, y: np.ndarray) -> int:
        if not len(found.stars):
            return 0
        distance, _ = cKDTree(np.column_stack([found.stars.x, found.stars.y])).query(np.column_stack([x, y]))
        return int((distance < 1.5).sum())

    def test_hot_pixels(self) -> None:
        hx, hy = lone_positions(self.rng, 80, 500, 400, 12)
        far = np.array([np.hypot(self.x - a, self.y - b).min() > 12 for a, b in zip(hx, hy)])
        hx, hy = hx[far].astype(int), hy[far].astype(int)
        self.image[hy, hx] += 1500
        self.assertLessEqual(self.false_near(find_stars(self.image), hx, hy), 1)
        kept(self, far)

    def test_constant_empty_nan_and_tiny_frames(self) -> None:
        noise = np.random.default_rng(1).normal(100, 5, (300, 400)).astype(np.float32)
        self.assertLessEqual(len(find_stars(noise).stars), 1)
        for image in (
            np.full((50, 60), 7.0, "f4"), np.full((220, 320), 300.0, "f4"), np.full((50, 60), np.nan, "f4"), np.zeros((9, 9), "f4"),
            noise[:12, :12],
        ):  # fmt: skip
            self.assertEqual(len(find_stars(np.ascontiguousarray(image)).stars), 0)

    def test_mask_hides_and_saturation_flags(self) -> None:
        mask = np.zeros(self.image.shape, dtype=np.uint16)
        a, b = 0, 1
        mask[round(self.y[a]), round(self.x[a])] = MaskBit.SATURATED
        ys, xs = np.ogrid[:400, :500]
        mask[np.hypot(xs - self.x[b], ys - self.y[b]) < 6] = MaskBit.HOT
        found = find_stars(self.image, mask=mask)
        distance, index = matched(found, self.x, self.y)
        self.assertLess(distance[a], 0.5)
        self.assertTrue(found.stars.flags[index[a]] & StarFlag.SATURATED)
        self.assertGreater(distance[b], 2)

    def test_input_is_not_changed(self) -> None:
        copy = self.image.copy()
        self.image.setflags(write=False)
        find_stars(self.image)
        np.testing.assert_array_equal(self.image, copy)
        kept(self, copy)

    def test_trailed_stars_are_found_and_told(self) -> None:
        image = star_field(
            self.rng, width=500, height=400, x=self.x, y=self.y, flux_e=self.flux, psf=Psf.with_fwhm(3.2), trail_px=(6.0, 0.0),
        )  # fmt: skip
        found = find_stars(image)
        distance, _ = matched(found, self.x, self.y)
        self.assertGreater((distance < 1.5).mean(), 0.9)
        self.assertGreater(found.ellipticity, 0.3)

    def test_wrong_options(self) -> None:
        with self.assertRaises(ValueError):
            DetectOptions(threshold=0)


class Quality(unittest.TestCase):
    """Scores order exposures as their point-source signal to noise does."""

    def test_score(self) -> None:
        rng = np.random.default_rng(13)
        x, y = lone_positions(rng, 80, 500, 400, 20)
        flux = 10 ** rng.uniform(3.5, 4.5, 80)
        good = {"fwhm": 3.0, "part": 1.0, "sky": 150.0}
        series = [good, good | {"fwhm": 4.5}, good | {"part": 0.5}, good | {"sky": 900.0}]
        qualities = []
        for s in series:
            image = star_field(
                rng, width=500, height=400, x=x, y=y, flux_e=s["part"] * flux, psf=Psf.with_fwhm(s["fwhm"]), sky_e=s["sky"],
            )  # fmt: skip
            qualities.append(measure_quality(find_stars(image)))
        scores = [q.score for q in relative_scores(qualities)]
        self.assertEqual(scores[0], 1.0)
        noise = [math.sqrt(s["sky"] + 25) for s in series]
        for score, s, n in zip(scores, series, noise):
            expected = s["part"] / (s["fwhm"] * n) * 3.0 * noise[0]
            self.assertLess(abs(score / expected - 1), 0.12)

    def test_background_gradient(self) -> None:
        rng = np.random.default_rng(14)
        y, x = np.mgrid[:320, :480].astype(float)
        truth = 300 + 0.2 * x - 0.1 * y
        image = rng.normal(truth, 8.0).astype(np.float32)
        add = np.zeros_like(truth)
        add_stars(add, rng.uniform(0, 480, 60), rng.uniform(0, 320, 60), np.full(60, 5e3), Psf(1.3))
        level = estimate_background((image + add).astype(np.float32)).level
        inner = (slice(40, -40), slice(40, -40))
        self.assertLess(float(np.abs(level[inner] - truth[inner]).mean()), 1.2)
