"""Colour pictures: interpolation, neutral sky, hues, and the window's button for them."""

import itertools
import tempfile
import unittest
from pathlib import Path

import fitsio
import numpy as np
import tifffile
from bench.made_mosaics import CELL, colour_frame, write_mosaics
from tools.window_cases import WindowCase

from ulvar.desktop.picture.colour import interpolated, stretched
from ulvar.desktop.picture.pictures import colour_path, colours_of, make_picture
from ulvar.desktop.picture.stretch import STRETCHES, Sample, Stretch, auto_stretch
from ulvar.frames import cell_colours, is_mosaic, on_one_scale, scan_file, white_balance
from ulvar.frames.readers import scan_images

NEUTRAL = ((0.0, 1.0),) * 3
CELLS = ("RGGB", "BGGR", "GRBG", "GBRG")


def mosaic_of(colours: np.ndarray, cfa: str) -> np.ndarray:
    """Return what a sensor with this cell sees of a colour picture."""
    result = np.zeros(colours.shape[:2], dtype=np.float32)
    for k, colour in enumerate(cfa):
        result[k // 2 :: 2, k % 2 :: 2] = colours[k // 2 :: 2, k % 2 :: 2, "RGB".index(colour)]
    return result


class Interpolating(unittest.TestCase):
    """From one value a pixel to three."""

    def test_cells(self) -> None:
        for cell in ("RGGB", "BGGR", "GRBG", "GBRG"):
            self.assertTrue(is_mosaic(cell), cell)
        for cell in ("", "RGB", "RGBG", "RRGB", "GGRB", "RGGBX", "TRUE"):
            self.assertFalse(is_mosaic(cell), cell)

    def test_even_colours_and_slopes_come_back(self) -> None:
        """A plane in each band, equally steep in all, is told exactly: inside everywhere, for every cell."""
        ys, xs = np.mgrid[:24, :31].astype(np.float32)
        truth = np.stack([100 + 2 * xs - ys, 500 + 2 * xs - ys, 300 + 2 * xs - ys], axis=2)
        for cell in CELLS:
            mosaic = mosaic_of(truth, cell)
            whole = interpolated(mosaic, cell, 0, 0, 31, 24)
            self.assertEqual(whole.shape, (24, 31, 3))
            np.testing.assert_allclose(whole[2:-2, 2:-2], truth[2:-2, 2:-2], atol=1e-3)
            np.testing.assert_allclose(
                cell_colours(mosaic, cell)[3, 5],
                [truth[y, x, b] if b != 1 else self._mean_green(truth, cell, 6, 10) for y, x, b in self._sites(cell, 6, 10)],
                atol=1e-3,
            )  # fmt: skip

    @staticmethod
    def _sites(cell: str, y: int, x: int) -> list[tuple[int, int, int]]:
        return [(y + cell.index(c) // 2, x + cell.index(c) % 2, b) for b, c in enumerate("RGB")]

    @staticmethod
    def _mean_green(truth: np.ndarray, cell: str, y: int, x: int) -> float:
        return float(np.mean([truth[y + k // 2, x + k % 2, 1] for k in range(4) if cell[k] == "G"]))

    def test_a_part_is_like_the_whole(self) -> None:
        """What is interpolated does not hang on where the part begins."""
        rng = np.random.default_rng(1)
        mosaic = rng.normal(100, 9, (30, 40)).astype(np.float32)
        balance = ((90.0, 1.5), (100.0, 1.0), (80.0, 0.7))
        for cell in CELLS:
            whole = interpolated(mosaic, cell, 0, 0, 40, 30, balance)
            for x0, y0 in itertools.product((0, 1, 5, 8), (0, 3, 4)):
                part = interpolated(mosaic, cell, x0, y0, x0 + 9, y0 + 10, balance)
                inside = np.s_[2:-2, 2:-2]
                np.testing.assert_allclose(part[inside], whole[y0 : y0 + 10, x0 : x0 + 9][inside], rtol=1e-5)

    def test_own_pixels_are_kept(self) -> None:
        """Where a colour was measured, it is shown as it was measured, on whatever scale the bands are compared."""
        mosaic = np.random.default_rng(2).uniform(0, 4000, (20, 20)).astype(np.float32)
        found = interpolated(mosaic, CELL, 0, 0, 20, 20, ((10.0, 2.0), (30.0, 1.0), (20.0, 0.5)))
        np.testing.assert_allclose(mosaic_of(found, CELL), mosaic, rtol=1e-4)


class Balancing(unittest.TestCase):
    """Neutral sky, white stars."""

    def test_sky_is_neutral_and_stars_are_white_on_average(self) -> None:
        frame = colour_frame(np.random.default_rng(3))
        colours = cell_colours(frame["mosaic"].astype(np.float32), CELL)
        balance = white_balance(colours)
        # The sample of the sky has a scatter of the square root of its electrons over the root of the pixels.
        for band, level in enumerate((900.0, 1100.0, 500.0)):
            self.assertAlmostEqual(balance[band][0], level, delta=6 * np.sqrt(level / colours[..., 0].size) + 0.02 * level)
        # Red takes 0.7 and blue 0.5 of what green takes; a hundred stars of both kinds are white within their scatter.
        self.assertAlmostEqual(balance[0][1], 1 / 0.7, delta=0.25)
        self.assertAlmostEqual(balance[2][1], 1 / 0.5, delta=0.35)
        self.assertEqual(balance[1][1], 1.0)

    def test_a_flat_is_neutral_by_its_levels(self) -> None:
        ys, xs = np.mgrid[:80, :120]
        shape = 1 - 0.2 * ((xs / 60 - 1) ** 2 + (ys / 40 - 1) ** 2)
        rng = np.random.default_rng(4)
        levels = np.array([12000.0, 20000.0, 8000.0])
        flat = (shape[..., None] * levels + rng.normal(0, 60, (80, 120, 3))).astype(np.float32)
        for (offset, factor), level in zip(white_balance(flat), levels):
            self.assertAlmostEqual(offset * factor, 20000 * float(np.median(shape)), delta=0.01 * 20000)
            self.assertAlmostEqual(factor, 20000 / level, delta=0.01 * 20000 / level)

    def test_nothing_finite(self) -> None:
        self.assertEqual(white_balance(np.full((4, 4, 3), np.nan, dtype=np.float32)), NEUTRAL)

    def test_one_scale_to_measure_on(self) -> None:
        mosaic = mosaic_of(np.full((6, 8, 3), (90.0, 200.0, 50.0)), "GBRG")
        even = on_one_scale(mosaic, "GBRG", ((90.0, 2.0), (200.0, 1.0), (50.0, 4.0)))
        np.testing.assert_allclose(even, 200.0)


class Showing(unittest.TestCase):
    """Stretches of colours."""

    def test_hues_stay(self) -> None:
        """The share of each band is the same in the shadows as near white, whatever the stretch."""
        light = np.linspace(40, 900, 50, dtype=np.float32)
        colours = np.stack([1.2 * light, light, 0.8 * light], axis=1)[None]
        quantiles = np.sort(colours.mean(axis=2).ravel())
        for name in STRETCHES:
            shown = stretched(colours, Stretch(name, 0.0, 1200.0), NEUTRAL, quantiles)[0].astype(float)
            bright = shown[shown.max(axis=1) > 60]
            self.assertGreater(len(bright), 5, name)
            # Each of the two values is cut to a whole number.
            np.testing.assert_allclose(bright[:, 0] / bright[:, 1], 1.2, atol=1.2 * 2 / 50)
            self.assertTrue((np.diff(shown[:, 1]) >= 0).all(), name)

    def test_bright_stars_keep_their_hue(self) -> None:
        star = np.array([[[9000.0, 3000.0, 3000.0]]], dtype=np.float32)
        shown = stretched(star, Stretch("Linear", 0, 1000), NEUTRAL, np.array([0.0, 1.0]))[0, 0]
        self.assertEqual(shown[0], 255)
        self.assertLess(shown[1], 100)

    def test_inverted_and_gaps(self) -> None:
        values = np.array([[[np.nan] * 3, [0.0] * 3, [900.0] * 3]], dtype=np.float32)
        plain = stretched(values, Stretch("Asinh", 0, 1000), NEUTRAL, np.array([0.0, 1.0]))
        self.assertEqual(plain[0, 0].tolist(), [0, 0, 0])
        swapped = stretched(values, Stretch("Asinh", 0, 1000, inverted=True), NEUTRAL, np.array([0.0, 1.0]))
        np.testing.assert_array_equal(swapped, 255 - plain)

    def test_auto_shows_sky_dark_and_stars_bright(self) -> None:
        with tempfile.TemporaryDirectory() as place:
            frame = write_mosaics(Path(place), 1)
            picture = make_picture(colour_path(str(Path(place) / "colour0.fits"), CELL))
        stretch = auto_stretch(picture.sample, Stretch())
        shown = stretched(picture.levels[1], stretch, picture.balance, picture.sample.values).astype(float)
        sky = np.median(shown.reshape(-1, 3), axis=0)
        self.assertTrue((sky < 90).all(), sky)
        self.assertLess(np.ptp(sky), 12, "the sky has no hue")
        red, blue = (shown[round(frame["y"][i] / 2), round(frame["x"][i] / 2)] for i in (0, 1))
        self.assertGreater(red[0], 1.5 * red[2])
        self.assertGreater(blue[2], 1.5 * blue[0])

    def test_a_sample_of_nothing(self) -> None:
        sample = Sample.of(np.full((3, 3), np.nan))
        self.assertEqual(auto_stretch(sample, Stretch(floor=3.0)).floor, 3.0)
        self.assertEqual(sample.histogram(0, 1, 4).sum(), 0)


class Reading(unittest.TestCase):
    """Colour pictures from files."""

    def test_mosaic_gaps_do_not_spread(self) -> None:
        with tempfile.TemporaryDirectory() as place:
            mosaic = np.random.default_rng(6).normal(1000, 10, (800, 900)).astype(np.float32)
            mosaic[100, 200] = np.nan
            fitsio.write(f"{place}/gap.fits", mosaic)
            picture = make_picture(colour_path(f"{place}/gap.fits", "GRBG"))
        self.assertEqual(picture.shape, (800, 900))
        self.assertEqual(picture.levels[1].shape, (400, 450, 3))
        self.assertEqual(int((~np.isfinite(picture.levels[1])).sum()), 0)
        self.assertTrue(np.isnan(picture.data[100, 200]), "what is measured stays as it is")

    def test_three_planes(self) -> None:
        planes = np.random.default_rng(7).normal(500, 5, (3, 40, 60)).astype(np.float32)
        planes[0] += 400
        with tempfile.TemporaryDirectory() as place:
            fitsio.write(f"{place}/cube.fits", planes)
            tifffile.imwrite(f"{place}/rgb.tif", np.moveaxis(planes, 0, -1).astype(np.uint16), photometric="rgb")
            for name in ("cube.fits", "rgb.tif"):
                facts = scan_images(f"{place}/{name}")[1]
                self.assertEqual(colours_of(facts), "planes")
                picture = make_picture(colour_path(facts.path, "planes"))
                self.assertEqual(picture.levels[0].shape, (40, 60, 3), name)
                self.assertAlmostEqual(picture.balance[0][0] - picture.balance[1][0], 400, delta=4)
                self.assertAlmostEqual(float(picture.data.mean()), 500 + 400 / 3, delta=4)


class InTheWindow(WindowCase):
    """A night of a colour camera."""

    def setUp(self) -> None:
        super().setUp()
        self.truth = write_mosaics(self.folder / "lights")
        self.assertTrue(self.window.model.open(self.folder / "lights"))
        self.idle()
        self.until(lambda: self.window.sky.settled, 20, "the picture")

    def pixel(self, i: int) -> tuple[int, int, int]:
        """Return what the screen shows at a star."""
        canvas = self.window.sky.canvas
        place = canvas.sight.to_screen(self.truth["x"][i], self.truth["y"][i])
        shown = canvas.grab().toImage().pixelColor(place.toPoint())
        return shown.red(), shown.green(), shown.blue()

    def test_colours_are_shown_and_taken_away(self) -> None:
        sky = self.window.sky
        self.assertEqual(scan_file(self.window.model.current).cfa, CELL)
        self.assertTrue(sky.header.toggles["colour"].isVisible())
        red, _, blue = self.pixel(0)
        self.assertGreater(red, blue + 40, "the red star")
        red, _, blue = self.pixel(1)
        self.assertGreater(blue, red + 40, "the blue star")
        self.assertFalse(sky.foot.colour_box.isEnabled(), "colour maps are for grey pictures")
        self.click(sky.header.toggles["colour"])
        self.until(lambda: sky.settled and not sky.canvas.picture.balance, 20, "the grey picture")
        red, green, blue = self.pixel(0)
        self.assertTrue(red == green == blue)
        self.assertTrue(sky.foot.colour_box.isEnabled())
        # Without hues in the theme for the dark nothing but red is lit.
        self.click(sky.header.toggles["colour"])
        self.until(lambda: sky.settled and sky.canvas.picture.balance, 20, "the colours again")
        self.window.command("theme red")
        _, green, blue = self.pixel(1)
        self.assertEqual((green, blue), (0, 0))

    def test_levels_by_hand_and_close_up(self) -> None:
        sky = self.window.sky
        histogram = sky.foot.histogram
        before = self.pixel(2)
        x = histogram._x(sky.canvas.stretch.ceiling)
        start = histogram.rect().center()
        start.setX(round(x))
        self.drag(histogram, start.toPointF(), start.toPointF() + (histogram.rect().topRight() - start).toPointF() / 3)
        self.assertTrue(sky.foot.keep.isChecked())
        self.assertLess(sum(self.pixel(2)), sum(before), "a higher ceiling dims")
        # A star's width is that of the bands on one scale: 4 px, as it was made; the mosaic as it is would scatter.
        self.click(sky.header.toggles["closeup"])
        place = sky.canvas.sight.to_screen(self.truth["x"][1], self.truth["y"][1])
        self.click(sky.canvas, place.x(), place.y())
        words = sky.tools.star.words.text()
        self.assertIn("FWHM", words)
        fwhm = float(words.split("FWHM ")[1].split(" px")[0])
        self.assertAlmostEqual(fwhm, 4.0, delta=0.3)

    def test_grey_exposures_offer_no_colours(self) -> None:
        grey = self.folder / "grey"
        grey.mkdir()
        header = [{"name": "IMAGETYP", "value": "Light Frame"}]
        fitsio.write(str(grey / "a.fits"), np.full((50, 60), 7, dtype=np.uint16), header=header)
        self.window.model.open(grey)
        self.idle()
        self.until(lambda: self.window.sky.settled, 20, "the picture")
        self.assertFalse(self.window.sky.header.toggles["colour"].isVisible())
        self.window.command("toggle colour")
        self.assertIn("grey", self.window.toast.text())
