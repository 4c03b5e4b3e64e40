"""The calibration steps, each against a made-up sensor with known truth."""

import unittest

import numpy as np
from tools.cases import FolderCase
from tools.same import kept

from ulvar.calibration import (
    CalibrateOptions,
    DefectOptions,
    Master,
    Region,
    build_master,
    clean_cosmic_rays,
    correct_overscan,
    dark_excess,
    find_cosmic_rays,
    find_defects,
    make_calibrator,
    parse_region,
    repair,
)
from ulvar.calibration._kernels import laplacian_edges, repair_pixels, subtract_divide
from ulvar.calibration.calibrate import noise_scale, pedestal_for
from ulvar.calibration.prepare import FULL_SCALE, Preparation
from ulvar.frames import ExposureFacts, Frame, MaskBit, Role, scan_file
from ulvar.simulation import Camera, CameraState, Psf, star_field


def master(kind: Role, data: np.ndarray, count: int = 20, level: float = float("nan")) -> Master:
    """Return a master in memory."""
    return Master(data.astype(np.float32), kind, ExposureFacts("m"), count, 0.1, 0.0, (), level_adu=level)


class OnePass(unittest.TestCase):
    """Subtracting and dividing in one pass, with and without each plane."""

    def test_as_numpy_does_it(self) -> None:
        rng = np.random.default_rng(2)
        data, zero, flat = (rng.uniform(1, 9, 60).astype(np.float32) for _ in range(3))
        data[3] = zero[7] = flat[11] = flat[12] = np.nan
        empty = np.empty(0, np.float32)
        for z, f in ((zero, flat), (zero, empty), (empty, flat), (empty, empty)):
            out = np.empty(60, np.float32)
            lost = subtract_divide(data, z, f, out)
            expected = (data - z if z.size else data) * (f if f.size else np.float32(1))
            np.testing.assert_array_equal(out, expected)
            self.assertEqual(lost, int(np.isnan(expected).sum()))


class StepsTold(unittest.TestCase):
    """What was done is told, in its order, for every combination of masters."""

    def test_words(self) -> None:
        plane = np.full((20, 30), 500.0)
        bias, dark = master(Role.BIAS, plane, 11), master(Role.DARK, 2 * plane, 12)
        # A dark without its bias says so by its level.
        bare = master(Role.DARK, 0.01 * plane, 13)
        flat = master(Role.FLAT, plane, 14)
        for planes, scale, words in (
            ({"bias": bias}, 1.0, ["bias subtracted (11 frames)"]),
            ({"dark": dark}, 1.0, ["dark subtracted (12 frames)"]),
            ({"bias": bias, "dark": dark}, 1.0, ["dark subtracted (12 frames)"]),
            ({"bias": bias, "dark": bare}, 1.0, ["bias subtracted (11 frames)", "dark subtracted (13 frames)"]),
            ({"bias": bias, "dark": dark}, 0.5, ["bias subtracted (11 frames)", "dark subtracted, scaled (12 frames)"]),
            ({"bias": bias, "dark": bare}, 0.5, ["bias subtracted (11 frames)", "dark subtracted, scaled (13 frames)"]),
        ):
            made = make_calibrator(scale=scale, **planes)  # type: ignore[arg-type]
            self.assertEqual(list(made.steps), words)
        told = make_calibrator(flat=flat).steps
        self.assertEqual(len(told), 1)
        self.assertIn("flat", told[0])

    def test_what_cannot_be_applied(self) -> None:
        small, large = master(Role.BIAS, np.ones((4, 5))), master(Role.FLAT, np.ones((5, 4)))
        with self.assertRaisesRegex(ValueError, "sizes differ"):
            make_calibrator(bias=small, flat=large)
        with self.assertRaisesRegex(ValueError, "no master"):
            make_calibrator()
        with self.assertRaisesRegex(ValueError, "only with a bias"):
            make_calibrator(dark=master(Role.DARK, np.ones((4, 5))), scale=2.0)
        with self.assertRaisesRegex(ValueError, "defect list"):
            make_calibrator(bias=small, known_defects=np.zeros((5, 4), np.uint16))


class Overscan(unittest.TestCase):
    """Reference pixels take the electronics' wander away."""

    def test_regions(self) -> None:
        self.assertEqual(parse_region("[1:20,1:1024]"), Region(0, 0, 20, 1024))
        self.assertEqual(parse_region(" [20:1, 5:2]"), Region(0, 1, 20, 5))
        self.assertEqual(Region(0, 1, 20, 5).text, "[1:20,2:5]")
        for text in ("", "1:2,3:4", "[0:2,1:3]", "[a:b,1:2]"):
            with self.assertRaises(ValueError, msg=text):
                parse_region(text)

    def test_row_wander_goes_and_little_noise_comes(self) -> None:
        rng = np.random.default_rng(3)
        height, width, strip = 400, 300, 24
        wander = 20 * np.sin(np.linspace(0, 5, height))[:, None]
        raw = 500 + wander + rng.normal(0, 5, (height, width + strip))
        raw[:, strip:] += 100
        raw.setflags(write=False)
        overscan, trim = Region(0, 0, strip, height), Region(strip, 0, width + strip, height)
        for fit, worst in (("rows", 0.6), ("line", 25.0), ("median", 25.0)):
            done = correct_overscan(raw.astype(np.float32), overscan=overscan, trim=trim, fit=fit)  # type: ignore[arg-type]
            self.assertEqual(done.shape, (height, width))
            rows = np.median(done, axis=1) - 100
            self.assertLess(np.abs(rows).max(), worst + 4 * 1.25 * 5 * np.hypot(1 / np.sqrt(width), 1 / np.sqrt(600)), fit)
        smooth = correct_overscan(raw.astype(np.float32), overscan=overscan, trim=trim)
        # 24 columns smoothed over 25 rows leave 1.25 x 5 / sqrt(600) = 0.26 of added noise on 5.
        self.assertLess(abs(float(smooth.std()) / 5 - 1), 0.01)

    def test_outside_is_told(self) -> None:
        with self.assertRaisesRegex(ValueError, "outside the frame"):
            correct_overscan(np.zeros((5, 5), np.float32), overscan=Region(0, 0, 9, 5), trim=None)

    def test_streamed_rows_equal_the_whole(self) -> None:
        from tests.calibration.test_comparing import Held

        rng = np.random.default_rng(3)
        raw = rng.normal(1000, 5, (80, 60)).astype(np.float32)
        plan = Preparation(Region(0, 0, 8, 80), Region(8, 10, 60, 70), linearity=(0.02, 0.01))
        rows = plan.rows(Held(raw))
        self.assertEqual((rows.height, rows.width), (60, 52))
        banded = np.concatenate([rows.rows(y, min(60, y + 7)) for y in range(0, 60, 7)])
        np.testing.assert_allclose(banded, plan.apply(raw), rtol=1e-6)


class Linearity(unittest.TestCase):
    """A sensor that falls short at high levels is put right."""

    def test_polynomial(self) -> None:
        true = np.linspace(0, 50000, 200, dtype=np.float32)[None, :]
        # A response that loses 3 % at full range; its inverse to second order.
        seen = true * (1 - 0.03 * true / FULL_SCALE)
        plan = Preparation(linearity=(0.03, 2 * 0.03**2), zero_adu=300.0)
        back = plan.apply((seen + 300).astype(np.float32)) - 300
        np.testing.assert_allclose(back, true, atol=0.0002 * 50000)
        self.assertGreater(float(np.abs(seen - true).max()), 1000)


class Darks(FolderCase):
    """Scaling a dark, by time and by hot pixels; refused without a bias."""

    def setUp(self) -> None:
        super().setUp()
        self.rng = np.random.default_rng(4)
        self.camera = Camera(260, 200, seed=9, hot_fraction=0.004)

    def mean(self, n: int, state: CameraState) -> np.ndarray:
        return np.mean([self.camera.expose(self.rng, 0.0, state) for _ in range(n)], axis=0)

    def test_scaled_dark(self) -> None:
        bias = master(Role.BIAS, self.mean(40, CameraState(100, 0.0, -15.0)), level=300)
        dark = master(Role.DARK, self.mean(40, CameraState(100, 120.0, -15.0)), level=303)
        raw = self.camera.expose(self.rng, 400.0, CameraState(100, 300.0, -15.0)).astype(np.float32)
        with self.assertRaisesRegex(ValueError, "only with a bias"):
            make_calibrator(dark=dark, scale=2.5)
        done = make_calibrator(dark=dark, bias=bias, scale=2.5)(Frame(raw, ExposureFacts("l")))
        expected = 400.0 * self.camera.flat / 1.3
        hot = self.camera.dark_rate > 3
        # A hot pixel of 3 e/s and more holds over 900 e: without the dark it would stand 700 ADU over the sky.
        self.assertLess(float(np.median(np.abs(done.data - expected)[hot])), 60)
        self.assertIn("dark scaled by 2.5000", done.steps)

    def test_factor_from_hot_pixels(self) -> None:
        bias = self.mean(40, CameraState(100, 0.0, -15.0))
        thermal = (self.mean(60, CameraState(100, 120.0, -15.0)) - bias).astype(np.float32)
        # The sensor was warmer than the header says: twice the dark current.
        light = (self.camera.expose(self.rng, 300.0, CameraState(100, 120.0, -8.7)) - bias).astype(np.float32)
        self.assertAlmostEqual(noise_scale(light, thermal, start=1.0), 2.0, delta=0.06)
        flat = np.zeros((50, 50), np.float32)
        self.assertEqual(noise_scale(flat, flat, start=1.7), 1.7, "without hot pixels the exposure time decides")

    def test_a_dark_whose_bias_was_taken_off(self) -> None:
        bias = master(Role.BIAS, np.full((20, 30), 300.0))
        dark = master(Role.DARK, np.full((20, 30), 4.0))
        done = make_calibrator(dark=dark, bias=bias)(Frame(np.full((20, 30), 1000, np.float32), ExposureFacts("l")))
        self.assertTrue((done.data == 696).all())


class Defective(unittest.TestCase):
    """Hot and cold pixels, columns, clusters: found, counted, repaired, marked."""

    def setUp(self) -> None:
        self.rng = np.random.default_rng(6)
        self.camera = Camera(400, 300, seed=2, hot_fraction=0.003, dead_column=123)
        state = CameraState(100, 240.0, -15.0)
        self.dark = np.mean([self.camera.expose(self.rng, 0.0, state) for _ in range(16)], axis=0).astype(np.float32)
        flat = np.mean([self.camera.expose(self.rng, 40000.0, CameraState(100, 2.0, -15.0)) for _ in range(9)], axis=0)
        self.flat = ((flat - 300) / np.median(flat - 300)).astype(np.float32)

    def test_recall_and_false(self) -> None:
        found = find_defects(dark=self.dark, flat=self.flat)
        hot = (found.mask & MaskBit.HOT) > 0
        # 0.15 e/s more than the usual make 28 ADU in 240 s, over 15 deviations of this master.
        truly = self.camera.hot & (self.camera.dark_rate > 0.4) & (np.arange(400)[None, :] < 300)
        quiet = ~self.camera.hot
        self.assertGreaterEqual(hot[truly].mean(), 0.99)
        self.assertLessEqual(hot[quiet].mean(), 0.001)
        self.assertTrue(((found.mask[:, 123] & MaskBit.COLUMN) > 0).all())
        self.assertEqual(found.counts["columns"], 1)
        self.assertEqual(found.counts["hot"], int(hot.sum()))

    def test_counts_follow_the_threshold(self) -> None:
        excess = dark_excess(self.dark)
        counts = [find_defects(excess=excess, options=DefectOptions(hot_sigma=s)).counts["hot"] for s in (5, 8, 20, 60)]
        self.assertEqual(counts, sorted(counts, reverse=True))
        self.assertEqual(counts[1], int((excess > 8).sum()))

    def test_clusters(self) -> None:
        dark = self.rng.normal(300, 1, (100, 120)).astype(np.float32)
        dark[50:52, 60:62] += 500
        dark[10, 10] += 500
        self.assertEqual(find_defects(dark=dark).counts["clusters"], 1)

    def test_repair_takes_neighbours_of_the_same_colour(self) -> None:
        data = np.zeros((20, 20), np.float32)
        data[::2, ::2], data[1::2, 1::2] = 100, 400
        mask = np.zeros((20, 20), np.uint16)
        data[8, 8], mask[8, 8] = 9000, MaskBit.HOT
        data[3, 3], mask[3, 3] = np.nan, MaskBit.NO_DATA
        count = repair(data, mask, bits=MaskBit.HOT, mosaic=True)
        self.assertEqual((count, data[8, 8]), (1, 100))
        self.assertEqual(mask[8, 8], MaskBit.HOT | MaskBit.REPAIRED)
        self.assertTrue(np.isnan(data[3, 3]))

    def test_a_whole_bad_patch_is_left_and_keeps_its_mark(self) -> None:
        data = np.ones((30, 30), np.float32)
        mask = np.full((30, 30), MaskBit.HOT, np.uint16)
        self.assertEqual(repair(data, mask, bits=MaskBit.HOT), 0)
        self.assertFalse((mask & MaskBit.REPAIRED).any())

    def test_kernel_against_plain_python(self) -> None:
        data = self.rng.normal(0, 1, (25, 30)).astype(np.float32)
        mask = (self.rng.random((25, 30)) < 0.2).astype(np.uint16)
        ys, xs = np.nonzero(mask)
        fast, plain = data.copy(), data.copy()
        done = repair_pixels(fast, mask, np.uint16(1), ys, xs, 1)
        self.assertTrue(done.all())
        for y, x in zip(ys, xs):
            for reach in range(1, 5):
                part = (slice(max(0, y - reach), y + reach + 1), slice(max(0, x - reach), x + reach + 1))
                good = data[part][mask[part] == 0]
                if good.size >= 3:
                    plain[y, x] = np.median(good)
                    break
        np.testing.assert_allclose(fast, plain, rtol=1e-6)

    def test_nothing_given(self) -> None:
        with self.assertRaises(ValueError):
            find_defects()
        with self.assertRaises(ValueError):
            find_defects(dark=self.dark, flat=self.flat[:5])


class CosmicRays(unittest.TestCase):
    """Hits go, stars stay."""

    def setUp(self) -> None:
        self.rng = np.random.default_rng(12)
        n = 120
        self.x, self.y = self.rng.uniform(15, 385, n), self.rng.uniform(15, 285, n)
        self.flux = 10 ** self.rng.uniform(3.2, 5.2, n)
        self.clean = star_field(
            self.rng, width=400, height=300, x=self.x, y=self.y, flux_e=self.flux, psf=Psf.with_fwhm(3.0), sky_e=150.0,
            read_noise_e=6.0,
        )  # fmt: skip

    def hit(self, count: int = 150) -> tuple[np.ndarray, np.ndarray]:
        data, where = self.clean.copy(), np.zeros(self.clean.shape, bool)
        for _ in range(count):
            x, y, angle = self.rng.uniform(5, 395), self.rng.uniform(5, 295), self.rng.uniform(0, np.pi)
            for step in range(1 + int(self.rng.exponential(3))):
                ix, iy = int(x + step * np.cos(angle)), int(y + step * np.sin(angle))
                if 0 <= ix < 400 and 0 <= iy < 300:
                    data[iy, ix] += self.rng.lognormal(np.log(1500), 0.5)
                    where[iy, ix] = True
        return data.astype(np.float32), where

    def test_found_and_repaired(self) -> None:
        data, where = self.hit()
        found = find_cosmic_rays(data, gain_e_per_adu=1.0, read_noise_e=6.0)
        self.assertGreater(found[where].mean(), 0.95)
        # Neighbours of hits are taken in at 1.5 deviations, where noise alone brings one in fifteen: 600 hits
        # with five free neighbours each make 200 of 120,000 pixels at most.
        self.assertLess(found[~where].mean(), 2e-3)
        mask = np.zeros(data.shape, np.uint16)
        count = clean_cosmic_rays(data, mask, gain_e_per_adu=1.0, read_noise_e=6.0)
        self.assertGreater(count, 0.9 * where.sum())
        left = np.abs(data - self.clean)[where]
        self.assertLess(float(np.median(left)), 3 * np.sqrt(150 + 36))
        self.assertTrue(((mask & MaskBit.REPAIRED) > 0)[where & ((mask & MaskBit.COSMIC) > 0)].all())

    def test_stars_stay(self) -> None:
        for gain in (1.0, None):
            found = find_cosmic_rays(self.clean.astype(np.float32), gain_e_per_adu=gain, read_noise_e=6.0)
            # Edges of pure noise scatter by 1.12; 4.5 is four of that, 3 in 100,000, each with its neighbours.
            self.assertLess(found.mean(), 3e-4)
            cores = [found[round(y) - 1 : round(y) + 2, round(x) - 1 : round(x) + 2].any() for x, y in zip(self.x, self.y)]
            self.assertLessEqual(np.mean(cores), 0.02)

    def test_edges_kernel_against_numpy(self) -> None:
        data = self.rng.normal(0, 1, (20, 23)).astype(np.float32)
        out = np.empty_like(data)
        laplacian_edges(data, 1, out)
        fine = np.repeat(np.repeat(data, 2, axis=0), 2, axis=1).astype(float)
        padded = np.pad(fine, 1, mode="edge")
        edge = 4 * fine - padded[:-2, 1:-1] - padded[2:, 1:-1] - padded[1:-1, :-2] - padded[1:-1, 2:]
        expected = np.maximum(edge, 0).reshape(20, 2, 23, 2).mean(axis=(1, 3))
        np.testing.assert_allclose(out, expected, rtol=1e-5, atol=1e-5)
        with self.assertRaises(ValueError):
            find_cosmic_rays(data, gain_e_per_adu=1.0, read_noise_e=1.0, sigma=0)


class WholeChain(unittest.TestCase):
    """All steps at once: order, marks, nothing changed in the input."""

    def test_everything_on(self) -> None:
        rng = np.random.default_rng(1)
        raw = rng.normal(1000, 5, (60, 90)).astype(np.float32)
        raw[20, 50] = 9000
        raw.setflags(write=False)
        dark = rng.normal(900, 1, (50, 80)).astype(np.float32)
        dark[30, 30] += 4000
        options = CalibrateOptions(
            preparation=Preparation(Region(0, 0, 10, 60), Region(10, 10, 90, 60)), repair=True, cosmic=True,
            overlays=(Region(0, 0, 5, 4),), pedestal="auto",
        )  # fmt: skip
        # With the overscan gone the level without light is 0: the dark has its 900 in the raw frame's 1000.
        calibrate = make_calibrator(dark=master(Role.DARK, dark - 900), flat=master(Role.FLAT, np.ones((50, 80))), options=options)
        done = calibrate(Frame(raw, ExposureFacts("l", gain_e_per_adu=1.0, read_noise_e=5.0, saturation_adu=60000.0)))
        self.assertEqual(done.data.shape, (50, 80))
        assert done.mask is not None
        self.assertTrue(np.isnan(done.data[:4, :5]).all() and ((done.mask[:4, :5] & MaskBit.NO_DATA) > 0).all())
        self.assertTrue(done.mask[30, 30] & MaskBit.HOT and done.mask[30, 30] & MaskBit.REPAIRED)
        self.assertTrue(done.mask[10, 40] & MaskBit.COSMIC)
        self.assertLess(abs(float(done.data[10, 40] - np.nanmedian(done.data))), 25)
        self.assertEqual(done.facts.pedestal_adu % 10, 0)
        self.assertGreater(done.facts.pedestal_adu, 0)
        self.assertLessEqual(float(np.nanmean(done.data < 0)), 2e-3)
        words = " | ".join(done.steps)
        order = ["overscan", "trimmed", "dark subtracted", "flat divided", "overlay", "defective", "cosmic", "pedestal"]
        places = [words.index(word) for word in order]
        self.assertEqual(places, sorted(places))
        kept(self, calibrate, done)

    def test_pedestal(self) -> None:
        self.assertEqual(pedestal_for(np.full((10, 10), 5, np.float32), "auto"), 0.0)
        self.assertEqual(pedestal_for(np.full((10, 10), -25, np.float32), "auto"), 30.0)
        self.assertEqual(pedestal_for(np.full((10, 10), -25, np.float32), "off"), 0.0)
        self.assertEqual(pedestal_for(np.full((10, 10), 5, np.float32), 100.0), 100.0)

    def test_two_threads_do_the_same(self) -> None:
        rng = np.random.default_rng(1)
        raw = rng.normal(1000, 5, (61, 91)).astype(np.float32)
        raw[3, 3] = np.nan
        dark, flat = master(Role.DARK, rng.normal(300, 1, raw.shape)), master(Role.FLAT, rng.normal(1, 0.02, raw.shape))
        one = make_calibrator(dark=dark, flat=flat)(Frame(raw, ExposureFacts("l")))
        two = make_calibrator(dark=dark, flat=flat, threads=2)(Frame(raw, ExposureFacts("l")))
        # What the flat's noise adds is known from now on; without a flat what was known before.
        self.assertEqual(one.facts.flat_noise, flat.noise_adu)
        self.assertIsNone(make_calibrator(dark=dark)(Frame(raw, ExposureFacts("l"))).facts.flat_noise)
        before = Frame(raw, ExposureFacts("l", flat_noise=0.25))
        self.assertEqual(make_calibrator(dark=dark)(before).facts.flat_noise, 0.25)
        np.testing.assert_array_equal(one.data, two.data)
        assert one.mask is not None
        self.assertEqual(one.mask[3, 3] & MaskBit.NO_DATA, MaskBit.NO_DATA)
        kept(self, dark, one, two, before)


class OverscanMasters(FolderCase):
    """Masters and lights prepared alike: a bias that wanders from frame to frame no longer matters."""

    def test_wandering_bias(self) -> None:
        rng = np.random.default_rng(5)
        camera = Camera(120, 90, seed=4)
        plan = Preparation(Region(0, 0, 16, 90), Region(16, 0, 136, 90))

        def expose(light: float, wander: float, seconds: float) -> np.ndarray:
            image = camera.expose(rng, light, CameraState(100, seconds, -15.0)).astype(float)
            strip = rng.normal(300, 4.8, (90, 16))
            return np.rint(np.hstack([strip, image]) + wander).astype(np.uint16)

        darks = [scan_file(self.write(f"d{i}.fits", expose(0, 15 * rng.standard_normal(), 60.0), IMAGETYP="dark")) for i in range(8)]
        made = build_master(Role.DARK, darks, preparation=plan)
        assert isinstance(made, Master)
        self.assertEqual((made.count, made.data.shape, made.facts.width), (8, (90, 120), 120))
        calibrate = make_calibrator(dark=made, options=CalibrateOptions(preparation=plan))
        levels = []
        for wander in (-40.0, 0.0, 40.0):
            done = calibrate(Frame(expose(500, wander, 60.0).astype(np.float32), ExposureFacts("l")))
            levels.append(float(np.median(done.data)))
        # One level from 16 x 90 pixels of noise 4.8, for light and master: 0.2 ADU.
        self.assertLess(np.ptp(levels), 1.5)
        self.assertAlmostEqual(levels[1], 500 / 1.3 * float(np.median(camera.flat)), delta=4.0)
        kept(self, plan, made, calibrate, done, camera)


class MasksThatComeWithAFrame(unittest.TestCase):
    """A mask of the raw frame lives on, trimmed with it, beside what the masters' defects add."""

    def test_bits_are_joined(self) -> None:
        dark = np.full((40, 50), 20.0, np.float32)
        dark += np.random.default_rng(1).normal(0, 1, dark.shape).astype(np.float32)
        dark[7, 9] += 500.0
        given = np.zeros(dark.shape, np.uint16)
        given[3, 4] = MaskBit.SATURATED
        given[7, 9] = MaskBit.COSMIC
        calibrate = make_calibrator(dark=master(Role.DARK, dark))
        done = calibrate(Frame(dark + 100, ExposureFacts("l", Role.LIGHT), given))
        self.assertEqual(int(done.mask[3, 4]), int(MaskBit.SATURATED))
        self.assertEqual(int(done.mask[7, 9]), int(MaskBit.COSMIC | MaskBit.HOT | MaskBit.REPAIRED))
        self.assertAlmostEqual(float(done.data[7, 9]), 100.0, delta=10.0)
        kept = make_calibrator(dark=master(Role.DARK, dark), options=CalibrateOptions(repair=False))
        self.assertEqual(int(kept(Frame(dark + 100, ExposureFacts("l"), given)).mask[7, 9]), int(MaskBit.COSMIC | MaskBit.HOT))
        self.assertEqual(int(given[7, 9]), int(MaskBit.COSMIC), "the input is not changed")

    def test_it_is_trimmed_with_the_frame(self) -> None:
        given = np.zeros((40, 50), np.uint16)
        given[12, 17] = MaskBit.SATURATED
        options = CalibrateOptions(preparation=Preparation(trim=Region(10, 5, 45, 38)))
        calibrate = make_calibrator(options=options)
        done = calibrate(Frame(np.full((40, 50), 100.0, np.float32), ExposureFacts("l"), given))
        self.assertEqual(done.mask.shape, (33, 35))
        self.assertEqual([tuple(place) for place in np.argwhere(done.mask)], [(7, 7)])

    def test_saturated_hot_pixels_do_not_scale_a_dark(self) -> None:
        rng = np.random.default_rng(5)
        thermal = rng.normal(0, 1, (80, 90)).astype(np.float32)
        hot = rng.random(thermal.shape) < 0.02
        thermal[hot] = rng.uniform(200, 4000, int(hot.sum()))
        bias = np.full(thermal.shape, 100.0, np.float32)
        light = np.minimum(bias + 3.0 * thermal + 50.0, 5000.0).astype(np.float32)
        calibrate = make_calibrator(
            dark=master(Role.DARK, bias + thermal), bias=master(Role.BIAS, bias), scale=2.0,
            options=CalibrateOptions(dark_scale="noise", mark_defects=False),
        )  # fmt: skip
        done = calibrate(Frame(light, ExposureFacts("l", Role.LIGHT, saturation_adu=5000.0)))
        self.assertIn("dark scaled by 3.0", " ".join(done.steps))
        kept(self, calibrate, done)
