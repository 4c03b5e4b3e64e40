"""The brightest stars of easy exposures against the truth, and which exposures are not easy."""

import math
import unittest
import warnings
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import numpy as np
from scipy.spatial import cKDTree
from tools.same import kept

from ulvar.engine import JobContext
from ulvar.flows import starfind
from ulvar.flows.starfind import detect_in, find_all
from ulvar.frames import MaskBit, robust_spread, scan_file, write_fits
from ulvar.simulation import Psf, star_field
from ulvar.simulation.camera import satellite_trail
from ulvar.stars import Detection, DetectOptions, StarFlag, find_brightest, find_stars
from ulvar.stars._kernels import halve, strongest_lines

WIDTH, HEIGHT, SKY, READ = 1900, 1350, 300.0, 5.0
# Of a pixel: Poisson of the sky, and reading out.
NOISE = math.sqrt(SKY + READ**2)


class Made(unittest.TestCase):
    """A frame of 300 stars, 100 of them bright."""

    @classmethod
    def setUpClass(cls) -> None:
        rng = np.random.default_rng(21)
        cls.x, cls.y = rng.uniform(8, WIDTH - 9, 300), rng.uniform(8, HEIGHT - 9, 300)
        cls.flux = np.concatenate([10 ** rng.uniform(4.0, 5.2, 100), 10 ** rng.uniform(2.5, 3.9, 200)])
        cls.image = cls.drawn()

    @classmethod
    def drawn(cls, fwhm: float = 3.2, seed: int = 22, **how: object) -> np.ndarray:
        return star_field(
            np.random.default_rng(seed), width=WIDTH, height=HEIGHT, x=cls.x, y=cls.y, flux_e=cls.flux,
            psf=Psf.with_fwhm(fwhm), sky_e=SKY, read_noise_e=READ, **how,
        )  # fmt: skip

    def found(self, image: np.ndarray, **how: object) -> Detection:
        detection = find_brightest(image, **how)
        assert detection is not None
        return detection

    def off(self, detection: Detection) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Return dx, dy [px] to the nearest true star, and which that is."""
        places = np.column_stack([detection.stars.x, detection.stars.y])
        index = cKDTree(np.column_stack([self.x, self.y])).query(places)[1]
        return places[:, 0] - self.x[index], places[:, 1] - self.y[index], index


class Truth(Made):
    """Places, light, errors, width and sky."""

    def test_places_light_and_sky(self) -> None:
        detection = self.found(self.image, gain_e_per_adu=1.0)
        stars = detection.stars
        dx, dy, index = self.off(detection)
        # No peak of noise, no star twice, none of the bright ones missing but where another one is on it.
        self.assertLess(np.hypot(dx, dy).max(), 1.0)
        self.assertEqual(len(set(index.tolist())), len(index))
        self.assertGreater(np.isin(np.arange(100), index).mean(), 0.95)
        self.assertTrue((np.diff(stars.flux) <= 0).all())
        near = cKDTree(np.column_stack([self.x, self.y])).query(np.column_stack([stars.x, stars.y]), k=2)[0][:, 1]
        alone = (near > 14) & (stars.flags == 0)
        self.assertGreater(alone.sum(), 80)
        # A centroid's error is the width over the signal-to-noise ratio, whatever the direction.
        limit = 1.3 * 3.2 / 2.355 / stars.snr[alone]
        for off in (dx[alone], dy[alone]):
            self.assertAlmostEqual(float(np.sqrt(np.mean((off / limit) ** 2))), 0.8, delta=0.35)
            self.assertLess(abs(float((off / limit).mean())), 4 / math.sqrt(alone.sum()))
        share = stars.flux[alone] / self.flux[index[alone]]
        # The wings are outside of the window, of all stars alike: what is left scatters as the errors say.
        self.assertAlmostEqual(float(np.median(share)), 0.95, delta=0.04)
        apart = (share / np.median(share) - 1) * self.flux[index[alone]] * np.median(share) / stars.flux_error[alone]
        self.assertAlmostEqual(robust_spread(apart), 1.0, delta=0.3)
        np.testing.assert_allclose(stars.snr, stars.flux / stars.flux_error)
        self.assertAlmostEqual(detection.fwhm_px, 3.2, delta=0.25)
        self.assertLess(detection.ellipticity, 0.08)
        # Of a million pixels each tells a part; faint stars lift the sky by a hundredth of the noise.
        self.assertAlmostEqual(detection.background.sky_adu, SKY, delta=0.03 * NOISE)
        self.assertAlmostEqual(detection.background.noise_adu, NOISE, delta=0.01 * NOISE)
        kept(self, detection, near)

    def test_errors_know_the_photons_of_the_star(self) -> None:
        told, untold = self.found(self.image, gain_e_per_adu=1.0), self.found(self.image)
        self.assertGreater(untold.stars.snr[0] / told.stars.snr[0], 1.5)
        kept(self, told, untold)

    def test_as_by_the_fit_of_all_profiles(self) -> None:
        quick, full = self.found(self.image, gain_e_per_adu=1.0), find_stars(self.image, gain_e_per_adu=1.0)
        places = np.column_stack([full.stars.x, full.stars.y])
        away, at = cKDTree(places).query(np.column_stack([quick.stars.x, quick.stars.y]))
        bright = quick.stars.snr > 60
        self.assertGreater(bright.sum(), 60)
        self.assertLess(float(np.median(away[bright])), 0.02)
        ratio = quick.stars.flux / full.stars.flux[at]
        self.assertLess(robust_spread(ratio[bright]) / float(np.median(ratio[bright])), 0.01)
        self.assertAlmostEqual(quick.background.sky_adu, full.background.sky_adu, delta=0.03 * NOISE)
        self.assertAlmostEqual(quick.fwhm_px, full.fwhm_px, delta=0.15)
        kept(self, quick, full)

    def test_as_many_as_wanted(self) -> None:
        for most, options in ((70, None), (400, DetectOptions(max_stars=70))):
            detection = self.found(self.image, most=most, options=options)
            self.assertEqual(len(detection.stars), 70)
            self.assertGreater(np.isin(np.argsort(-self.flux)[:55], self.off(detection)[2]).mean(), 0.9)
        kept(self, detection)

    def test_long_stars_lean(self) -> None:
        detection = self.found(self.drawn(trail_px=(1.6, 0.8)))
        typical = float(np.median(detection.stars.angle_deg[:60]))
        self.assertAlmostEqual(typical, math.degrees(math.atan2(0.8, 1.6)), delta=8)
        self.assertGreater(detection.ellipticity, 0.05)
        kept(self, detection)


class Spoiled(Made):
    """Hot pixels, saturation, holes, a trail, a slope of the sky."""

    def test_hot_pixels_are_no_stars(self) -> None:
        image, rng = self.image.copy(), np.random.default_rng(5)
        image[rng.integers(0, HEIGHT, 3000), rng.integers(0, WIDTH, 3000)] += 5e4
        detection = self.found(image)
        dx, dy, index = self.off(detection)
        self.assertLess((np.hypot(dx, dy) > 1).mean(), 0.02)
        self.assertGreater(np.isin(np.arange(100), index).mean(), 0.8)
        kept(self, detection)

    def test_saturated_stars_say_so_and_weigh_little(self) -> None:
        mask = np.where(self.image > 6000, np.uint16(MaskBit.SATURATED), np.uint16(0))
        image = np.minimum(self.image, 6000)
        stars = self.found(image, mask=mask).stars
        clipped = (stars.flags & StarFlag.SATURATED) != 0
        self.assertGreater(clipped.sum(), 10)
        self.assertLess(clipped.sum(), 60)
        self.assertLessEqual(stars.snr[clipped].max(), 20.0)
        self.assertGreater(stars.snr[~clipped].max(), 60.0)
        self.assertTrue((stars.peak[clipped] > 5000).all())
        kept(self, stars)

    def test_hidden_pixels_are_not_looked_at(self) -> None:
        image, mask = self.image.copy(), np.zeros(self.image.shape, np.uint16)
        # A bright block that is hidden, another one without data.
        image[100:300, 200:500] += 2e4
        mask[100:300, 200:500] = np.uint16(MaskBit.HOT)
        image[700:900, 900:1300] = np.nan
        detection = self.found(image, mask=mask)
        x, y = detection.stars.x, detection.stars.y
        for left, right, low, high in ((198, 502, 98, 302), (898, 1302, 698, 902)):
            self.assertFalse(((x > left + 4) & (x < right - 4) & (y > low + 4) & (y < high - 4)).any())
        self.assertGreater(len(x), 90)
        self.assertAlmostEqual(detection.background.sky_adu, SKY, delta=0.05 * NOISE)
        kept(self, detection, mask)

    def test_stars_at_the_edge_and_with_a_bad_pixel_are_flagged(self) -> None:
        image, mask = self.image.copy(), np.zeros(self.image.shape, np.uint16)
        k = int(np.argmax(self.flux))
        mask[round(self.y[k]) + 1, round(self.x[k])] = np.uint16(MaskBit.HOT)
        image[round(self.y[k]) + 1, round(self.x[k])] += 5e4
        detection = self.found(image, mask=mask)
        dx, dy, index = self.off(detection)
        self.assertEqual(detection.stars.flags[index == k].tolist(), [int(StarFlag.BAD_PIXEL)])
        # A pixel of some thirty is missing, nothing is added.
        self.assertLess(float(np.hypot(dx, dy)[index == k][0]), 0.4)
        edge = (detection.stars.flags & StarFlag.EDGE) != 0
        x, y = detection.stars.x, detection.stars.y
        reach = 2 * detection.fwhm_px
        np.testing.assert_array_equal(edge, (x < reach) | (y < reach) | (x > WIDTH - 1 - reach) | (y > HEIGHT - 1 - reach))
        kept(self, detection, mask)

    def test_a_slope_of_the_sky(self) -> None:
        slope = (np.linspace(0, 80, WIDTH)[None, :] + np.linspace(0, 60, HEIGHT)[:, None]).astype(np.float32)
        plain, sloped = self.found(self.image), self.found(self.image + slope)
        shared = cKDTree(np.column_stack([plain.stars.x, plain.stars.y])).query(np.column_stack([sloped.stars.x, sloped.stars.y])[:80])
        self.assertLess(float(np.median(shared[0])), 0.01)
        ratio = sloped.stars.flux[:80] / plain.stars.flux[shared[1]]
        self.assertAlmostEqual(float(np.median(ratio)), 1.0, delta=0.002)
        self.assertAlmostEqual(sloped.background.sky_adu, SKY + 70, delta=2.0)
        kept(self, plain, sloped)

    def test_a_trail_lies_where_it_was_drawn(self) -> None:
        light = satellite_trail((HEIGHT, WIDTH), y0=200.0, slope=0.4, width_px=3.0, electrons=300.0)
        detection = self.found(self.image + light.astype(np.float32))
        (trail,) = detection.trails
        (plain,) = find_stars(self.image + light.astype(np.float32)).trails
        for x, y in ((trail.x0, trail.y0), (trail.x1, trail.y1)):
            self.assertAlmostEqual(y, 200.0 + 0.4 * x, delta=1.5)
        # Pixels of the picture of half the size have their middles between those of the full one.
        x, y = (trail.x0 + trail.x1) / 2, (trail.y0 + trail.y1) / 2
        self.assertAlmostEqual(y, 200.0 + 0.4 * x, delta=0.2)
        self.assertAlmostEqual(trail.length_px, plain.length_px, delta=0.02 * plain.length_px)
        self.assertAlmostEqual(trail.width_px, plain.width_px, delta=1.0)
        self.assertEqual(self.found(self.image).trails, ())
        kept(self, detection, plain, light)


class NotEasy(Made):
    """None comes back, and whoever asks takes the full search."""

    def test_what_is_left_to_the_full_search(self) -> None:
        rng = np.random.default_rng(9)
        empty = (SKY + rng.normal(0, NOISE, (HEIGHT, WIDTH))).astype(np.float32)
        hot = empty.copy()
        hot[rng.integers(0, HEIGHT, 3000), rng.integers(0, WIDTH, 3000)] += 5e3
        everywhere = self.image.copy()
        everywhere[rng.integers(0, HEIGHT, 27_000), rng.integers(0, WIDTH, 27_000)] += 5e3
        crowd = star_field(
            rng, width=700, height=500, x=rng.uniform(0, 700, 900), y=rng.uniform(0, 500, 900), flux_e=np.full(900, 3e4),
            psf=Psf.with_fwhm(3.2), sky_e=SKY,
        )  # fmt: skip
        for name, image in (
            ("noise", empty), ("hot pixels alone", hot), ("hot pixels everywhere", everywhere), ("wide", self.drawn(11.0)), ("long", self.drawn(trail_px=(9.0, 3.0))),
            ("crowded", crowd), ("nothing", np.full((HEIGHT, WIDTH), np.nan, np.float32)),
            ("even", np.full((HEIGHT, WIDTH), 7.0, np.float32)), ("small", self.image[:60, :90]),
        ):  # fmt: skip
            with self.subTest(name), warnings.catch_warnings():
                self.assertIsNone(find_brightest(image))
        kept(self, everywhere, crowd)

    def test_the_flow_asks_for_the_quick_form_where_it_serves(self) -> None:
        known: dict[tuple[bytes, str], Detection] = {}

        def once(data: np.ndarray, **how: object) -> Detection:
            """Search pixels in full that were not searched so before."""
            key = data.tobytes(), repr({k: v for k, v in how.items() if k != "mask"})
            if key not in known:
                known[key] = find_stars(data, **how)
            return known[key]

        with TemporaryDirectory() as name, mock.patch("ulvar.stars.find_stars", once):
            kinds = {
                "grey": (self.image, {}), "colour": (self.image, {"BAYERPAT": "RGGB"}), "wide": (self.drawn(11.0), {}),
            }  # fmt: skip
            facts = []
            for kind, (image, cards) in kinds.items():
                path = Path(name) / f"{kind}.fits"
                # A part of each has stars enough.
                write_fits(path, image[:760, :1000], cards={"IMAGETYP": "light", "GAIN": 1.0} | cards)
                facts.append(scan_file(str(path)))
            grey, _, wide = facts
            self.assertIsNone(detect_in(grey, DetectOptions(), quick=True).psf)
            self.assertIsNotNone(detect_in(grey, DetectOptions()).psf)
            # Large frames that are not easy wait for their turn, with the memory that they need; small ones do not.
            self.assertIsNotNone(detect_in(wide, DetectOptions(), quick=True).psf)
            full, _ = find_all(facts, JobContext())
            for most in (starfind._AT_ONCE, 1):
                with mock.patch.object(starfind, "_AT_ONCE", most):
                    quick, failed = find_all(facts, JobContext(), quick=True)
                self.assertEqual(failed, [])
                # A mosaic of colours has no light that halves could tell; what is not easy is searched in full.
                for one, other, same in zip(quick, full, (False, True, True)):
                    self.assertEqual(one.facts, other.facts)
                    self.assertEqual(len(one.stars) == len(other.stars) and bool((one.stars.x == other.stars.x).all()), same)


class Kernels(unittest.TestCase):
    """Halving and choosing against plain NumPy."""

    def test_halves(self) -> None:
        rng = np.random.default_rng(3)
        data = rng.normal(100, 10, (31, 44)).astype(np.float32)
        hidden = rng.random(data.shape) < 0.3
        data[rng.random(data.shape) < 0.1] = np.nan
        out = np.zeros((15, 22), np.float32)
        halve(data, hidden, out, 2, 15)
        self.assertTrue((out[:2] == 0).all())
        four = np.where(hidden, np.nan, data)[:30].reshape(15, 2, 22, 2).transpose(0, 2, 1, 3).reshape(15, 22, 4)
        known = np.isfinite(four).sum(axis=2)
        with np.errstate(invalid="ignore"):
            plain = np.where(known > 1, np.nansum(four, axis=2) / known, np.nan)
        np.testing.assert_allclose(out[2:], plain[2:], rtol=1e-5)
        self.assertTrue((known == 4).any() and np.isnan(plain).any())

    def test_lines_with_most_votes(self) -> None:
        votes = np.random.default_rng(1).integers(0, 60, (40, 30)).astype(np.int32)
        for least, most in ((25, 100), (50, 4000), (59, 1), (61, 10)):
            rows, columns = strongest_lines(votes, least, most)
            level = max(least, int(np.sort(votes.ravel())[-most]) if most < votes.size else 0)
            expected = np.argwhere(votes >= level)
            np.testing.assert_array_equal(np.column_stack([rows, columns]), expected)
