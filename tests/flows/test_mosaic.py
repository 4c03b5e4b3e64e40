"""Mosaics of pointings: laid beside each other all at once, levels matched in overlaps, no seams."""

import math
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from tools.cases import remember_stars

from tests.cli.support import Command
from ulvar.engine import JobContext
from ulvar.flows import StackOptions, StackResult, stack_exposures
from ulvar.flows.mosaicking import align_mosaic
from ulvar.flows.starfind import find_all
from ulvar.frames import ExposureFacts, read_plane, robust_spread, scan_file, write_fits
from ulvar.photometry import measure_apertures
from ulvar.registration.adjusting import Link, _Camera, _rotation, adjust_mosaic
from ulvar.simulation import Psf, add_stars
from ulvar.stacking import GridOptions

WIDTH, HEIGHT, FOCAL, NOISE, SKY = 260, 200, 9000.0, 5.0, 300.0
COLUMNS, ROWS = 4, 3


def looking(rng: np.random.Generator, columns: int, rows: int, size: tuple[int, int], focal: float) -> list[_Camera]:
    """Return pointings that overlap by a quarter, each turned and scaled a little, a row of them upside down."""
    height, width = size
    cameras = []
    for row in range(rows):
        for column in range(columns):
            camera = _Camera(((width - 1) / 2, (height - 1) / 2), focal, stretch=float(rng.normal(0, 3e-4)))
            right, up = ((column - (columns - 1) / 2) * 0.72 * width / focal, (row - (rows - 1) / 2) * 0.72 * height / focal)
            roll = float(rng.uniform(-0.12, 0.12)) + (math.pi if row == 1 else 0.0)
            turn = [np.array([0, right, 0.0]), np.array([-up, 0, 0.0]), np.array([0, 0, roll])]
            camera.turned = _rotation(turn[0]) @ _rotation(turn[1]) @ _rotation(turn[2])
            cameras.append(camera)
    return cameras


def seen(camera: _Camera, stars: np.ndarray) -> np.ndarray:
    """Return the places of directions (n, 3) in an exposure [px]."""
    v = stars @ camera.turned
    f = camera.focal_px * math.exp(camera.stretch)
    return np.column_stack([camera.sign * f * v[:, 0] / v[:, 2], f * v[:, 1] / v[:, 2]]) + camera.centre


def directions(rng: np.random.Generator, count: int, half: tuple[float, float]) -> np.ndarray:
    """Return unit vectors strewn over a field."""
    stars = np.column_stack([rng.uniform(-half[0], half[0], count), rng.uniform(-half[1], half[1], count), np.ones(count)])
    return stars / np.linalg.norm(stars, axis=1, keepdims=True)


class Adjusting(unittest.TestCase):
    """Truth: twelve cameras, stars with errors, some pairs wrong."""

    def links(self, cameras: list[_Camera], stars: np.ndarray, error: float, rng: np.random.Generator) -> list[Link]:
        true = [seen(camera, stars) for camera in cameras]
        inside = [((p > 0) & (p < (600, 400))).all(axis=1) for p in true]
        observed = [p + rng.normal(0, error, p.shape) for p in true]
        links = []
        for i in range(len(cameras)):
            for j in range(i + 1, len(cameras)):
                both = np.flatnonzero(inside[i] & inside[j])
                if len(both) >= 8:
                    others = observed[j][both].copy()
                    others[: len(both) // 12] += 15.0
                    links.append(Link(i, j, observed[i][both], others, cameras[i].sign != cameras[j].sign))
        return links

    def test_places_come_back(self) -> None:
        rng = np.random.default_rng(2)
        for mirrored, focal, told in ((False, 20000.0, 20000.0), (True, 2500.0, 2500.0), (False, 2e5, None)):
            cameras = looking(rng, COLUMNS, ROWS, (400, 600), focal)
            if mirrored:
                cameras[5].sign = -1.0
            half = 1.6 * 600 / focal, 1.3 * 400 / focal
            links = self.links(cameras, directions(rng, 5000, half), 0.08, rng)
            found = adjust_mosaic([(400, 600)] * 12, links, focal_px=told)
            with self.subTest(focal=focal, mirrored=mirrored):
                self.assertEqual(len(found.maps), 12)
                self.assertIn(found.reference, (5, 6))
                # Of the stars some places were used up by the fit.
                self.assertAlmostEqual(found.rms_px / 0.08, 0.97, delta=0.1)
                x, y = np.meshgrid([0.0, 300.0, 599.0], [0.0, 200.0, 399.0])
                base = cameras[found.reference]
                for k, way in found.maps.items():
                    true = np.column_stack([x.ravel(), y.ravel(), np.ones(9)]) @ cameras[k].onto(base).T
                    off = np.column_stack([c.ravel() for c in way(x, y)]) - true[:, :2] / true[:, 2:]
                    # Some 60 stars of 0.08 px an overlap, three overlaps to the corners.
                    self.assertLess(float(np.hypot(*off.T).max()), 0.5)
                    self.assertLess(float(np.hypot(*off.T).mean()), 0.2)

    def test_sets_that_do_not_hang_together(self) -> None:
        rng = np.random.default_rng(3)
        cameras = looking(rng, 4, 1, (400, 600), 20000.0)
        links = [k for k in self.links(cameras, directions(rng, 3000, (0.06, 0.03)), 0.05, rng) if (k.first, k.second) != (1, 2)]
        found = adjust_mosaic([(400, 600)] * 5, links, focal_px=20000.0)
        self.assertEqual((sorted(found.maps), found.apart), ([0, 1], ((2, 3),)))
        other = adjust_mosaic([(400, 600)] * 5, links, focal_px=20000.0, reference=3)
        self.assertEqual((sorted(other.maps), other.reference), ([2, 3], 3))
        with self.assertRaisesRegex(ValueError, "no two"):
            adjust_mosaic([(10, 10)] * 2, [])


class Backwards(JobContext):
    """Work of which the last item is done first."""

    def each(self, *given: Any, **more: Any) -> Iterator[Any]:
        yield from reversed(list(super().each(*given, **more)))


class Pointings(Command):
    """Twelve exposures on disk with sky, slopes and transparency of their own."""

    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)
        self.rng = np.random.default_rng(8)
        self.cameras = looking(self.rng, COLUMNS, ROWS, (HEIGHT, WIDTH), FOCAL)
        self.stars = directions(self.rng, 1500, (1.7 * WIDTH / FOCAL, 1.45 * HEIGHT / FOCAL))
        self.flux = 10 ** self.rng.uniform(3.2, 4.8, len(self.stars))

    def write(self, **cards: object) -> list[ExposureFacts]:
        made = []
        for k, camera in enumerate(self.cameras):
            x, y = seen(camera, self.stars).T
            image = np.zeros((HEIGHT, WIDTH))
            near = (np.abs(x - WIDTH / 2) < WIDTH) & (np.abs(y - HEIGHT / 2) < HEIGHT)
            clear = float(self.rng.uniform(0.75, 1.0))
            add_stars(image, x[near], y[near], self.flux[near], Psf.with_fwhm(3.0))
            yy, xx = np.mgrid[-1 : 1 : HEIGHT * 1j, -1 : 1 : WIDTH * 1j]
            level = SKY + self.rng.uniform(-60, 60) + self.rng.uniform(-15, 15) * xx + self.rng.uniform(-15, 15) * yy
            image = image * clear + level + self.rng.normal(0, NOISE, image.shape)
            path = self.folder / "raw" / f"p{k:02d}.fits"
            told = {"IMAGETYP": "light", "EXPTIME": 60.0, "FILTER": "V", "OBJECT": f"Field {k}", "EGAIN": 1.0} | cards
            write_fits(path, image.astype(np.float32), cards=told)
            made.append(scan_file(str(path)))
        return made

    def check(self, result: StackResult) -> np.ndarray:
        """Look at light, places, sky and seams; returns the steps at edges."""
        self.assertTrue(result.ok, result.reason)
        self.assertEqual(sum(o.ok for o in result.frames), 12)
        data = read_plane(result.output)
        assert result.stacked is not None
        base = next(k for k in range(12) if f"p{k:02d}.fits" in result.reference)
        # What is on the reference's own pixels lies on the grid's by whole pixels.
        x, y = seen(self.cameras[base], self.stars).T
        shift = np.array(result.frames[base].values["matrix"])[:, 2]
        x, y = x + shift[0], y + shift[1]
        found = measure_apertures(data, x, y, radius_px=6, inner_px=9, outer_px=13)
        alone = np.array([np.sort(np.hypot(x - a, y - b))[1] > 14 for a, b in zip(x, y)])
        good = alone & np.isfinite(found.flux) & (self.flux > 8000) & (found.flags == 0)
        self.assertGreater(good.sum(), 40)
        share = found.flux[good] / self.flux[good]
        # Brightness of all is that of the reference.
        self.assertLess(robust_spread(share) / float(np.median(share)), 0.015)
        for i in np.flatnonzero(good & (self.flux > 2e4)):
            j, k = round(y[i]), round(x[i])
            box = data[j - 3 : j + 4, k - 3 : k + 4] - found.sky[i]
            yy, xx = np.mgrid[-3:4, -3:4]
            for of, place, at in ((xx, x[i], k), (yy, y[i], j)):
                self.assertAlmostEqual(float((box * of).sum() / box.sum()) + at, float(place), delta=0.25)
        # Without the stars, as the truth has them, what is left is sky.
        light = np.zeros(data.shape)
        add_stars(light, x, y, self.flux * float(np.median(share)), Psf.with_fwhm(3.0))
        data = data - light.astype(np.float32)
        # The sky is one plane: blocks of 12 x 12 pixels lie on it, whatever exposures they are made of.
        noise = NOISE
        medians, places = [], []
        for j in range(0, data.shape[0] - 12, 12):
            for i in range(0, data.shape[1] - 12, 12):
                block = data[j : j + 12, i : i + 12]
                if np.isfinite(block).all():
                    medians.append(float(np.median(block)))
                    places.append((1.0, i / 500, j / 500, (i / 500) ** 2, (j / 500) ** 2, i * j / 25e4))
        terms, values = np.array(places), np.array(medians)
        left = values - terms @ np.linalg.lstsq(terms, values, rcond=None)[0]
        self.assertGreater(len(values), 1500)
        self.assertLess(robust_spread(left), 0.25 * noise)
        # Seams: what lies on both sides of each exposure's edges.
        steps = self.steps(result, data)
        self.assertGreater(len(steps), 40)
        self.assertLess(float(np.sqrt(np.mean(steps**2))), 0.5 * noise)
        return steps

    def steps(self, result: StackResult, data: np.ndarray) -> np.ndarray:
        """Return the differences of level across the edges of exposures, in stretches of 40 pixels."""
        from ulvar.registration import stored_map

        found = []
        for frame in result.frames:
            way = stored_map(frame.values["matrix"], frame.values["bent"])
            for edge in ("left", "right", "low", "high"):
                length = HEIGHT if edge in ("left", "right") else WIDTH
                for start in range(10, length - 50, 40):
                    along, sides = np.arange(start, start + 40.0), []
                    for depth in (np.arange(4, 12.0), -np.arange(4, 12.0)):
                        a, d = np.meshgrid(along, depth)
                        x = {"left": d, "right": WIDTH - 1 - d}.get(edge, a)
                        y = {"low": d, "high": HEIGHT - 1 - d}.get(edge, a)
                        u, v = (np.rint(c).astype(int) for c in way(x, y))
                        inside = (u >= 0) & (v >= 0) & (u < data.shape[1]) & (v < data.shape[0])
                        values = data[v[inside], u[inside]]
                        sides.append(float(np.quantile(values, 0.3)) if inside.all() and np.isfinite(values).all() else math.nan)
                    if np.isfinite(sides).all():
                        found.append(sides[0] - sides[1])
        return np.array(found)

    def test_no_seams(self) -> None:
        exposures = self.write(PIXSCALE=206264.806 / FOCAL)
        kept: list[Any] = []
        # How edges are blended and the grid change nothing of how the exposures lie.
        once = mock.patch("ulvar.flows.stack.align_mosaic", lambda *given: (kept or kept.append(align_mosaic(*given)) or kept)[0])
        once.start()
        self.addCleanup(once.stop)
        result = stack_exposures(exposures, self.folder / "m.fits", JobContext(), options=StackOptions(align="mosaic"))
        plain = self.check(result)
        self.assertGreater(result.width, 2.6 * WIDTH)
        scored = find_all(exposures, JobContext())[0]
        options = StackOptions(align="mosaic", feather_px=30.0)
        feathered = stack_exposures(exposures, self.folder / "f.fits", JobContext(), options=options, scored=scored)
        soft = self.check(feathered)
        self.assertLess(float((soft**2).mean()), 1.1 * float((plain**2).mean()))
        # A part of it, on a coarser grid.
        small = stack_exposures(
            exposures, self.folder / "s.fits", JobContext(),
            options=StackOptions(align="mosaic", grid=GridOptions(scale=0.5)), scored=scored,
        )  # fmt: skip
        # To the last bit the same, whichever overlap was matched first.
        for one, other in zip(kept[0].aligned, align_mosaic(scored, Backwards()).aligned, strict=True):
            self.assertEqual(one.transform.matrix.tolist(), other.transform.matrix.tolist())
            self.assertEqual(one.flux_ratio, other.flux_ratio)
        self.assertAlmostEqual(small.width / result.width, 0.5, delta=0.01)
        self.assertAlmostEqual(
            float(np.nanmedian(read_plane(small.output))) / float(np.nanmedian(read_plane(result.output))), 4.0, delta=0.1,
        )  # fmt: skip

    def test_without_a_scale_and_with_a_stranger_on_the_command_line(self) -> None:
        self.write()
        rng = np.random.default_rng(99)
        image = np.full((HEIGHT, WIDTH), SKY)
        add_stars(
            image, rng.uniform(0, WIDTH, 60), rng.uniform(0, HEIGHT, 60), 10 ** rng.uniform(3.4, 4.8, 60), Psf.with_fwhm(3.0),
        )  # fmt: skip
        cards = {"IMAGETYP": "light", "EXPTIME": 60.0, "FILTER": "V", "OBJECT": "Elsewhere"}
        write_fits(self.folder / "raw" / "z.fits", (image + rng.normal(0, NOISE, image.shape)).astype(np.float32), cards=cards)
        code, body = self.json("stack", self.folder / "raw", "--out", self.folder / "m.fits", "--align", "mosaic")
        self.assertEqual(code, 1)
        self.assertEqual(sum(f["used"] for f in body["frames"]), 12)
        stranger = next(f for f in body["frames"] if Path(f["file"]).name == "z.fits")
        self.assertIn("shares no stars", stranger["reason"])
        self.assertGreater(body["width"], 2.6 * WIDTH)
        for words, reason in ((("--drop", "0.5"), "not for a mosaic"), (("--feather", "-1"), "--feather goes")):
            code, _, err = self.ulvar("stack", self.folder / "raw", "--out", self.folder / "n.fits", "--align", "mosaic", *words)
            self.assertEqual(code, 2)
            self.assertIn(reason, err)
