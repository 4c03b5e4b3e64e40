"""Stars on the mosaic of a colour sensor, against simulated truth."""

import math
import shutil
import tempfile
import unittest
from pathlib import Path

import numpy as np
from bench.made_mosaics import CELL, SKY, colour_frame, write_mosaic, write_mosaics
from tools.same import kept

from tests.stars.test_detection import matched
from ulvar.engine import JobContext
from ulvar.flows import FindTask, Scored, StackOptions, stack_exposures, stars_item
from ulvar.frames import ExposureFacts, Frame, read_frame, scan_file
from ulvar.photometry import measure_apertures
from ulvar.stars import DetectOptions, estimate_background, even_frame, even_mosaic, find_stars, measure_quality

READ_NOISE_E = 5.0


class Mosaics(unittest.TestCase):
    """A sensor whose bands see skies of 900, 1100 and 500 ADU, and stars of many colours."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.frame = colour_frame(np.random.default_rng(3), 900, 600, 250, faintest=2.9)
        cls.mosaic = cls.frame["mosaic"].astype(np.float32)
        cls.mosaic.setflags(write=False)
        cls.found = find_stars(cls.mosaic, gain_e_per_adu=1.0, cfa=CELL)

    def expected_noise(self) -> float:
        """Photon and read-out noise of the four pixels on the scale of green, root mean square [e-]."""
        parts = [factor**2 * (SKY[colour] + READ_NOISE_E**2) for colour, (_, factor) in zip(CELL, self.found.bands)]
        return math.sqrt(sum(parts) / 4)

    def test_bands(self) -> None:
        """Skies to a fifth of the noise; factors by stars whose mean colour is white to some per cent."""
        for colour, (sky, factor) in zip(CELL, self.found.bands):
            self.assertAlmostEqual(sky, SKY[colour], delta=0.2 * math.sqrt(SKY[colour]))
            self.assertAlmostEqual(factor, {"R": 1 / 0.7, "G": 1.0, "B": 2.0}[colour], delta=0.15 * factor)

    def test_completeness_and_false_detections(self) -> None:
        distance, _ = matched(self.found, self.frame["x"], self.frame["y"])
        area = 4 * math.pi * (4.0 / 2.3548) ** 2
        snr = self.frame["flux"] / (math.sqrt(area) * self.expected_noise())
        bright = snr > 10
        self.assertGreater(int(bright.sum()), 100)
        self.assertGreater((distance[bright] < 1.5).mean(), 0.96, "but for those that share their place with another")
        true = np.isfinite(distance) & (distance < 1.5)
        self.assertLessEqual(len(self.found.stars) - int(true.sum()), 3)
        grey = find_stars(self.mosaic, gain_e_per_adu=1.0)
        self.assertLess(len(grey.stars), 0.2 * len(self.found.stars), "without its cell the checkerboard hides them")
        kept(self, snr)

    def test_width_level_and_noise(self) -> None:
        self.assertAlmostEqual(self.found.fwhm_px, 4.0, delta=0.06)
        self.assertLess(self.found.ellipticity, 0.06)
        quality = measure_quality(self.found, gain_e_per_adu=1.0, read_noise_e=READ_NOISE_E)
        self.assertAlmostEqual(quality.sky_adu, SKY["G"], delta=2.0)
        self.assertAlmostEqual(quality.expected_noise_adu, self.expected_noise(), delta=0.01 * self.expected_noise())
        self.assertAlmostEqual(quality.noise_adu / quality.expected_noise_adu, 1.0, delta=0.03)

    def test_fluxes_are_on_the_scale_of_green(self) -> None:
        distance, which = matched(self.found, self.frame["x"], self.frame["y"])
        stars = self.found.stars
        sure = (distance < 1) & (self.frame["flux"] > 3e4)
        sure[sure] &= stars.flags[which[sure]] == 0
        ratio = stars.flux[which[sure]] / self.frame["flux"][sure]
        self.assertGreater(int(sure.sum()), 30)
        self.assertAlmostEqual(float(np.median(ratio)), 1.0, delta=0.05)

    def test_skies_that_slope_differently(self) -> None:
        """No checkerboard is left, and the slope is that of green."""
        slope = np.linspace(0, 300, 900, dtype=np.float32)
        sloped = self.mosaic.copy()
        sloped[::2, ::2] += 2 * slope[::2]
        sloped[::2, 1::2] += slope[1::2]
        sloped[1::2, ::2] += slope[::2]
        found = find_stars(sloped, gain_e_per_adu=1.0, cfa=CELL)
        self.assertGreater(len(found.stars), 0.95 * len(self.found.stars))
        self.assertAlmostEqual(found.background.noise_adu, self.found.background.noise_adu, delta=1.0)
        quality = measure_quality(found)
        self.assertAlmostEqual(quality.gradient_adu, 300, delta=25)
        kept(self, found, quality, sloped)

    def test_odd_frames_holes_and_an_empty_band(self) -> None:
        odd = self.mosaic[:501, :703].copy()
        odd[100:110] = np.nan
        found = find_stars(odd, cfa=CELL)
        self.assertGreater(len(found.stars), 50)
        self.assertFalse(((found.stars.y > 101) & (found.stars.y < 108)).any())
        blind = self.mosaic.copy()
        blind[1::2, 1::2] = np.nan
        even = even_mosaic(blind, CELL, hidden=~np.isfinite(blind))
        self.assertEqual(even.bands, ())
        self.assertIs(even.data, blind)
        nothing = find_stars(np.full((64, 64), np.nan, np.float32), cfa=CELL)
        self.assertEqual(len(nothing.stars), 0)
        kept(self, found, even, nothing, odd, blind)

    def test_noise_of_pixels_that_differ(self) -> None:
        """The root mean square of the cell's four noises, to two per cent; together they would seem to have less."""
        rng = np.random.default_rng(8)
        noises = (10.0, 10.0, 10.0, 40.0)
        data = np.empty((512, 512), np.float32)
        for k, noise in enumerate(noises):
            data[k // 2 :: 2, k % 2 :: 2] = rng.normal(500, noise, (256, 256))
        truth = math.sqrt(sum(n**2 for n in noises) / 4)
        self.assertAlmostEqual(estimate_background(data, mosaic=True).noise_adu, truth, delta=0.02 * truth)
        self.assertAlmostEqual(estimate_background(data, mosaic=True).sky_adu, 500, delta=2)


class Apertures(unittest.TestCase):
    """Light summed on a mosaic whose bands are on one scale."""

    def test_fluxes_and_errors(self) -> None:
        """Stars of one brightness wherever they fall on the cell: right on the scale of green, scattered as the errors say."""
        rng = np.random.default_rng(21)
        grid = [(x, y) for x in range(60, 840, 60) for y in range(60, 540, 60)]
        places = np.array(grid) + rng.uniform(-1, 1, (len(grid), 2))
        x, y = places.T
        flux = np.full(len(x), 6e4)
        frame = colour_frame(rng, 900, 600, len(x), at=(x, y, flux))
        facts = ExposureFacts("made-up", width=900, height=600, cfa=CELL, gain_e_per_adu=1.0)
        even = even_frame(Frame(frame["mosaic"].astype(np.float32), facts))
        found = measure_apertures(even.data, x, y, radius_px=8.0, inner_px=13.0, outer_px=22.0, gain_e_per_adu=even.facts.gain_e_per_adu)
        self.assertAlmostEqual(float(np.median(found.flux)) / 6e4, 1.0, delta=0.03)
        # The spread of n values is known to 1 / sqrt(2 n), 7 % of 104; colours that differ add a little.
        spread = float(found.flux.std(ddof=1))
        self.assertLess(spread / float(np.median(found.flux_error)), 1.25)
        self.assertGreater(spread / float(np.median(found.flux_error)), 0.8)

    def test_grey_frames_stay(self) -> None:
        frame = Frame(np.zeros((8, 8), np.float32), ExposureFacts("grey", width=8, height=8))
        self.assertIs(even_frame(frame), frame)


class Files(unittest.TestCase):
    """The cell comes with the file."""

    def test_scoring(self) -> None:
        folder = Path(tempfile.mkdtemp(prefix="ulvar-test-"))
        self.addCleanup(shutil.rmtree, folder, True)
        frame = write_mosaics(folder, 1)
        facts = scan_file(str(folder / "colour0.fits"))
        self.assertIsInstance(facts, ExposureFacts)
        self.assertEqual(facts.cfa, CELL)
        scored = stars_item(FindTask(facts, DetectOptions(), ()))
        self.assertIsInstance(scored, Scored)
        self.assertGreater(scored.quality.stars, 0.9 * len(frame["x"]))
        self.assertAlmostEqual(scored.quality.fwhm_px, 4.0, delta=0.1)

    def test_stacking(self) -> None:
        """A stack of dithered mosaics is grey: no checkerboard, no cell in its header, fluxes of green."""
        folder = Path(tempfile.mkdtemp(prefix="ulvar-test-"))
        self.addCleanup(shutil.rmtree, folder, True)
        rng = np.random.default_rng(30)
        x, y, flux = rng.uniform(30, 470, 80), rng.uniform(30, 370, 80), 10 ** rng.uniform(4.2, 5.4, 80)
        for i, (dx, dy) in enumerate(((0, 0), (1.3, 0.4), (-2.6, 1.9), (0.8, -1.2), (3.1, 2.2), (-1.1, -3.4))):
            frame = colour_frame(rng, 500, 400, 80, at=(x + dx, y + dy, flux))
            write_mosaic(folder / f"colour{i}.fits", frame["mosaic"], i)
        exposures = [scan_file(str(folder / f"colour{i}.fits")) for i in range(6)]
        output = folder / "stack.fits"
        result = stack_exposures(exposures, output, JobContext(), options=StackOptions())
        self.assertTrue(result.ok, result.reason)
        facts = scan_file(str(output))
        self.assertEqual(facts.cfa, "")
        data = read_frame(facts).data
        found = find_stars(data)
        noise = found.background.noise_adu
        self.assertLess(noise, 0.6 * 40, "six exposures of 40 ADU each, smoothed a little by resampling")
        phases = [float(np.nanmedian(data[dy::2, dx::2])) for dy in (0, 1) for dx in (0, 1)]
        # A median of 50,000 pixels is known to 1.25 noise / sqrt(n); what is left of stars is the same in each.
        self.assertLess(max(phases) - min(phases), 8 * 1.25 * noise / math.sqrt(data.size / 4))
        first = find_stars(read_frame(exposures[0]).data, cfa=CELL).stars
        self.assertGreater(len(found.stars), 0.97 * len(first))
        reference = next(i for i, f in enumerate(exposures) if f.path == result.reference)
        dx, dy = ((0, 0), (1.3, 0.4), (-2.6, 1.9), (0.8, -1.2), (3.1, 2.2), (-1.1, -3.4))[reference]
        distance, which = matched(found, x + dx, y + dy)
        sure = (distance < 1) & (flux > 4e4)
        self.assertGreater(int(sure.sum()), 20)
        self.assertAlmostEqual(float(np.median(found.stars.flux[which[sure]] / flux[sure])), 1.0, delta=0.04)
