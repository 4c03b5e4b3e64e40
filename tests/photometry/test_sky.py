"""The sky in an annulus, the shapes of apertures, and what the error of a flux is made of."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from ulvar.frames import MaskBit
from ulvar.photometry import (
    SKY_METHODS,
    ApertureOptions,
    Neighbours,
    NoiseTerms,
    Shape,
    blended,
    circle_overlap,
    ellipse_overlap,
    measure_apertures,
    middles_of_light,
    scintillation,
    shape_of,
)
from ulvar.photometry._kernels_sky import clipped_sky, plane_sky
from ulvar.simulation import Psf, add_stars
from ulvar.stars import StarTable


def detections(x: list[float], y: list[float], flux: list[float], **columns: object) -> StarTable:
    """Return a star table."""
    made = {name: np.zeros(len(x)) for name in StarTable.__dataclass_fields__}
    made |= {"x": np.array(x, float), "y": np.array(y, float), "flux": np.array(flux, float)}
    made |= {"flags": np.zeros(len(x), dtype=np.int64), "snr": np.full(len(x), 100.0)}
    return StarTable(**{**made, **{k: np.asarray(v) for k, v in columns.items()}})  # type: ignore[arg-type]


class Ellipses(unittest.TestCase):
    """Exact areas, turned the right way."""

    @given(st.floats(0.3, 8.0), st.floats(0.15, 1.0), st.floats(-180, 180), st.floats(-0.5, 0.5), st.floats(-0.5, 0.5))
    @settings(max_examples=60, deadline=None)
    def test_pixels_sum_to_the_ellipse(self, long: float, ratio: float, angle: float, cx: float, cy: float) -> None:
        total = sum(ellipse_overlap(x - cx, y - cy, long, long * ratio, angle) for x in range(-10, 11) for y in range(-10, 11))
        self.assertAlmostEqual(total, math.pi * long * long * ratio, delta=1e-9)

    def test_against_fine_sampling(self) -> None:
        rng = np.random.default_rng(4)
        steps = (np.arange(1000) + 0.5) / 1000 - 0.5
        for _ in range(25):
            dx, dy, long, ratio, angle = (
                *rng.uniform(-4, 4, 2), rng.uniform(1, 5), rng.uniform(0.2, 1), rng.uniform(0, 180),
            )  # fmt: skip
            x, y = dx + steps[None, :], dy + steps[:, None]
            c, s = math.cos(math.radians(angle)), math.sin(math.radians(angle))
            inside = ((x * c + y * s) / long) ** 2 + ((y * c - x * s) / (long * ratio)) ** 2 <= 1
            self.assertAlmostEqual(ellipse_overlap(dx, dy, long, long * ratio, angle), inside.mean(), delta=2e-3)

    def test_an_equal_one_is_the_circle(self) -> None:
        for dx, dy in ((0.2, 2.7), (-3.1, 0.4), (2.0, -2.0)):
            self.assertAlmostEqual(ellipse_overlap(dx, dy, 3.0, 3.0, 25.0), circle_overlap(dx, dy, 3.0), delta=1e-12)

    def test_a_long_star_is_caught_along_its_axis(self) -> None:
        y, x = np.mgrid[:61, :61] - 30.0
        angle = math.radians(35)
        along, across = x * math.cos(angle) + y * math.sin(angle), y * math.cos(angle) - x * math.sin(angle)
        image = (100 + 5000 * np.exp(-0.5 * ((along / 4) ** 2 + (across / 1.4) ** 2))).astype(np.float32)
        light = 5000 * 2 * math.pi * 4 * 1.4
        place = np.array([30.0])

        def share(shape: Shape, mask: np.ndarray | None = None) -> float:
            return (
                float(measure_apertures(image, place, place, radius_px=5, inner_px=18, outer_px=28, shape=shape, mask=mask).flux[0]) / light
            )

        # An ellipse of the star's own shape through 2.11 sigma; those that cross it hold less.
        self.assertAlmostEqual(share(Shape(0.35, 35.0)), 1 - math.exp(-25 / (2 * 4 * 1.4)), delta=8e-3)
        # A hot pixel along it is made up for by those that are as far in its own measure.
        mask = np.zeros(image.shape, np.uint16)
        mask[32, 33] = MaskBit.HOT
        whole = share(Shape(0.35, 35.0))
        self.assertAlmostEqual(share(Shape(0.35, 35.0), mask), whole, delta=0.002 * whole)
        self.assertLess(share(Shape(0.35, -35.0)), share(Shape()))
        self.assertLess(share(Shape()), share(Shape(0.35, 35.0)) - 0.05)

    def test_the_stars_tell_the_shape(self) -> None:
        n = 40
        rng = np.random.default_rng(3)
        table = detections(
            list(rng.uniform(0, 99, n)), [1.0] * n, list(rng.uniform(1, 9, n)), ellipticity=np.full(n, 0.4),
            # The same axis, told in two ways.
            angle_deg=np.where(np.arange(n) % 2, 170.0, -10.0),
        )  # fmt: skip
        shape = shape_of(table)
        self.assertAlmostEqual(shape.axis_ratio, 0.6, places=6)
        self.assertAlmostEqual(shape.angle_deg % 180, 170.0, places=6)
        scattered = detections([1.0] * n, [1.0] * n, [5.0] * n, ellipticity=np.full(n, 0.4), angle_deg=np.arange(n) * 4.5)
        self.assertEqual(shape_of(scattered), Shape())
        with self.assertRaisesRegex(ValueError, "axis ratio"):
            Shape(1.5)


class Clipped(unittest.TestCase):
    """Against plain NumPy, whatever the values."""

    @given(st.integers(0, 10_000), st.integers(8, 400), st.sampled_from(["normal", "whole", "stars", "alike", "one side"]))
    @settings(max_examples=120, deadline=None)
    def test_as_plain(self, seed: int, n: int, kind: str) -> None:
        rng = np.random.default_rng(seed)
        values = rng.normal(100, 5, n)
        if kind == "whole":
            values = np.round(values / 4)
        elif kind == "stars":
            values[rng.random(n) < 0.15] *= rng.uniform(2, 500)
        elif kind == "alike":
            values[:] = 7.0
        elif kind == "one side":
            values = rng.exponential(3.0, n)
        given_values = values.astype(np.float32)
        left = np.sort(given_values.astype(np.float64))
        while True:
            middle, spread = float(np.median(left)), float(left.std(ddof=1))
            kept = left[(left >= middle - 3 * spread) & (left <= middle + 3 * spread)]
            if len(kept) == len(left) or len(kept) < 8:
                break
            left = kept
        median, mean, deviation, count = clipped_sky(given_values.copy(), n)
        if spread < 1e-6:
            self.assertAlmostEqual(median, middle)
            return
        self.assertEqual(count, len(left))
        np.testing.assert_allclose([median, mean, deviation], [middle, left.mean(), spread], rtol=1e-6)

    def test_a_plane_as_by_least_squares(self) -> None:
        for seed in range(6):
            rng = np.random.default_rng(seed)
            xs, ys = rng.uniform(-20, 20, (2, 300))
            values = (400 + 0.8 * xs - 0.5 * ys + rng.normal(0, 4, 300)).astype(np.float32)
            values[:25] += 300
            _, _, deviation, _ = clipped_sky(values.copy(), 300)
            keep = np.abs(values - np.median(values)) <= 6 * deviation
            design = np.column_stack([np.ones(300), xs, ys])
            while True:
                found, *_ = np.linalg.lstsq(design[keep], values[keep].astype(float), rcond=None)
                left = values - design @ found
                spread = math.sqrt((left[keep] ** 2).sum() / (keep.sum() - 3))
                if ((inside := np.abs(left) <= 3 * spread) == keep).all():
                    break
                keep = inside
            share = np.linalg.inv(design[keep].T @ design[keep])[0, 0] * keep.sum()
            np.testing.assert_allclose(plane_sky(values, xs, ys, 300), [found[0], spread, keep.sum(), share], rtol=1e-6)
            self.assertLess(keep.sum(), 290)


class Sky(unittest.TestCase):
    """Each way of taking it: its value, and the error it tells."""

    def test_errors_are_what_it_scatters_by(self) -> None:
        rng = np.random.default_rng(12)
        image = rng.normal(200, 9, (400, 400)).astype(np.float32)
        x, y = (v.ravel().astype(float) for v in np.meshgrid(np.arange(12, 390, 19), np.arange(12, 390, 19)))
        errors = {}
        for sky in SKY_METHODS:
            result = measure_apertures(image, x, y, radius_px=3, inner_px=5, outer_px=9, sky=sky)
            pulls = (result.sky - 200) / result.sky_error
            # 400 values: their spread is known to 3.5 %.
            self.assertLess(abs(pulls.std() - 1), 0.11, sky)
            self.assertLess(abs(pulls.mean()), 0.16, sky)
            errors[sky] = float(np.median(result.sky_error))
        self.assertAlmostEqual(errors["median"] / errors["mean"], math.sqrt(math.pi / 2), delta=0.01)
        self.assertAlmostEqual(errors["mode"] / errors["mean"], math.sqrt(4.5 * math.pi - 8), delta=0.02)
        self.assertAlmostEqual(errors["plane"] / errors["mean"], 1.0, delta=0.02)
        with self.assertRaisesRegex(ValueError, "median, mean, mode, plane"):
            measure_apertures(image, x, y, radius_px=3, inner_px=5, outer_px=9, sky="guess")

    def test_median_mean_and_mode_of_a_lopsided_sky(self) -> None:
        rng = np.random.default_rng(5)
        image = rng.exponential(10.0, (60, 60)).astype(np.float32)
        found = {
            sky: float(measure_apertures(image, np.array([30.0]), np.array([30.0]), radius_px=3, inner_px=8, outer_px=24, sky=sky).sky[0])
            for sky in SKY_METHODS
        }
        self.assertLess(found["median"], found["mean"] - 0.5)
        self.assertAlmostEqual(found["mode"], 3 * found["median"] - 2 * found["mean"], places=5)

    def test_a_plane_follows_the_slope_where_half_of_the_annulus_is_hidden(self) -> None:
        rng = np.random.default_rng(6)
        y, x = np.mgrid[:80, :90]
        image = (500 + 3.0 * (x - 40.25) - 2.0 * (y - 38.5) + rng.normal(0, 2, x.shape)).astype(np.float32)
        image[50:53, 25:28] += 4000
        mask = np.zeros(image.shape, np.uint16)
        mask[:, 43:] = int(MaskBit.NO_DATA)
        found = {}
        for sky in ("median", "plane"):
            result = measure_apertures(image, np.array([40.25]), np.array([38.5]), radius_px=2, inner_px=6, outer_px=20, mask=mask, sky=sky)
            found[sky] = float(result.sky[0]), float(result.sky_error[0])
        self.assertLess(abs(found["plane"][0] - 500), 4 * found["plane"][1])
        # Told to a third of a unit, and for the missing side by more than a mean of so many pixels would be.
        self.assertLess(found["plane"][1], 0.4)
        self.assertGreater(found["plane"][1], 2 / math.sqrt(600))
        self.assertLess(found["median"][0], 475)

    def test_of_pixels_in_one_line_no_plane_is_told(self) -> None:
        image = np.full((60, 60), 50.0, dtype=np.float32) + np.random.default_rng(1).normal(0, 1, (60, 60)).astype(np.float32)
        mask = np.full(image.shape, int(MaskBit.NO_DATA), np.uint16)
        mask[30] = mask[28:33, 28:33] = 0
        at = np.array([30.0])
        found = measure_apertures(image, at, at, radius_px=1.5, inner_px=5, outer_px=25, mask=mask, sky="plane")
        self.assertTrue(math.isnan(float(found.sky[0])) and math.isnan(float(found.flux[0])))
        self.assertTrue(math.isfinite(float(measure_apertures(image, at, at, radius_px=1.5, inner_px=5, outer_px=25, mask=mask).sky[0])))


class Beside(unittest.TestCase):
    """Other stars in the annulus and in the aperture."""

    def setUp(self) -> None:
        rng = np.random.default_rng(21)
        self.x, self.y = [60.0, 72.0, 60.5, 47.0], [60.0, 60.0, 73.0, 58.0]
        self.flux = [8000.0, 90000.0, 60000.0, 70000.0]
        image = np.zeros((120, 120))
        add_stars(image, np.array(self.x), np.array(self.y), np.array(self.flux), Psf.with_fwhm(3.0))
        self.image = (image + rng.normal(100, 4, image.shape)).astype(np.float32)
        self.stars = detections(self.x, self.y, self.flux)

    def measured(self, neighbours: Neighbours | None) -> tuple[float, float, float]:
        result = measure_apertures(
            self.image, np.array([60.0]), np.array([60.0]), radius_px=4, inner_px=8, outer_px=16, neighbours=neighbours
        )
        return float(result.sky[0]), float(result.sky_error[0]), float(result.covered[0])

    def test_their_light_is_no_sky(self) -> None:
        circles = Neighbours.of(self.stars, 3.0, 4.0)
        sky, error, covered = self.measured(circles)
        self.assertLess(abs(sky - 100), 4 * error)
        plain, plain_error, nothing = self.measured(None)
        self.assertGreater(plain - 100, 4 * plain_error)
        self.assertEqual(nothing, 0.0)
        y, x = np.mgrid[:120, :120]
        away = np.hypot(x - 60.0, y - 60.0)
        annulus = (away >= 8) & (away <= 16)
        under = np.zeros(annulus.shape, bool)
        for k in (1, 2, 3):
            under |= np.hypot(x - self.x[k], y - self.y[k]) < circles.reach_px[k]
        self.assertAlmostEqual(covered, (under & annulus).sum() / annulus.sum(), places=6)
        # A star stands over 0.3 of the noise within its circle, and hardly beyond.
        self.assertTrue((np.diff(circles.reach_px[np.argsort(self.flux)]) > 0).all())

    def test_the_star_itself_hides_nothing(self) -> None:
        alone = Neighbours.of(detections([60.4], [59.8], [8000.0]), 3.0, 4.0)
        self.assertEqual(self.measured(alone), self.measured(None))

    def test_where_all_is_covered_the_annulus_is_taken_as_it_is(self) -> None:
        everywhere = Neighbours(np.array([75.0]), np.array([60.0]), np.array([60.0]), 1.0)
        sky, _, covered = self.measured(everywhere)
        self.assertEqual(covered, 1.0)
        self.assertEqual(sky, self.measured(None)[0])

    def test_what_stands_in_the_aperture(self) -> None:
        x, y, flux = np.array([60.0, 60.0, 60.0]), np.array([60.0, 60.0, 60.0]), np.array([8000.0, 8000.0, np.nan])
        near = detections([60.3, 64.0], [60.0, 60.0], [8000.0, 41.0])
        told = blended(x, y, flux, near, radius_px=3.0, fwhm_px=3.0)
        self.assertEqual(told.tolist(), [True, True, True])
        self.assertFalse(blended(x[:1], y[:1], flux[:1], detections([60.3, 64.0], [60, 60], [8000, 39]), radius_px=3.0, fwhm_px=3.0)[0])
        self.assertFalse(blended(x[:1], y[:1], flux[:1], detections([60.3, 72.0], [60, 60], [8000, 8000]), radius_px=3.0, fwhm_px=3.0)[0])
        # The wings of one a hundred times as bright reach so far.
        wings = detections([60.3, 72.0], [60, 60], [8000, 8e5])
        self.assertTrue(blended(x[:1], y[:1], flux[:1], wings, radius_px=3.0, fwhm_px=3.0)[0])
        # Each lends less than twice what harms, both together more.
        for far, harm in (([68.6], False), ([68.6, 51.4], True)):
            lends = detections([60.3, *far], [60.0] * (1 + len(far)), [8000.0] + [2.2e4] * len(far))
            self.assertEqual(blended(x[:1], y[:1], flux[:1], lends, radius_px=3.0, fwhm_px=3.0)[0], harm)
        self.assertFalse(blended(np.array([np.nan]), y[:1], flux[:1], near, radius_px=3.0, fwhm_px=3.0)[0])


class Terms(unittest.TestCase):
    """Each term of the error alone, and their sum."""

    def measured(self, **changes: object) -> tuple[NoiseTerms, float, float]:
        rng = np.random.default_rng(2)
        image = np.zeros((90, 90))
        add_stars(image, np.array([45.2]), np.array([44.7]), np.array([50_000.0]), Psf.with_fwhm(3.0))
        self.star = image.copy()
        image += rng.normal(300.0, 6.0, image.shape)
        arguments = {"radius_px": 5.0, "inner_px": 12.0, "outer_px": 30.0, "gain_e_per_adu": 2.0, **changes}
        result = measure_apertures(image.astype(np.float32), np.array([45.2]), np.array([44.7]), **arguments)  # type: ignore[arg-type]
        return result.terms, float(result.flux[0]), float(result.flux_error[0])

    def test_each(self) -> None:
        terms, flux, error = self.measured(read_noise_e=8.0, flat_noise=0.02)
        weights = np.array([[circle_overlap(x - 45.2, y - 44.7, 5.0) for x in range(90)] for y in range(90)])
        squares, area = (weights**2).sum(), weights.sum()
        self.assertAlmostEqual(float(terms.source[0]), math.sqrt(flux / 2.0), places=6)
        self.assertAlmostEqual(float(terms.read[0]), math.sqrt(squares) * 4.0, places=6)
        # Deviations of 6 are known from some 2,300 pixels to 1.5 %.
        self.assertAlmostEqual(float(terms.sky[0]), math.sqrt(squares * (36 - 16)), delta=0.08 * float(terms.sky[0]))
        y, x = np.mgrid[:90, :90]
        away = np.hypot(x - 45.2, y - 44.7)
        pixels = ((away >= 12) & (away <= 30)).sum()
        self.assertAlmostEqual(float(terms.level[0]), area * 6 * math.sqrt(math.pi / 2 / pixels), delta=0.06 * float(terms.level[0]))
        self.assertAlmostEqual(float(terms.flat[0]), 0.02 * math.sqrt((weights**2 * self.star**2).sum()), delta=2.0)
        self.assertEqual(float(terms.filled[0]), 0.0)
        self.assertTrue(math.isnan(float(terms.scintillation[0])))
        parts = (terms.source, terms.read, terms.sky, terms.level, terms.flat)
        self.assertAlmostEqual(error, math.sqrt(sum(float(p[0]) ** 2 for p in parts)), places=6)

    def test_what_is_not_known_is_not_told_apart(self) -> None:
        terms, _, error = self.measured()
        self.assertTrue(math.isnan(float(terms.read[0])))
        with_read, _, same = self.measured(read_noise_e=8.0)
        self.assertAlmostEqual(error, same, places=9)
        self.assertAlmostEqual(float(terms.sky[0]), math.hypot(float(with_read.sky[0]), float(with_read.read[0])), places=9)
        # Read noise that is told too high explains no more than there is.
        most, _, again = self.measured(read_noise_e=800.0)
        self.assertEqual(float(most.sky[0]), 0.0)
        self.assertAlmostEqual(again, error, places=9)
        without, _, none = self.measured(gain_e_per_adu=None, read_noise_e=8.0)
        self.assertTrue(math.isnan(none) and math.isnan(float(without.source[0])))
        self.assertAlmostEqual(float(without.sky[0]), float(terms.sky[0]), places=9)

    def test_air(self) -> None:
        # 0.09 D^(-2/3) X^1.75 exp(-h / 8000) / sqrt(2 t), one and a half times.
        told = scintillation(1.6, 30.0, 400.0, 2400.0)
        self.assertAlmostEqual(told, 1.5 * 0.09 * 40 ** (-2 / 3) * 1.6**1.75 * math.exp(-0.3) / math.sqrt(60), places=12)
        for unknown in ((math.nan, 30, 400, 0), (0.9, 30, 400, 0), (1.2, 0, 400, 0), (1.2, 30, 0, 0), (1.2, 30, 400, math.nan)):
            self.assertTrue(math.isnan(scintillation(*unknown)))
        terms, flux, error = self.measured()
        more = terms.with_scintillation(np.array([-flux]), told)
        self.assertAlmostEqual(float(more.total[0]), math.hypot(error, flux * told), places=6)


class Centres(unittest.TestCase):
    """The middle of the light."""

    def test_a_star_is_found_to_its_noise(self) -> None:
        rng = np.random.default_rng(31)
        gx, gy = (v.ravel() for v in np.meshgrid(np.arange(20, 290, 30.0), np.arange(20, 190, 30.0)))
        x, y = gx + rng.uniform(-0.5, 0.5, gx.size), gy + rng.uniform(-0.5, 0.5, gx.size)
        image = np.zeros((200, 300))
        add_stars(image, x, y, np.full(x.size, 20000.0), Psf.with_fwhm(3.0))
        image += rng.normal(50, 5, image.shape)
        off_x, off_y = x + rng.uniform(-0.7, 0.7, x.size), y + rng.uniform(-0.7, 0.7, x.size)
        found_x, found_y, found = middles_of_light(image.astype(np.float32), off_x, off_y, 3.0)
        self.assertTrue(found.all())
        # Sky noise of 5 moves a centroid of this light by some 0.003 px.
        self.assertLess(np.hypot(found_x - x, found_y - y).max(), 0.025)

    def test_where_nothing_is_the_place_stays(self) -> None:
        rng = np.random.default_rng(32)
        image = rng.normal(50, 5, (80, 80)).astype(np.float32)
        image[40, 47] = 9000
        mask = np.zeros(image.shape, np.uint16)
        mask[40, 47] = int(MaskBit.HOT)
        x, y, found = middles_of_light(image, np.array([40.0, np.nan]), np.array([40.0, 3.0]), 3.0, mask)
        if not found[0]:
            self.assertEqual((x[0], y[0]), (40.0, 40.0))
        self.assertLess(abs(x[0] - 40.0), 3.0)
        self.assertFalse(found[1])
        # Unmasked, what stands far off is no centre of this star.
        x, y, found = middles_of_light(image, np.array([40.0]), np.array([40.0]), 1.5)
        self.assertLess(math.hypot(x[0] - 40, y[0] - 40), 2.0)


class Options(unittest.TestCase):
    """Several radii and ways of the sky, as people write them."""

    def test_lists(self) -> None:
        told = ApertureOptions.parse("1.2,1.5,2fwhm", "12,20", sky="mode", elliptical=True)
        self.assertEqual((told.every, told.in_fwhm, told.sky, told.elliptical), ((1.2, 1.5, 2.0), True, "mode", True))
        self.assertEqual(ApertureOptions.parse("4px, 6px").every, (4.0, 6.0))
        self.assertEqual(told.alone(1.5), ApertureOptions(1.5, True, 12, 20, "mode", True))
        self.assertEqual((told.words(), told.words(1.5), ApertureOptions(4, False).words()), ("1.2 FWHM", "1.5 FWHM", "4 px"))
        for wrong, why in (("4px,2fwhm", "two units"), ("4,4", "twice"), ("4,,5", "not a radius"), ("4,-1", "not a radius")):
            with self.assertRaisesRegex(ValueError, why):
                ApertureOptions.parse(wrong)
        with self.assertRaisesRegex(ValueError, "13 radii"):
            ApertureOptions.parse(",".join(str(k) for k in range(2, 15)))
        with self.assertRaisesRegex(ValueError, "no way to take the sky"):
            ApertureOptions(sky="guess")

    def test_one_annulus_serves_all(self) -> None:
        radii, inner, outer = ApertureOptions.parse("1,2,3fwhm").rings(4.0)
        self.assertEqual(list(radii), [4.0, 8.0, 12.0])
        self.assertEqual((inner, outer), (21.6, 38.400000000000006))
        self.assertEqual(ApertureOptions.parse("1,2,3fwhm").radii(4.0), (4.0, inner, outer))
        with self.assertRaisesRegex(ValueError, "inside the aperture of 12.0 px"):
            ApertureOptions.parse("1,3fwhm", "10,20").radii(4.0)
        with self.assertRaisesRegex(ValueError, "inside the aperture of 12 px"):
            ApertureOptions.parse("5,12", "10,20")
