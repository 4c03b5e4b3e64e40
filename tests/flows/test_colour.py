"""A colour picture from three stacks: white stars are white, the sky is grey, nebulae stay, up is up."""

import tempfile
import unittest
from pathlib import Path

import cv2
import fitsio
import numpy as np
import tifffile

from tests.registration.test_registration import affine
from ulvar.engine import JobContext
from ulvar.flows import ColourResult, make_colour
from ulvar.frames import ExposureFacts, scan_file, scan_images, write_fits
from ulvar.registration import Transform
from ulvar.simulation import Psf, add_stars
from ulvar.stacking import ColourOptions, channel_filters, smooth_surface, star_balance, stretched, with_luminance

WIDTH, HEIGHT, NOISE = 360, 260, 2.0
SENSITIVITY = {"red": 0.6, "green": 1.0, "blue": 0.4, "luminance": 2.2}
LEVELS = {"red": 300.0, "green": 150.0, "blue": 90.0, "luminance": 500.0}
# A red star and a blue one: light in red, green and blue over that of a white one.
RED, BLUE = (1.8, 1.0, 0.5), (0.6, 1.0, 1.5)
NEBULA = (250.0, 90.0)


class Sky:
    """A field of white stars with a red and a blue one, and a red nebula."""

    def __init__(self, folder: Path) -> None:
        rng = np.random.default_rng(12)
        self.folder = folder
        x, y = np.meshgrid(np.linspace(28, WIDTH - 30, 8), np.linspace(28, HEIGHT - 30, 6))
        self.x, self.y = x.ravel() + rng.uniform(-6, 6, x.size), y.ravel() + rng.uniform(-6, 6, x.size)
        self.flux = 10 ** rng.uniform(3.6, 4.8, x.size)
        self.colour = np.ones((x.size, 3))
        self.colour[10], self.colour[20] = RED, BLUE
        self.flux[[10, 20]] = 5e4

    def write(self, name: str, *, gradient: float = 0.0, nebula: float = 0.0) -> ExposureFacts:
        """Write a channel's stack, moved against green."""
        k = ("red", "green", "blue", "luminance").index(name)
        way = Transform(affine(1.0, (0.01, 0.0, -0.02, 0.005)[k], *((3.4, -2.2), (0.0, 0.0), (-5.1, 4.0), (1.5, 0.7))[k]))
        share = self.colour[:, k] if k < 3 else self.colour.mean(axis=1)
        image = np.zeros((HEIGHT, WIDTH))
        x, y = way(self.x, self.y)
        add_stars(image, x, y, self.flux * share * SENSITIVITY[name], Psf(1.4 + 0.1 * k, 0.0))
        yy, xx = np.mgrid[:HEIGHT, :WIDTH]
        cx, cy = way(np.array([NEBULA[0]]), np.array([NEBULA[1]]))
        blob = np.exp(-((xx - cx) ** 2 + (yy - cy) ** 2) / (2 * 18.0**2))
        image += nebula * (1.0, 0.3, 0.1, 0.5)[k] * blob
        image += LEVELS[name] + gradient * (k + 1) * ((xx / WIDTH) ** 2 - 0.7 * yy / HEIGHT)
        image += np.random.default_rng(50 + k).normal(0, NOISE, image.shape)
        path = self.folder / f"{name}.fits"
        write_fits(path, image.astype(np.float32), cards={"FILTER": name[0].upper(), "OBJECT": "Tarnholt"}, replace=True)
        return scan_file(str(path))


class Made(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        self.sky = Sky(self.folder)

    def make(self, name: str = "out.fits", *, more: tuple[str, ...] = (), depth: int = 16, **options: object) -> ColourResult:
        channels = {n: self.sky.write(n, **self.light) for n in ("red", "green", "blue", *more)}  # type: ignore[arg-type]
        settings = ColourOptions(**options)  # type: ignore[arg-type]
        result = make_colour(channels, self.folder / name, JobContext(), options=settings, depth=depth, replace_existing=True)
        self.assertTrue(result.ok, result.reason)
        return result

    light: dict[str, float] = {}

    def planes(self, result: ColourResult) -> np.ndarray:
        return fitsio.read(result.output)

    def light_of(self, planes: np.ndarray, star: int) -> np.ndarray:
        """Return a star's light in red, green and blue, over what lies around it."""
        y, x = np.mgrid[:HEIGHT, :WIDTH]
        away = np.hypot(x - self.sky.x[star], y - self.sky.y[star])
        ring = (away > 9) & (away < 14)
        return np.array([np.nansum(p[away < 8] - np.nanmedian(p[ring])) for p in planes])

    def white(self) -> np.ndarray:
        """Return the brighter white stars."""
        bright = np.argsort(-self.sky.flux)
        return np.array([i for i in bright if i not in (10, 20)][:16])


class Balance(Made):
    def test_white_stars_are_white_and_others_keep_their_colour(self) -> None:
        result = self.make()
        planes = self.planes(result)
        self.assertEqual(planes.shape, (3, HEIGHT, WIDTH))
        ratios = np.array([self.light_of(planes, i) for i in self.white()])
        ratios /= ratios[:, 1:2]
        # Sixteen stars of SNR 100 and more: their median is known to 0.3 %.
        np.testing.assert_allclose(np.median(ratios, axis=0), 1.0, atol=0.01)
        for star, colour in ((10, RED), (20, BLUE)):
            found = self.light_of(planes, star)
            np.testing.assert_allclose(found / found[1], colour, atol=0.03)
        told = {c.name: c for c in result.channels}
        self.assertAlmostEqual(told["red"].factor, 1 / 0.6, delta=0.02)
        self.assertAlmostEqual(told["blue"].factor, 1 / 0.4, delta=0.03)
        self.assertEqual((told["green"].factor, told["green"].resampled), (1.0, False))
        self.assertGreater(result.balance_stars, 20)
        # The sky is grey: nought in each, and so are its borders but for what no channel shows.
        for plane in planes:
            self.assertLess(abs(np.nanmedian(plane)), 0.3)
        known = np.isfinite(planes)
        self.assertTrue((known == known[0]).all(), "what one channel lacks is no colour")
        self.assertFalse(known.all())
        # Read back it is three planes of one picture.
        self.assertEqual([f.planes for f in scan_images(result.output)], [3, 3, 3])

    def test_without_balance_and_with_ratios(self) -> None:
        plain = self.light_of(self.planes(self.make(balance="none")), self.white()[0])
        np.testing.assert_allclose(plain / plain[1], [0.6, 1.0, 0.4], atol=0.02)
        more = self.light_of(self.planes(self.make(ratios=(2.0, 1.0, 0.5))), self.white()[0])
        np.testing.assert_allclose(more / more[1], [2.0, 1.0, 0.5], rtol=0.03)

    def test_luminance_gives_the_brightness(self) -> None:
        with_it, without = self.make(more=("luminance",)), self.make("plain.fits")
        both, own = self.planes(with_it), self.planes(without)
        for star in (*self.white()[:4], 10):
            found, before = self.light_of(both, star), self.light_of(own, star)
            self.assertAlmostEqual(found.mean() / before.mean(), 1.0, delta=0.03)
            np.testing.assert_allclose((found - found.mean()) / found.mean(), (before - before.mean()) / before.mean(), atol=0.04)
        # Its noise is that of the luminance, brought to the colours' brightness: 2 / 2.2, not what blue has.
        sky = (slice(5, 20), slice(40, WIDTH - 40))
        self.assertLess(np.nanstd(both.mean(axis=0)[sky]), 0.8 * np.nanstd(own.mean(axis=0)[sky]))


class Gradients(Made):
    light = {"gradient": 40.0, "nebula": 60.0}

    def test_a_gradient_goes_and_the_nebula_stays(self) -> None:
        left, gone = self.planes(self.make(gradient=0)), self.planes(self.make(gradient=2))
        y, x = np.mgrid[:HEIGHT, :WIDTH]
        away = np.hypot(x - NEBULA[0], y - NEBULA[1])
        corners = [(slice(8, 28), slice(8, 28)), (slice(-28, -8), slice(-28, -8)), (slice(8, 28), slice(-28, -8))]
        for channel, factor in zip(range(3), (1 / 0.6, 1.0, 1 / 0.4)):
            spans = [np.ptp([np.nanmedian(p[channel][c]) for c in corners]) for p in (left, gone)]
            self.assertGreater(spans[0], 20)
            # What the wings of 60 ADU of nebula pull.
            self.assertLess(spans[1], 4.0 * factor)
            height = np.nanmedian(gone[channel][away < 5]) / factor
            self.assertAlmostEqual(height, 60 * (1.0, 0.3, 0.1)[channel], delta=7)

    def test_a_surface_alone(self) -> None:
        y, x = np.mgrid[:200, :300]
        true = (50 + 0.1 * x - 0.0004 * y**2 + 2e-4 * x * y).astype(np.float32)
        level = true + 80 * np.exp(-((x - 90) ** 2 + (y - 60) ** 2) / 800).astype(np.float32)
        level[150:160] = np.nan
        found = smooth_surface(level, 2, box_px=16)
        self.assertLess(np.abs(found - true).max(), 0.5)
        with self.assertRaisesRegex(ValueError, "too little sky"):
            smooth_surface(np.full((64, 64), np.nan, np.float32), 1)
        # A strip that is lower than half of the distance between places has one row of them.
        np.testing.assert_allclose(smooth_surface(np.tile(np.arange(400, dtype=np.float32), (20, 1)), 0), 191.5, atol=10)


class Files(Made):
    def test_pictures_stand_upright(self) -> None:
        for name, depth in (("out.tif", 16), ("out.tif", 32), ("out.png", 16)):
            result = self.make(name, depth=depth)
            picture = tifffile.imread(result.output) if name.endswith("tif") else cv2.imread(result.output)[:, :, ::-1]
            self.assertEqual(picture.shape, (HEIGHT, WIDTH, 3))
            self.assertEqual(picture.dtype, {"out.png": np.uint8}.get(name, np.uint16 if depth == 16 else np.float32))
            for star, most, least in ((10, 0, 2), (20, 2, 0)):
                row, column = HEIGHT - 1 - round(self.sky.y[star]), round(self.sky.x[star])
                seen = picture[row - 3 : row + 4, column - 3 : column + 4].astype(float).sum(axis=(0, 1))
                self.assertGreater(seen[most], 1.05 * seen[least], (name, depth, star))

    def test_what_is_there_is_kept_and_what_fails_is_named(self) -> None:
        result = self.make()
        before = Path(result.output).read_bytes()
        channels = {n: self.sky.write(n) for n in ("red", "green", "blue")}
        again = make_colour(channels, Path(result.output), JobContext())
        self.assertIn("is kept", again.reason)
        self.assertEqual(Path(result.output).read_bytes(), before)
        with self.assertRaisesRegex(ValueError, "needs blue"):
            make_colour({"red": channels["red"], "green": channels["green"]}, self.folder / "x.fits", JobContext())
        blank = np.random.default_rng(1).normal(100, 2, (HEIGHT, WIDTH)).astype(np.float32)
        write_fits(Path(channels["blue"].path), blank, replace=True)
        channels["blue"] = scan_file(channels["blue"].path)
        failed = make_colour(channels, self.folder / "y.fits", JobContext())
        self.assertRegex(failed.reason, "blue .blue.fits.: too few stars")
        self.assertFalse((self.folder / "y.fits").exists())
        self.assertEqual([bool(c.reason) for c in failed.channels], [False, False, True])


class Parts(unittest.TestCase):
    def test_balance(self) -> None:
        rng = np.random.default_rng(3)
        flux = rng.uniform(1e3, 1e5, (40, 1)) * [0.5, 1.0, 0.25] * rng.normal(1, 0.01, (40, 3))
        flux[:3, 0] *= 4
        flux[5], flux[6, 2], flux[7] = np.nan, -4.0, 0.0
        factors, count = star_balance(flux)
        np.testing.assert_allclose(factors, [2.0, 1.0, 4.0], rtol=0.01)
        self.assertLessEqual(count, 34)
        self.assertEqual(star_balance(flux[:4])[1], 0)
        np.testing.assert_array_equal(star_balance(flux[:4])[0], 1.0)

    def test_filters_of_a_night(self) -> None:
        self.assertEqual(channel_filters(["V", "B", "R"]), {"red": "R", "green": "V", "blue": "B"})
        self.assertEqual(channel_filters(["V", "Green", "L", "H-alpha"]), {"green": "Green", "luminance": "L"})
        self.assertEqual(channel_filters([]), {})

    def test_stretch(self) -> None:
        planes = np.zeros((3, 40, 50), dtype=np.float32)
        planes[:, 10, 10], planes[:, 20, 20], planes[:, 30, 30] = 5, 500, 50_000
        planes[:, 5, 40] = (400, 200, 100)
        planes[0, 0, 0] = np.nan
        shown = stretched(planes, 1.0)
        self.assertTrue(np.isfinite(shown).all() and shown.min() >= 0 and shown.max() <= 1)
        grey = [shown[:, y, x] for y, x in ((2, 2), (10, 10), (20, 20), (30, 30))]
        for one in grey:
            np.testing.assert_allclose(one, one[0], rtol=1e-5)
        self.assertTrue(np.all(np.diff([one[0] for one in grey]) >= 0))
        red, green, blue = shown[:, 5, 40] + 0
        self.assertAlmostEqual((red - 0) / green, 402 / 202, delta=0.02)
        self.assertAlmostEqual(blue / green, 102 / 202, delta=0.02)
        alone = stretched(planes, 1.0, saturation=0.0)[:, 5, 40]
        np.testing.assert_allclose(alone, alone[0], rtol=1e-5)

    def test_luminance(self) -> None:
        planes = np.array([[[3.0]], [[2.0]], [[1.0]]], dtype=np.float32)
        np.testing.assert_allclose(with_luminance(planes, np.array([[10.0]], np.float32)).ravel(), [11, 10, 9])
        np.testing.assert_allclose(with_luminance(planes, np.array([[np.nan]], np.float32)).ravel(), [3, 2, 1])

    def test_options(self) -> None:
        self.assertEqual((ColourOptions().ratios, ColourOptions().saturation), ((1.0, 1.0, 1.0), 1.0))
        for wrong in ({"ratios": (1, 0, 1)}, {"ratios": (1, 1)}, {"balance": "sun"}, {"gradient": 5}, {"saturation": -1}):
            with self.assertRaises(ValueError):
                ColourOptions(**wrong)  # type: ignore[arg-type]
