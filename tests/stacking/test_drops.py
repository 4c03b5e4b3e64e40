"""Variable-pixel reconstruction: areas, light, noise, sharpness, and what exposures do not support."""

import math
import unittest

import fitsio
import numpy as np
from bench.by_hand import overlap_by_hand
from hypothesis import given, settings
from hypothesis import strategies as st
from tools.cases import FolderCase, remember_stars
from tools.same import kept

from ulvar.engine import JobContext
from ulvar.flows import StackOptions, stack_exposures, stack_planes
from ulvar.frames import ExposureFacts, header_of, read_plane, scan_file, write_fits
from ulvar.photometry import measure_apertures
from ulvar.registration import Transform
from ulvar.simulation import Psf, add_stars
from ulvar.stacking import Colours, GridOptions, Normalise
from ulvar.stacking._kernels import square_overlap
from ulvar.stacking.drops import DropInput, noise_correlation, reconstruct


class Rows:
    """Rows of an array."""

    def __init__(self, data: np.ndarray) -> None:
        self.data = data.astype(np.float32)
        self.height, self.width = data.shape

    def rows(self, y0: int, y1: int) -> np.ndarray:
        return self.data[y0:y1].copy()


class Areas(unittest.TestCase):
    @settings(deadline=None)
    @given(
        st.tuples(st.floats(-1, 2), st.floats(-1, 2)), st.floats(0.05, 3), st.floats(0, 7), st.floats(-0.4, 0.4), st.booleans()
    )  # fmt: skip
    def test_any_square_and_what_leans(self, centre: tuple[float, float], side: float, angle: float, lean: float, turned: bool) -> None:
        c, s = math.cos(angle), math.sin(angle)
        shape = np.array([[-0.5, -0.5], [0.5, -0.5], [0.5, 0.5], [-0.5, 0.5]]) @ np.array([[1, lean], [0, 1]])
        corners = side * shape @ np.array([[c, s], [-s, c]]) + centre
        corners = corners[::-1] if turned else corners
        found = square_overlap(np.ascontiguousarray(corners[:, 0]), np.ascontiguousarray(corners[:, 1]))
        self.assertAlmostEqual(found, overlap_by_hand(corners), delta=1e-6)


class Correlation(unittest.TestCase):
    def test_noise_of_large_areas_over_that_of_pixels(self) -> None:
        # By the two branches of the equation, and where they meet.
        for drop, scale, wanted in ((1.0, 1.0, 1.5), (0.5, 1.0, 1.2), (1.0, 2.0, 2.4), (0.5, 3.0, 1.5 / (1 - 1 / 4.5))):
            self.assertAlmostEqual(noise_correlation(drop, scale), wanted)


class Grid(unittest.TestCase):
    """Light, noise and weight on the grid."""

    def inputs(self, count: int, noise: float = 10.0, scale: float = 2.0, **more: float) -> list[DropInput]:
        rng = np.random.default_rng(4)
        made = []
        for _ in range(count):
            way = np.array([[scale, 0.03, rng.uniform(0, scale)], [-0.03, scale, rng.uniform(0, scale)]])
            data = 100 + rng.normal(0, noise, (150, 180))
            values = {"factor": 1.0, "addend_adu": 0.0, "weight": 1.0, "noise_adu": noise} | more
            made.append(DropInput(Rows(data), Transform(way), **values))
        return made

    def test_noise_is_as_told(self) -> None:
        for drop, scale in ((0.7, 2.0), (1.0, 1.0), (0.5, 1.5)):
            with self.subTest(f"{drop} {scale}"):
                shape = (int(150 * scale), int(180 * scale))
                made = reconstruct(self.inputs(24, scale=scale), shape, drop=drop, scale=scale)
                inner = made.data[30:-40, 30:-40]
                self.assertAlmostEqual(float(inner.mean()), 100 / scale**2, delta=0.2)
                self.assertAlmostEqual(float(inner.std() / made.noise[30:-40, 30:-40].mean()), 1.0, delta=0.05)
                size = [n // 10 * 10 for n in inner.shape]
                blocks = inner[: size[0], : size[1]].reshape(size[0] // 10, 10, size[1] // 10, 10).mean(axis=(1, 3))
                measured = float(blocks.std()) * 10 / float(inner.std())
                # As many blocks as there are tell their spread to 3 to 5 %.
                self.assertAlmostEqual(measured / noise_correlation(drop, scale), 1.0, delta=0.15)

    def test_weights_factors_and_holes(self) -> None:
        base = self.inputs(6, noise=0.001)
        data = np.full((150, 180), 100.0)
        data[60:63, 70:73] = np.nan
        # One of half the transparency: its light is doubled, and a level taken off; it counts a third.
        other = DropInput(Rows(data), base[0].way, 2.0, -10.0, 1 / 3, 0.001)
        made = reconstruct([*base, other], (300, 360), drop=0.8, scale=2.0)
        alone = reconstruct([other], (300, 360), drop=1.0, scale=2.0)
        inner = np.isfinite(alone.data)
        self.assertAlmostEqual(float(np.nanmedian(alone.data)), 100 / 4 * 2 - 10, delta=0.05)
        x, y = (round(float(v)) for v in base[0].way(np.array(71.0), np.array(61.0)))
        self.assertTrue(np.isnan(alone.data[y - 1 : y + 2, x - 1 : x + 2]).all())
        self.assertEqual(int((~inner[100:140, 100:140]).sum()), int(np.isnan(alone.data[100:140, 100:140]).sum()))
        expected = (6 * 25 + 40 / 3) / (6 + 1 / 3)
        self.assertAlmostEqual(float(np.nanmedian(made.data)), expected, delta=0.3)
        self.assertEqual(float(made.weight.max()), 1.0)

    def test_drops_that_reach_over_an_edge_leave_their_part(self) -> None:
        # Turned by half a turn about the grid's middle, which is also the data's, nothing is different.
        one, other = (
            reconstruct([DropInput(Rows(np.full((20, 30), 100.0)), Transform.shift(d, d), 1, 0, 1, 1)], (20, 30), drop=0.7, scale=1.0)
            for d in (0.4, -0.4)
        )  # fmt: skip
        np.testing.assert_allclose(one.weight[::-1, ::-1], other.weight, rtol=1e-6)
        self.assertAlmostEqual(float(one.weight[10, -1] / one.weight[10, 10]), 1.0, delta=1e-6)

    def test_bands_change_nothing(self) -> None:
        inputs = self.inputs(5)
        whole = reconstruct(inputs, (700, 360), drop=0.7, scale=2.0)
        small = reconstruct(inputs, (700, 360), drop=0.7, scale=2.0, budget_bytes=1)
        np.testing.assert_allclose(whole.data, small.data, rtol=1e-6)
        np.testing.assert_allclose(whole.noise, small.noise, rtol=1e-6)

    def test_what_exposures_do_not_support(self) -> None:
        self.assertEqual(reconstruct(self.inputs(24), (300, 360), drop=0.8, scale=2.0).problem, "")
        few = reconstruct(self.inputs(3), (300, 360), drop=0.3, scale=2.0)
        self.assertRegex(few.problem, "nothing fell on .* of the pixels")
        alike = [DropInput(Rows(np.ones((80, 90))), Transform(np.array([[2.0, 0, 1.0], [0, 2.0, 1.0]])), 1, 0, 1, 1)] * 9
        self.assertRegex(reconstruct(alike, (160, 180), drop=0.6, scale=2.0).problem, "varies|nothing fell")
        for drop in (0.0, 1.2):
            with self.assertRaisesRegex(ValueError, "a drop"):
                reconstruct(alike, (160, 180), drop=drop, scale=2.0)
        with self.assertRaisesRegex(ValueError, "nothing to"):
            reconstruct([], (10, 10), drop=1.0, scale=1.0)


# Stars narrower than two pixels, in exposures at random places.
WIDTH, HEIGHT, SKY, NOISE, FWHM, COUNT = 220, 180, 100.0, 4.0, 1.8, 14


class Series(FolderCase):
    """From files to a sharper picture, outliers left out."""

    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)
        rng = np.random.default_rng(3)
        self.x, self.y = rng.uniform(12, WIDTH - 12, 45), rng.uniform(12, HEIGHT - 12, 45)
        self.flux = 10 ** rng.uniform(3.6, 4.6, 45)
        self.exposures: list[ExposureFacts] = []
        for k in range(COUNT):
            dx, dy = rng.uniform(-3, 3, 2) if k else (0.0, 0.0)
            image = np.full((HEIGHT, WIDTH), SKY)
            add_stars(image, self.x - dx, self.y - dy, self.flux, Psf.with_fwhm(FWHM))
            image = (image + rng.normal(0, NOISE, image.shape)).astype(np.float32)
            if k == 5:
                image[90, 100], image[40, 150:154] = 900.0, 3000.0
            path = self.folder / f"e{k}.fits"
            cards = {"IMAGETYP": "light", "EXPTIME": 30.0, "EGAIN": 2.0, "DATE-OBS": f"2027-03-01T20:{k:02d}:00"}
            write_fits(path, image, cards=cards)
            self.exposures.append(scan_file(str(path)))
        self.options = StackOptions(reference=self.exposures[0].path, grid=GridOptions(scale=2.0), drop=0.6, normalise=Normalise.LEVEL)

    def widths(self, data: np.ndarray) -> float:
        """Return the median FWHM of stars on the grid by second moments near their core [px of the reference]."""
        found = []
        for x, y in zip(2 * self.x + 0.5, 2 * self.y + 0.5):
            if np.sort(np.hypot(self.x - (x - 0.5) / 2, self.y - (y - 0.5) / 2))[1] < 9:
                continue
            j, i = round(y), round(x)
            box = data[j - 6 : j + 7, i - 6 : i + 7].astype(float) - SKY / 4
            yy, xx = np.mgrid[j - 6 : j + 7, i - 6 : i + 7]
            weight = np.exp(-((xx - x) ** 2 + (yy - y) ** 2) / (2 * 2.0**2))
            moment = (weight * box * ((xx - x) ** 2 + (yy - y) ** 2)).sum() / (weight * box).sum() / 2
            found.append(2.3548 * math.sqrt(1 / (1 / moment - 1 / 4.0)) / 2)
        return float(np.median(found))

    def test_it_is_as_sharp_as_it_can_be_and_keeps_the_light(self) -> None:
        result = stack_exposures(self.exposures, self.folder / "s.fits", JobContext(), options=self.options)
        self.assertTrue(result.ok, result.reason)
        self.assertEqual((result.no_drops, result.uneven), ("", ""))
        made, header = read_plane(result.drops), header_of(result.drops)
        self.assertEqual((header["DROPSIZE"], header["NCOMBINE"]), (0.6, COUNT))
        self.assertAlmostEqual(header["NOISECOR"], noise_correlation(0.6, 2.0), places=3)
        with fitsio.FITS(result.drops) as handle:
            weight, noise = handle["WEIGHT MAP"].read(), handle["NOISE MAP"].read()
        self.assertEqual(weight.shape, made.shape)
        # A square pixel adds 1/12 of its area to the second moment, one of the exposures and a drop; so does the grid's.
        sigma2 = (FWHM / 2.3548) ** 2
        expected = 2.3548 * math.sqrt(sigma2 + 1 / 12 + 0.6**2 / 12 + 0.5**2 / 12)
        self.assertAlmostEqual(self.widths(made) / expected, 1.0, delta=0.06)
        for picture in (made, read_plane(result.output)):
            found = measure_apertures(picture, 2 * self.x + 0.5, 2 * self.y + 0.5, radius_px=11, inner_px=13, outer_px=19)
            alone = [np.sort(np.hypot(self.x - a, self.y - b))[1] > 12 for a, b in zip(self.x, self.y)]
            self.assertAlmostEqual(float(np.median((found.flux / self.flux)[alone])), 1.0, delta=0.001)
        # Particles of one exposure are gone, and stars were not taken for them.
        for x, y in ((100, 90), (151, 40)):
            dx, dy = self.shift_of(5, result)
            j, i = round(2 * (y + dy) + 0.5), round(2 * (x + dx) + 0.5)
            near = made[j - 1 : j + 2, i - 1 : i + 2]
            self.assertLess(float(np.abs(near - SKY / 4).max()), 6 * float(np.nanmedian(noise)) + 0.2 * self.near(i, j))
        quiet = np.isfinite(made) & (made < SKY / 4 + 8)
        self.assertAlmostEqual(
            1.4826 * float(np.median(np.abs(made[quiet] - np.median(made[quiet])))) / float(np.median(noise)), 1.0, delta=0.2,
        )  # fmt: skip

    def near(self, i: int, j: int) -> float:
        """Return the light of stars at a pixel of the grid."""
        image = np.zeros((2 * HEIGHT, 2 * WIDTH))
        add_stars(image, 2 * self.x + 0.5, 2 * self.y + 0.5, self.flux, Psf.with_fwhm(2 * FWHM))
        return float(image[j - 1 : j + 2, i - 1 : i + 2].max())

    def shift_of(self, k: int, result: object) -> tuple[float, float]:
        matrix = result.frames[k].values["matrix"]  # type: ignore[attr-defined]
        # Onto a grid of half the pixels' size.
        return (matrix[0][2] - 0.5) / 2, (matrix[1][2] - 0.5) / 2

    def test_what_it_cannot_go_with_is_told(self) -> None:
        local = StackOptions(reference=self.exposures[0].path, drop=0.6, normalise=Normalise.LOCAL)
        made = stack_exposures(self.exposures[:5], self.folder / "l.fits", JobContext(), options=local)
        self.assertTrue(made.ok)
        self.assertRegex(made.no_drops, "match level and scale")
        plain = StackOptions(align="none", drop=0.6)
        made = stack_exposures(self.exposures[:3], self.folder / "p.fits", JobContext(), options=plain)
        self.assertRegex(made.no_drops, "not aligned")
        few = stack_exposures(
            self.exposures[:3], self.folder / "f.fits", JobContext(),
            options=StackOptions(reference=self.exposures[0].path, grid=GridOptions(scale=3.0), drop=0.2),
        )  # fmt: skip
        self.assertRegex(few.uneven, "nothing fell")
        self.assertIn("nothing fell", " ".join(str(r["value"]) for r in fitsio.read_header(few.drops).records()))
        kept(self, local, plain)

    def test_colours_without_interpolation(self) -> None:
        colours = []
        for k, facts in enumerate(self.exposures):
            data = read_plane(facts.path)
            # A reddish sky of stars: what red shows is twice what green does, blue half.
            data[0::2, 0::2] *= 2
            data[1::2, 1::2] *= 0.5
            cards = {"IMAGETYP": "light", "EXPTIME": 30.0, "BAYERPAT": "RGGB", "DATE-OBS": f"2027-03-01T21:{k:02d}:00"}
            path = self.folder / f"c{k}.fits"
            write_fits(path, data, cards=cards)
            colours.append(scan_file(str(path)))
        options = StackOptions(reference=colours[0].path, drop=1.0, colours=Colours.HALF)
        grey = stack_exposures(colours, self.folder / "grey.fits", JobContext(), options=options)
        self.assertTrue(grey.ok, grey.reason)
        planes = stack_planes(grey, JobContext(), options=options)
        for colour, factor in (("R", 2.0), ("G", 1.0), ("B", 0.5)):
            data = read_plane(planes[colour].drops)
            self.assertEqual(header_of(planes[colour].drops)["FILTER"], colour)
            self.assertAlmostEqual(float(np.nanmedian(data)) / (SKY * factor), 1.0, delta=0.02)
            found = measure_apertures(data, self.x, self.y, radius_px=4, inner_px=7, outer_px=11)
            alone = [np.sort(np.hypot(self.x - a, self.y - b))[1] > 10 for a, b in zip(self.x, self.y)]
            good = np.array(alone) & (self.flux > 8000)
            self.assertAlmostEqual(float(np.median((found.flux / self.flux)[good])) / factor, 1.0, delta=0.05)
