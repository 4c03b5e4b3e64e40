"""Apertures, errors and ensembles."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from tools.cases import FolderCase
from tools.same import kept

from ulvar.frames import MaskBit
from ulvar.photometry import ApertureOptions, StarListError, build_ensemble, circle_overlap, measure_apertures, read_star_list
from ulvar.simulation import Psf, add_stars, star_field
from ulvar.stars import StarFlag


class Overlap(unittest.TestCase):
    """Circle and pixel, exactly."""

    @given(st.floats(0.05, 9.0), st.floats(-0.5, 0.5), st.floats(-0.5, 0.5))
    @settings(max_examples=80, deadline=None)
    def test_pixels_sum_to_the_circle(self, r: float, cx: float, cy: float) -> None:
        total = sum(circle_overlap(x - cx, y - cy, r) for x in range(-11, 12) for y in range(-11, 12))
        self.assertAlmostEqual(total, math.pi * r * r, delta=1e-9)

    def test_against_fine_sampling(self) -> None:
        rng = np.random.default_rng(1)
        steps = (np.arange(1000) + 0.5) / 1000 - 0.5
        for _ in range(30):
            dx, dy, r = *rng.uniform(-4, 4, 2), rng.uniform(0.3, 5)
            sampled = (np.hypot(dx + steps[:, None], dy + steps[None, :]) <= r).mean()
            self.assertAlmostEqual(circle_overlap(dx, dy, r), sampled, delta=2e-3)
            self.assertAlmostEqual(circle_overlap(-dy, dx, r), circle_overlap(dx, dy, r), delta=1e-12)


class Apertures(unittest.TestCase):
    """Flux, error bars, flags."""

    def test_error_bars_are_honest_from_bright_to_faint(self) -> None:
        rng = np.random.default_rng(51)
        gain = 1.6
        gx, gy = np.meshgrid(np.arange(30, 470, 44.0), np.arange(30, 370, 44.0))
        x, y = gx.ravel() + rng.uniform(-0.5, 0.5, gx.size), gy.ravel() + rng.uniform(-0.5, 0.5, gx.size)
        pulls = {3e2: [], 1e3: [], 5e3: [], 3e4: [], 2e5: [], 1e6: []}
        for flux, store in pulls.items():
            for _ in range(6):
                image = star_field(
                    rng, width=500, height=400, x=x, y=y, flux_e=np.full(x.size, flux), psf=Psf.with_fwhm(3.0), sky_e=300, read_noise_e=7,
                    gain_e_per_adu=gain,
                )  # fmt: skip
                result = measure_apertures(image, x, y, radius_px=6, inner_px=11, outer_px=17, gain_e_per_adu=gain)
                inside = np.median(result.flux) * gain
                store.extend((result.flux * gain - inside) / (result.flux_error * gain))
        for flux, store in pulls.items():
            with self.subTest(flux=flux):
                # 480 values: reduced chi-squared is known to 6.5 %; 0.9 to 1.1 is the target.
                self.assertLess(abs(np.mean(np.square(store)) - 1), 0.1 + 0.13)

    def test_no_bias_with_fractional_position(self) -> None:
        image = np.zeros((60, 60))
        from ulvar.simulation import add_stars

        fluxes = []
        for fraction in np.linspace(0, 1, 9):
            image[:] = 0
            add_stars(image, np.array([30 + fraction]), np.array([30.3 - fraction]), np.array([1e5]), Psf.with_fwhm(3.0))
            result = measure_apertures(
                image.astype(np.float32), np.array([30 + fraction]), np.array([30.3 - fraction]), radius_px=6, inner_px=18, outer_px=25,
            )  # fmt: skip
            fluxes.append(result.flux[0])
        self.assertLess(np.ptp(fluxes) / np.mean(fluxes), 3e-4)

    def test_differences_are_unbiased_over_phase_seeing_and_sky(self) -> None:
        """Two stars a hundred times apart in light, without noise: their difference is right to 0.3 mmag."""
        rng = np.random.default_rng(3)
        for fwhm in (2.0, 3.0, 6.0):
            for sky in (5.0, 8000.0):
                for _ in range(8):
                    image = np.full((150, 150), sky)
                    x, y = np.array([45.0, 105.0]) + rng.uniform(-0.5, 0.5, (2, 2))
                    add_stars(image, x, y, np.array([1e4, 1e6]), Psf.with_fwhm(fwhm))
                    radius, inner, outer = ApertureOptions().radii(fwhm)
                    result = measure_apertures(image.astype(np.float32), x, y, radius_px=radius, inner_px=inner, outer_px=outer)
                    off = -2.5 * math.log10(result.flux[0] / result.flux[1]) - 5.0
                    self.assertLess(abs(off), 3e-4, (fwhm, sky))

    def test_unknown_gain_gives_no_error_bar(self) -> None:
        image = np.random.default_rng(2).normal(100, 5, (60, 60)).astype(np.float32)
        result = measure_apertures(image, np.array([30.0]), np.array([30.0]), radius_px=5, inner_px=9, outer_px=14)
        self.assertTrue(np.isnan(result.flux_error[0]))
        self.assertTrue(np.isfinite(result.flux[0]))
        self.assertAlmostEqual(result.area_px[0], math.pi * 25, places=9)

    def test_flags(self) -> None:
        image = np.full((80, 80), 10.0, np.float32)
        mask = np.zeros(image.shape, np.uint16)
        mask[40, 42] = MaskBit.SATURATED
        mask[20, 20] = MaskBit.HOT
        result = measure_apertures(
            image, np.array([40.0, 20.0, 2.0, 60.0, np.nan]), np.array([40.0, 20.0, 40.0, 60.0, 5.0]), radius_px=4, inner_px=7,
            outer_px=12, mask=mask, gain_e_per_adu=1.0,
        )  # fmt: skip
        self.assertEqual(list(result.flags), [StarFlag.SATURATED, StarFlag.BAD_PIXEL, StarFlag.EDGE, 0, StarFlag.EDGE])
        self.assertAlmostEqual(result.flux[3], 0.0, places=4)

    def star(self, x: float = 40.3, y: float = 39.8) -> np.ndarray:
        image = np.full((81, 90), 50.0)
        add_stars(image, np.array([x]), np.array([y]), np.array([1e5]), Psf.with_fwhm(3.0))
        return image.astype(np.float32)

    def one(self, image: np.ndarray, mask: np.ndarray | None = None, **options: float):  # type: ignore[no-untyped-def]
        place = {"radius_px": 6.0, "inner_px": 12.0, "outer_px": 18.0} | options
        return measure_apertures(image, np.array([40.3]), np.array([39.8]), mask=mask, gain_e_per_adu=1.0, **place)  # type: ignore[arg-type]

    def test_masked_pixels_give_way_to_those_at_their_distance(self) -> None:
        image = self.star()
        truth = self.one(image)
        for name, place, tolerance in (("core", (40, 40), 0.03), ("flank", (40, 43), 0.003), ("wing", (35, 42), 2e-4)):
            for kind in ("no value", "hot"):
                with self.subTest(name=name, kind=kind):
                    spoiled, mask = image.copy(), np.zeros(image.shape, np.uint16)
                    if kind == "hot":
                        spoiled[place] += 30000.0
                        mask[place] = MaskBit.HOT
                    else:
                        spoiled[place] = np.nan
                    result = self.one(spoiled, mask)
                    share = abs(result.flux[0] / truth.flux[0] - 1)
                    # The core pixel holds a tenth of the light: without it the flux is 10 % low.
                    self.assertLess(share, tolerance)
                    self.assertLess(share * truth.flux[0], max(result.flux_error[0], 10.0), "the error covers it")
                    self.assertEqual(bool(result.flags[0] & StarFlag.BAD_PIXEL), name != "wing")
                    self.assertAlmostEqual(result.area_px[0], math.pi * 36, places=6)
        self.assertTrue(np.isnan(self.one(np.where(np.hypot(*np.indices(image.shape)) > 0, np.nan, image)).flux[0]))
        kept(self, truth, result)

    def test_masked_pixels_are_no_sky(self) -> None:
        image = self.star()
        mask = np.zeros(image.shape, np.uint16)
        # Most of the annulus is lit: only the mask keeps that light out of the sky.
        y, x = np.indices(image.shape)
        image[(np.hypot(x - 40, y - 40) > 9) & (x > 34)] += 500.0
        wrong = self.one(image)
        self.assertGreater(abs(wrong.sky[0] - 50), 100)
        for bit in (MaskBit.TRAIL, MaskBit.NO_DATA, MaskBit.SATURATED, MaskBit.COSMIC):
            mask[(np.hypot(x - 40, y - 40) > 9) & (x > 34)] = bit
            # What the star's own wings leave in the annulus is under 0.1 ADU.
            self.assertLess(abs(self.one(image, mask).sky[0] - 50), 0.2)

    def test_bent_and_full_pixels_are_told(self) -> None:
        image, mask = self.star(), np.zeros((81, 90), np.uint16)
        mask[40, 41] = MaskBit.NONLINEAR
        self.assertEqual(self.one(image, mask).flags[0], StarFlag.NONLINEAR)
        self.assertAlmostEqual(self.one(image, mask).flux[0], self.one(image).flux[0], places=6)
        mask[40, 40] = MaskBit.SATURATED
        self.assertEqual(self.one(image, mask).flags[0], StarFlag.NONLINEAR | StarFlag.SATURATED)

    def test_each_term_of_the_error_alone(self) -> None:
        rng = np.random.default_rng(7)
        flat = np.full((81, 90), 50.0, np.float32)
        sigma = 4.0
        noisy = flat + rng.normal(0, sigma, flat.shape).astype(np.float32)
        # Sky alone: its pixels in the aperture, and the median of the annulus under all of them.
        result = self.one(noisy)
        area = math.pi * 36
        pixels = math.pi * (18**2 - 12**2)
        expected = math.sqrt(area * sigma**2 + (area * sigma) ** 2 * math.pi / 2 / pixels)
        # 565 pixels give the deviation to 3 %; weights of the rim are under 1, so squares are 5 % under the area.
        self.assertLess(abs(result.flux_error[0] / expected - 1), 0.1)
        # Source alone: no sky noise at all.
        self.assertAlmostEqual(self.one(self.star()).flux_error[0], math.sqrt(self.one(self.star()).flux[0]), delta=1.0)
        # Over a small annulus the sky's own error rules: it grows as 1 / sqrt(pixels).
        small = self.one(noisy, inner_px=12.0, outer_px=13.0)
        count = math.pi * (13**2 - 12**2)
        self.assertLess(abs(small.sky_error[0] / (sigma * math.sqrt(math.pi / 2 / count)) - 1), 0.25)
        kept(self, result, small)

    def test_options(self) -> None:
        self.assertEqual(ApertureOptions.parse("6", "10,15").radii(3.0), (6.0, 10.0, 15.0))
        self.assertEqual(ApertureOptions.parse("1.5fwhm").radii(4.0)[0], 6.0)
        for aperture, annulus in (("x", None), ("0", None), ("6", "15,10"), ("6", "a"), ("-1", None)):
            with self.assertRaises(ValueError):
                ApertureOptions.parse(aperture, annulus)
        for unknown in (math.nan, math.inf, 0.0, -2.0):
            with self.assertRaisesRegex(ValueError, "could not be measured"):
                ApertureOptions(1.5).radii(unknown)
        with self.assertRaisesRegex(ValueError, "inside the aperture"):
            ApertureOptions.parse("12", "10,15")
        with self.assertRaisesRegex(ValueError, "inside the aperture"):
            ApertureOptions.parse("3fwhm", "10,15").radii(4.0)


class StarLists(FolderCase):
    """Star lists, right and wrong."""

    def listed(self, text: str):  # type: ignore[no-untyped-def]
        path = self.folder / "s.csv"
        path.write_text(text)
        return read_star_list(path)

    def test_forms(self) -> None:
        stars = self.listed("name,role,ra,dec\nT,target,07:42:10.5,+41:18:03\na,comparison,115.6,41.2\n")
        self.assertAlmostEqual(stars[0].ra, 115.54375)
        self.assertEqual(stars[1].role, "comparison")
        pixels = self.listed("name,role,x,y\nT,target,10.5,20\n")
        self.assertEqual((pixels[0].x, pixels[0].y, pixels[0].on_sky), (10.5, 20.0, False))
        self.assertEqual((pixels[0].name, pixels[0].role), ("T", "target"))
        pole = self.listed("name,role,ra,dec\nT,check,10,90\nU,check,370,-90\n")
        self.assertEqual([(s.ra, s.dec) for s in pole], [(10.0, 90.0), (10.0, -90.0)])
        kept(self, pole)

    def test_moving_target(self) -> None:
        from datetime import UTC, datetime

        star = self.listed("name,role,ra,dec,time_utc\nM,target,10,5,2027-02-11T20:00:00\nM,target,10.2,5.4,2027-02-11T22:00:00\n")[0]
        np.testing.assert_allclose(star.sky_at(datetime(2027, 2, 11, 21, tzinfo=UTC)), (10.1, 5.2), atol=1e-4)
        self.assertTrue(math.isnan(star.sky_at(datetime(2027, 2, 11, 23, tzinfo=UTC))[0]))

    def test_errors_name_the_line(self) -> None:
        for text, reason in (
            ("a,b\n1,2\n", "needs the columns"), ("name,role,ra,dec\nT,star,1,2\n", "line 2: the role 'star'"),
            ("name,role,ra,dec\nT,target,x,2\n", "line 2"), ("name,role,ra,dec\nT,target,1,2\nT,check,1,3\n", "line 3: the name T stands twice"),
            ("name,role,ra,dec\n", "no star"), ("name,role,ra,dec\n,target,1,2\n", "no name"), ("name,role,ra,dec\nT,target,1,99\n", "outside"),
            ("name,role,ra,dec\nT,target,1,90.5\n", "outside"), ("name,role,ra,dec\nT,target,1,-90.5\n", "outside"),
        ):  # fmt: skip
            with self.subTest(text=text), self.assertRaisesRegex(StarListError, reason):
                self.listed(text)


class Ensembles(unittest.TestCase):
    """Weights follow the noise; a variable comparison is named, steady ones are not."""

    def make(self, rng: np.random.Generator, amplitude: float):  # type: ignore[no-untyped-def]
        n = 80
        sky = 1 - 0.3 * rng.random(n)
        level = np.array([9e4, 7e4, 1.1e5, 5e4, 8e4])
        error = np.sqrt(level)[:, None] * 1.2 * np.ones(n)
        flux = level[:, None] * sky + rng.normal(0, 1, (5, n)) * error
        flux[2] *= 1 + amplitude * np.sin(np.arange(n) / 9)
        return flux, error, sky

    def test_variable_is_named_and_weighs_little(self) -> None:
        flux, error, _ = self.make(np.random.default_rng(61), 0.03)
        ensemble = build_ensemble(list("abcde"), flux, error)
        self.assertEqual(ensemble.suspects, ("c",))
        self.assertLess(ensemble.weights[2], 0.05)

    def test_steady_stars_are_not_named(self) -> None:
        named = 0
        for seed in range(30):
            flux, error, sky = self.make(np.random.default_rng(seed), 0.0)
            ensemble = build_ensemble(list("abcde"), flux, error)
            named += len(ensemble.suspects)
            ratio = ensemble.flux / sky
            self.assertLess(np.std(ratio / np.median(ratio)), 0.004)
        self.assertEqual(named, 0)

    def test_weights_flux_and_errors_by_hand(self) -> None:
        flux, error, _ = self.make(np.random.default_rng(7), 0.0)
        ensemble = build_ensemble(list("abcde"), flux, error)
        relative = flux / np.median(flux, axis=1)[:, None]
        noise = error / np.median(flux, axis=1)[:, None]
        weights = ensemble.weights[:, None]
        np.testing.assert_allclose(ensemble.weights.sum(), 1.0)
        np.testing.assert_allclose(ensemble.flux, (weights * relative).sum(axis=0) * np.median(flux, axis=1).sum())
        told = np.sqrt((weights**2 * noise**2).sum(axis=0)) * np.median(flux, axis=1).sum()
        np.testing.assert_allclose(ensemble.error, told)
        # Photon noise is the square root of the level: brighter stars weigh more.
        self.assertEqual(np.argsort(ensemble.weights).tolist()[0], 3)
        for k in range(5):
            rest = np.delete(np.arange(5), k)
            curve = relative[k] / ((weights * relative)[rest].sum(axis=0) / weights[rest].sum())
            curve /= np.median(curve)
            np.testing.assert_allclose(ensemble.curves[k], curve, rtol=1e-5)
            self.assertAlmostEqual(ensemble.von_neumann[k], float((np.diff(curve) ** 2).mean() / curve.var(ddof=1)), places=4)
            # A star's own photons and those of the others together.
            others = np.sqrt((weights[rest] ** 2 * noise[rest] ** 2).sum(axis=0)) / weights[rest].sum()
            promised = math.hypot(float(np.sqrt(np.median(noise[k] ** 2))), float(np.median(others)))
            self.assertAlmostEqual(ensemble.expected[k], promised, places=6)
        # White noise has a ratio of 2.
        self.assertAlmostEqual(float(np.mean(ensemble.von_neumann)), 2.0, delta=0.3)

    def test_exposures_that_do_not_judge_still_get_a_flux_and_a_curve(self) -> None:
        flux, error, _ = self.make(np.random.default_rng(8), 0.0)
        flux[1, 60:] *= 1.4
        use = np.arange(80) < 60
        ensemble = build_ensemble(list("abcde"), flux, error, use=use)
        self.assertEqual(ensemble.suspects, ())
        self.assertEqual(ensemble.curves.shape, (5, 80))
        self.assertTrue(np.isfinite(ensemble.flux).all() and np.isfinite(ensemble.curves).all())
        # 20 exposures of b are 1.4 times too bright against the others: 1 % of noise each.
        self.assertAlmostEqual(float(np.median(ensemble.curves[1, 60:])), 1.4, delta=0.02)
        self.assertAlmostEqual(float(np.median(ensemble.curves[1, :60])), 1.0, delta=0.01)
        judges = build_ensemble(list("abcde"), flux[:, use], error[:, use])
        np.testing.assert_allclose(ensemble.weights, judges.weights)
        np.testing.assert_allclose(ensemble.flux[use], judges.flux)

    def test_one_star_and_few_exposures(self) -> None:
        alone = build_ensemble(["a"], np.array([[100.0, 90.0, 80.0]]), np.full((1, 3), 2.0))
        np.testing.assert_allclose(alone.flux, [100.0, 90.0, 80.0])
        np.testing.assert_allclose(alone.error, [2.0, 2.0, 2.0])
        self.assertEqual(alone.weights.tolist(), [1.0])
        self.assertTrue(np.isnan(alone.curves).all() and np.isnan(alone.von_neumann).all())
        flux, error, _ = self.make(np.random.default_rng(3), 0.0)
        few = build_ensemble(list("abcde"), flux[:, :7], error[:, :7])
        self.assertTrue(np.isnan(few.von_neumann).all(), "seven exposures tell no trend")
        still = build_ensemble(["a", "b"], np.full((2, 9), 50.0), np.full((2, 9), 1.0))
        self.assertTrue(np.isnan(still.von_neumann).all(), "what does not vary has no ratio")

    def test_missing_values(self) -> None:
        flux, error, _ = self.make(np.random.default_rng(5), 0.0)
        flux[0, :40] = np.nan
        flux[:, 7] = np.nan
        ensemble = build_ensemble(list("abcde"), flux, error)
        self.assertTrue(np.isnan(ensemble.flux[7]))
        self.assertEqual(int(np.isnan(ensemble.flux).sum()), 1)
        with self.assertRaises(ValueError):
            build_ensemble(["a"], np.full((1, 4), np.nan), np.full((1, 4), np.nan))
