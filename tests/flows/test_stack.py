"""From exposures on disk to a stack: trails cut whole, bent fields, maps in the file, the history of a pixel."""

import dataclasses
import math
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import fitsio
import numpy as np
from bench.made_fields import draw_trail
from tools.cases import remember_stars

from tests.registration.test_registration import affine
from ulvar.astrometry import Wcs, wcs_from_header
from ulvar.combine import Method, Rejection
from ulvar.engine import JobContext
from ulvar.flows import Aligned, Cut, Fate, Scored, StackedExposure, StackOptions, StackResult, pixel_history, stack_exposures
from ulvar.flows.warping import _levels, moving_trails
from ulvar.frames import ExposureFacts, read_plane, scan_file, scan_images, write_fits
from ulvar.photometry import measure_apertures
from ulvar.registration import Kernel, PixelMap, Resampling, Transform, choose_map, stored_map
from ulvar.simulation import Psf, add_stars
from ulvar.stacking import Framing, GridOptions, Normalise, Surface, level_places
from ulvar.stacking.local import level_difference
from ulvar.stars import Trail, find_trails, trail_reach, under_trail

WIDTH, HEIGHT, SKY, NOISE = 420, 300, 200.0, 6.0
COUNT = 7
# Where the satellite passes in the third exposure, and in which a particle hits where.
SATELLITE, HIT = 2, 4


class Field:
    """Exposures of one field, moved and a little turned against each other."""

    def __init__(self, folder: Path, count: int = COUNT, bend: float = 0.0) -> None:
        self.rng = np.random.default_rng(9)
        self.folder = folder
        self.x, self.y = self.rng.uniform(-20, WIDTH + 20, 90), self.rng.uniform(-20, HEIGHT + 20, 90)
        self.flux = 10 ** self.rng.uniform(3.2, 5, 90)
        self.ways: list[PixelMap] = []
        for k in range(count):
            turned = affine(1.0, 0.004 * k, *self.rng.uniform(-8, 8, 2)) if k else affine(1.0, 0.0, 0.0, 0.0)
            self.ways.append(self._bent(turned, bend * k))

    def _bent(self, matrix: np.ndarray, strength: float) -> PixelMap:
        if strength == 0:
            return Transform(matrix)
        places = self.rng.uniform(-0.1, 1.1, (200, 2)) * (WIDTH, HEIGHT)
        away = (places - (WIDTH / 2, HEIGHT / 2)) / (WIDTH / 2)
        moved = places + strength * away * (away**2).sum(axis=1)[:, None]
        return choose_map(places, moved @ matrix[:, :2].T + matrix[:, 2])

    def picture(self, k: int, *, trail: float = 0.0) -> np.ndarray:
        """Return an exposure; the ways carry exposures onto the first one."""
        x, y = self.ways[k].inverse()(self.x, self.y)
        image = np.full((HEIGHT, WIDTH), SKY)
        add_stars(image, x, y, self.flux, Psf(1.3))
        rng = np.random.default_rng(100 + k)
        image = (image + rng.normal(0, NOISE, image.shape)).astype(np.float32)
        if trail:
            # A core with wings as a bright satellite has them, far fainter than the noise at their edge.
            draw_trail(image, (-10, 30), (440, 250), width_px=3.0, level=trail)
            draw_trail(image, (-10, 30), (440, 250), width_px=14.0, level=0.1 * trail)
        return image

    def write(self, *, trail: float = 0.0, hit: float = 0.0) -> list[ExposureFacts]:
        """Write all; one with a trail, another with a particle in it."""
        made = []
        for k in range(len(self.ways)):
            image = self.picture(k, trail=trail if k == SATELLITE else 0.0)
            if hit and k == HIT:
                image[60:62, 300:306] += hit
            path = self.folder / f"light-{k}.fits"
            cards = {"IMAGETYP": "light", "EXPTIME": 60.0, "GAIN": 1.0, "FILTER": "V"}
            write_fits(path, image, cards=cards, replace=True)
            made.append(scan_file(str(path)))
        return made


class Made(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        remember_stars(self)

    def stack(self, exposures: list[ExposureFacts], **options: object) -> StackResult:
        reference = exposures[0].path
        settings = StackOptions(reference=reference, **options)  # type: ignore[arg-type]
        result = stack_exposures(exposures, self.folder / "stack.fits", JobContext(), options=settings, replace=True)
        self.assertTrue(result.ok, result.reason)
        return result


class Trails(Made):
    def test_a_trail_goes_whole_with_its_faint_edges(self) -> None:
        """Even from a plain mean, which rejects nothing, and so deep that a twentieth of the noise would show."""
        field = Field(self.folder)
        mean = {"rejection": Rejection(Method.MEAN), "normalise": Normalise.NONE}
        clean = self.stack(field.write(), **mean)
        cut = self.stack(field.write(trail=300.0), **mean)
        left = self.stack(field.write(trail=300.0), **mean, trails=False)
        assert clean.stacked and cut.stacked and left.stacked
        x, y = field.ways[SATELLITE](np.array([-10.0, 440.0]), np.array([30.0, 250.0]))
        line = Trail(x[0], y[0], x[1], y[1], 3.0, 1.0, 1.0)
        yy, xx = np.mgrid[:HEIGHT, :WIDTH]
        away = line.distance(xx.astype(float), yy.astype(float))
        noise = NOISE / math.sqrt(COUNT)
        for ring in range(30):
            there = (away >= ring) & (away < ring + 1)
            change = np.nanmean((cut.stacked.data - clean.stacked.data)[there])
            # The exposure itself is missing under the trail, so that stars and noise change: some hundred pixels a ring.
            error = 3 * noise / math.sqrt(there.sum()) + 0.1 * noise
            self.assertLess(abs(change), error, ring)
            if ring < 4:
                self.assertGreater(np.nanmean((left.stacked.data - clean.stacked.data)[there]), 2 * error)
        told = cut.frames[SATELLITE].values["trails_cut"]
        self.assertEqual([len(f.values["trails_cut"]) for f in cut.frames], [0, 0, 1, 0, 0, 0, 0])
        # Wings of 14 px fall under a twentieth of the noise, 0.3 of 30 ADU, at 18 px.
        self.assertGreater(told[0][4], 11)
        self.assertLess(told[0][4], 26)
        # Nothing but the trail is missing.
        assert cut.stacked.maps
        inside = (xx > 15) & (xx < WIDTH - 25) & (yy > 15) & (yy < HEIGHT - 25)
        self.assertTrue((cut.stacked.kept[inside & (away < 8)] == COUNT - 1).all())
        self.assertTrue((cut.stacked.kept[inside & (away > 40)] == COUNT).all())

    def test_a_line_that_stays_on_the_sky_is_no_trail(self) -> None:
        def exposure(k: int, *trails: Trail) -> Aligned:
            facts = ExposureFacts(path=f"{k}.fits", width=400, height=300)  # type: ignore[call-arg]
            return Aligned(Scored(facts, None, None, trails), Transform.shift(5.0 * k, -3.0 * k), 1.0)  # type: ignore[arg-type]

        def line(k: int, x0: float, y0: float, x1: float, y1: float) -> Trail:
            return Trail(x0 - 5.0 * k, y0 + 3.0 * k, x1 - 5.0 * k, y1 + 3.0 * k, 3.0, 1.0, 1.0)

        spike = [line(k, 50, 60, 300, 65 + k % 2) for k in range(8)]
        crossing = Trail(100, 0, 160, 299, 3.0, 1.0, 1.0)
        aligned = [exposure(k, spike[k], *([crossing] if k == 3 else [])) for k in range(8)]
        self.assertEqual(moving_trails(aligned), {"3.fits": (crossing,)})
        # One satellite goes on along its line in the next exposure.
        first, second = line(0, 0, 100, 200, 110), line(1, 190, 109.5, 399, 120)
        for count in (2, 4, 8):
            alone = [exposure(k) for k in range(2, count)]
            self.assertEqual(set(moving_trails([exposure(0, first), exposure(1, second), *alone])), {"0.fits", "1.fits"})
            both = [exposure(0, first), exposure(1, line(1, 90, 104.5, 399, 120)), *alone]
            self.assertEqual(len(moving_trails(both)), 0 if count < 8 else 2, count)
        # Of a pixel row on the sensor the stars move away: it is a trail in each.
        column = Trail(200, 0, 200, 299, 3.0, 1.0, 1.0)
        self.assertEqual(len(moving_trails([exposure(3 * k, column) for k in range(8)])), 8)
        # Turned against each other by ten degrees, or apart by their width: two lines.
        for other in (line(1, 50, 60, 300, 104), line(1, 50, 70, 300, 75)):
            self.assertEqual(len(moving_trails([exposure(0, spike[0]), exposure(1, other)])), 2)

    def test_reach_and_footprint(self) -> None:
        rng = np.random.default_rng(3)
        image = rng.normal(500, NOISE, (400, 700)).astype(np.float32)
        draw_trail(image, (-10, 50), (710, 330), width_px=4.0, level=200.0)
        found = find_trails(image - 500, np.full_like(image, NOISE))
        self.assertEqual(len(found), 1)
        # A Gaussian of 4 px falls from 200 to 0.3 ADU at 1.53 times its width.
        reach = trail_reach(image, found[0], NOISE)
        self.assertGreater(reach, 5.0)
        self.assertLess(reach, 12.0)
        image[:, 300:420] = np.nan
        self.assertAlmostEqual(trail_reach(image, found[0], NOISE), reach, delta=2.5)
        self.assertEqual(trail_reach(np.full_like(image, np.nan), found[0], NOISE), found[0].width_px)
        under = under_trail(image.shape, Trail(100, 100, 300, 250, 3.0, 1.0, 1.0), 6.0, beyond_px=10.0)
        y, x = np.mgrid[:400, :700].astype(float)
        drawn = Trail(92, 94, 308, 256, 3.0, 1.0, 1.0).distance(x, y)
        self.assertTrue(under[drawn < 5.4].all())
        self.assertFalse(under[drawn > 6.8].any())


class Maps(Made):
    def test_maps_stand_beside_the_picture(self) -> None:
        result = self.stack(Field(self.folder).write(hit=500.0))
        stacked = result.stacked
        assert stacked and stacked.maps
        with fitsio.FITS(result.output) as handle:
            names = [unit.get_extname() for unit in handle][1:]
            self.assertEqual(set(names), {"COUNT MAP", "WEIGHT MAP", "NOISE MAP", "REJECTED LOW", "REJECTED HIGH"})
            count, low, high = (handle[n].read() for n in ("COUNT MAP", "REJECTED LOW", "REJECTED HIGH"))
            weight, noise = handle["WEIGHT MAP"].read(), handle["NOISE MAP"].read()
            handle["COUNT MAP"].read_header()
        np.testing.assert_array_equal(count, stacked.kept)
        np.testing.assert_array_equal(noise, stacked.noise)
        inside = (slice(20, -30), slice(20, -30))
        np.testing.assert_array_equal((count + low + high)[inside], COUNT)
        self.assertGreater(high[inside].sum(), low[inside].sum())
        # What is rejected at the particle is one value above.
        x, y = (round(float(v[0])) for v in Field(self.folder).ways[HIT](np.array([302.0]), np.array([61.0])))
        self.assertEqual((count[y, x], low[y, x], high[y, x]), (COUNT - 1, 0, 1))
        self.assertAlmostEqual(weight[y, x], 1 - stacked.weights[HIT], places=5)
        self.assertEqual(weight[inside].max(), 1.0)
        # Read back it is one picture, without a mask.
        self.assertEqual(len(scan_images(result.output)), 1)
        bare = self.stack(Field(self.folder).write(), maps=False)
        with fitsio.FITS(bare.output) as handle:
            self.assertEqual(len(handle), 1)


def in_colours(field: Field) -> list[ExposureFacts]:
    """Write a field's exposures as a colour sensor that sees half as much again in red."""
    made = []
    for facts in field.write():
        data = fitsio.read(facts.path)
        data[::2, ::2] *= 1.5
        cards = {"IMAGETYP": "light", "EXPTIME": 60.0, "BAYERPAT": "RGGB", "DATE-OBS": "2027-02-11T20:00:00"}
        write_fits(Path(facts.path), data, cards=cards, replace=True)
        made.append(scan_file(facts.path))
    return made


class History(Made):
    def history(self, result: StackResult, exposures: list[ExposureFacts], x: int, y: int):  # type: ignore[no-untyped-def]
        by_path = {f.path: f for f in exposures}
        taken = [
            StackedExposure(
                by_path[o.file], stored_map(o.values["matrix"], o.values["bent"]), o.values["factor"],
                o.values["addend_adu"], o.values["weight"], tuple(Cut.of(told) for told in o.values["trails_cut"]),
            )
            for o in result.frames
            if o.ok
        ]  # fmt: skip
        assert result.stacked
        return pixel_history(taken, x, y, (result.height, result.width), result.stacked.rejection, JobContext())

    def test_every_value_and_what_became_of_it(self) -> None:
        for bend in (0.0, 0.6):
            field = Field(self.folder, bend=bend)
            exposures = field.write(trail=300.0, hit=500.0)
            result = self.stack(exposures)
            assert result.stacked and result.stacked.maps
            data = result.stacked.data
            if bend:
                self.assertIn("cubic", {f.values["map"] for f in result.frames})
            maps = result.stacked.maps
            for x, y in ((5, 5), (300, 290), (255, 100), (256, 100), (200, 150), (17, 220)):
                found = self.history(result, exposures, x, y)
                if x in (200, 300):
                    # As of a wide stack, a run of whose rows is worked out alone.
                    with mock.patch("ulvar.flows.history.judged_together", return_value=128):
                        again = self.history(result, exposures, x, y)
                    # Resampled in other parts: on the slope of a star by some 1e-4 otherwise.
                    one, other = ([told.combined_adu, *(v.value_adu for v in told.values)] for told in (again, found))
                    np.testing.assert_allclose(one, other, rtol=5e-4)
                # On the slope of a star both ways of resampling differ by some 1e-4.
                np.testing.assert_allclose(found.combined_adu, data[y, x], rtol=5e-4)
                fates = [v.fate for v in found.values]
                self.assertEqual(
                    (fates.count(Fate.LOW), fates.count(Fate.HIGH), fates.count(Fate.KEPT)),
                    (maps.rejected_low[y, x], maps.rejected_high[y, x], result.stacked.kept[y, x]),
                )
                kept = [v for v in found.values if v.fate is Fate.KEPT]
                if kept:
                    mean = sum(v.weight * v.value_adu for v in kept) / sum(v.weight for v in kept)
                    self.assertAlmostEqual(mean, found.combined_adu, delta=1e-3)
            hit = tuple(round(float(v[0])) for v in field.ways[HIT](np.array([302.0]), np.array([61.0])))
            fates = [v.fate for v in self.history(result, exposures, *hit).values]
            self.assertEqual(fates, [Fate.HIGH if k == HIT else Fate.KEPT for k in range(COUNT)])
            under = tuple(round(float(v[0])) for v in field.ways[SATELLITE](np.array([215.0]), np.array([140.0])))
            values = self.history(result, exposures, *under).values
            self.assertEqual([v.fate for v in values], [Fate.TRAIL if k == SATELLITE else Fate.KEPT for k in range(COUNT)])
            self.assertEqual([Path(v.file).name for v in values], [f"light-{k}.fits" for k in range(COUNT)])

    def test_of_a_colour_sensor(self) -> None:
        exposures = in_colours(Field(self.folder, count=4))
        result = self.stack(exposures)
        assert result.stacked
        for x, y in ((100, 90), (211, 160)):
            found = self.history(result, exposures, x, y)
            np.testing.assert_allclose(found.combined_adu, result.stacked.data[y, x], rtol=5e-4)

    def test_what_cannot_be_asked(self) -> None:
        exposures = Field(self.folder, count=4).write()
        result = self.stack(exposures)
        for x, y in ((-1, 5), (WIDTH, 5), (5, HEIGHT)):
            with self.assertRaisesRegex(ValueError, "outside the stack"):
                self.history(result, exposures, x, y)
        self.assertEqual(len(self.history(result, exposures, 0, 0).values), 4)
        Path(exposures[1].path).unlink()
        found = self.history(result, exposures, 100, 100)
        self.assertEqual([Path(f.file).name for f in found.failed], ["light-1.fits"])
        self.assertEqual(len(found.values), 3)
        with self.assertRaisesRegex(ValueError, "no exposure"):
            pixel_history([], 1, 1, (5, 5), Rejection(low=3, high=3), JobContext())


class Proper(Made):
    def test_a_coadd_stands_beside_the_stack(self) -> None:
        field = Field(self.folder)
        result = self.stack(field.write(hit=400.0), proper=True)
        self.assertEqual(Path(result.proper).name, "stack-proper.fits")
        with fitsio.FITS(result.proper) as handle:
            data, header, psf = handle[0].read(), handle[0].read_header(), handle["PSF"].read()
        self.assertEqual(header["NCOMBINE"], COUNT)
        self.assertNotIn("EGAIN", header)
        assert result.stacked
        # Noise as told, that of the sum; light and places of stars as on the stack.
        self.assertAlmostEqual(header["SKYNOISE"] / (NOISE / math.sqrt(COUNT)), 1.0, delta=0.1)
        inner = data[30:-40, 30:-40]
        self.assertAlmostEqual(1.4826 * np.median(np.abs(inner - np.median(inner))) / header["SKYNOISE"], 1.0, delta=0.15)
        self.assertAlmostEqual(float(psf.sum()), 1.0, delta=0.03)
        yy, xx = np.mgrid[-7:8, -7:8]
        for i in np.argsort(-field.flux):
            apart = np.sort(np.hypot(field.x - field.x[i], field.y - field.y[i]))[1]
            if apart < 25 or not (40 < field.x[i] < WIDTH - 50 and 40 < field.y[i] < HEIGHT - 50):
                continue
            x, y = round(field.x[i]), round(field.y[i])
            box = data[y - 7 : y + 8, x - 7 : x + 8].astype(float)
            self.assertAlmostEqual(box.sum() / field.flux[i], 1.0, delta=0.05)
            self.assertAlmostEqual(x + (xx * box).sum() / box.sum(), field.x[i], delta=0.1)
            self.assertAlmostEqual(y + (yy * box).sum() / box.sum(), field.y[i], delta=0.1)
            break
        else:
            self.fail("no star stands alone")
        self.assertEqual(len(scan_images(result.proper)), 1)
        # On a larger grid it is the same coadd.
        wide = self.stack(field.write(hit=400.0), proper=True, grid=GridOptions(Framing.UNION))
        with fitsio.FITS(wide.proper) as handle:
            self.assertGreater(handle[0].read().shape[0], HEIGHT)
            np.testing.assert_allclose(handle["PSF"].read(), psf, atol=0.02 * float(psf.max()))
        # An exposure through cloud is brought up in brightness, and its noise with it.
        exposures = field.write()
        dim = (field.picture(3) - SKY) * 0.4 + SKY
        dim += np.random.default_rng(5).normal(0, NOISE * math.sqrt(1 - 0.16), dim.shape)
        write_fits(Path(exposures[3].path), dim.astype(np.float32), like=exposures[3].path, replace=True)
        cloudy = self.stack([scan_file(f.path) for f in exposures], proper=True)
        assert cloudy.stacked
        self.assertAlmostEqual(cloudy.stacked.scaling[3][0], 2.5, delta=0.1)
        told = fitsio.read_header(cloudy.proper)["SKYNOISE"]
        self.assertAlmostEqual(told / (NOISE / math.sqrt(COUNT - 1 + 0.16)), 1.0, delta=0.1)
        self.assertGreater(told, 1.03 * header["SKYNOISE"])
        # Memory is asked for before it is taken.
        exposures = field.write()
        small = JobContext(budget_bytes=1_000_000)
        poor = stack_exposures(exposures, self.folder / "s.fits", small, options=StackOptions(proper=True), replace=True)
        self.assertTrue(poor.ok)
        self.assertRegex(poor.no_proper, "takes 5 MB, and 1 MB are allowed")
        self.assertFalse((self.folder / "s-proper.fits").exists())
        self.assertEqual(self.stack(exposures).proper, "")

    def test_colours_that_were_mixed_are_told_by_neither_file(self) -> None:
        result = self.stack(in_colours(Field(self.folder, count=4)), proper=True)
        for path in (result.output, result.proper):
            header = fitsio.read_header(path)
            self.assertNotIn("BAYERPAT", header)
            self.assertEqual(header["NCOMBINE"], 4)
            self.assertIn("DATE-AVG", header)


class LocalLevels(Made):
    """Gradients that differ between exposures, on a nebula that all show."""

    def write(self, field: Field) -> list[ExposureFacts]:
        made = []
        yy, xx = np.mgrid[:HEIGHT, :WIDTH]
        for k in range(COUNT):
            image = field.picture(k)
            cx, cy = (float(v[0]) for v in field.ways[k].inverse()(np.array([260.0]), np.array([120.0])))
            image += (80 * np.exp(-((xx - cx) ** 2 + (yy - cy) ** 2) / 4000)).astype(np.float32)
            # Moonlight comes from another side each time.
            image += (np.cos(k) * 60 * xx / WIDTH + np.sin(k) * 40 * (yy / HEIGHT) ** 2 + 10 * k).astype(np.float32)
            path = self.folder / f"light-{k}.fits"
            write_fits(path, image, cards={"IMAGETYP": "light", "EXPTIME": 60.0, "GAIN": 1.0}, replace=True)
            made.append(scan_file(str(path)))
        return made

    def test_gradients_are_matched_and_the_nebula_stays(self) -> None:
        field = Field(self.folder)
        exposures = self.write(field)
        flat, matched = (self.stack(exposures, normalise=Normalise.BOTH), self.stack(exposures, normalise=Normalise.LOCAL))
        assert flat.stacked and matched.stacked
        inside = (slice(20, -30), slice(20, -30))
        # Where levels agree the spread is the noise alone; gradients that differ by tens of ADU widen it.
        self.assertLess(np.nanmedian(matched.stacked.noise[inside]) * math.sqrt(COUNT), 1.15 * NOISE)
        self.assertGreater(np.nanmedian(flat.stacked.noise[inside]) * math.sqrt(COUNT), 1.7 * NOISE)
        # The level is that of the reference, its own gradient and the nebula included.
        yy, xx = np.mgrid[:HEIGHT, :WIDTH]
        wanted = SKY + 60 * xx / WIDTH + 80 * np.exp(-((xx - 260.0) ** 2 + (yy - 120.0) ** 2) / 4000)
        for y, x in ((120, 260), (40, 40), (250, 60), (60, 380), (240, 380), (150, 150)):
            box = (slice(y - 9, y + 10), slice(x - 9, x + 10))
            self.assertAlmostEqual(np.nanmedian(matched.stacked.data[box] - wanted[box]), 0.0, delta=4.0)
        # A pixel's history knows the surface.
        by_path = {f.path: f for f in exposures}
        taken = [
            StackedExposure(
                by_path[o.file], stored_map(o.values["matrix"], o.values["bent"]), o.values["factor"],
                o.values["addend_adu"], o.values["weight"],
                surface=Surface(o.values["surface"]["coefficients"], o.values["surface"]["order"]),
            )
            for o in matched.frames
        ]  # fmt: skip
        size = (matched.height, matched.width)
        for x, y in ((50, 60), (300, 200)):
            found = pixel_history(taken, x, y, size, matched.stacked.rejection, JobContext())
            self.assertAlmostEqual(found.combined_adu / matched.stacked.data[y, x], 1.0, delta=1e-3)

    def test_levels_are_known_where_there_is_data(self) -> None:
        image = np.random.default_rng(2).normal(300, 5, (200, 320)).astype(np.float32)
        image[:, 200:] = np.nan
        levels = _levels(image)
        _, columns = level_places(image.shape)
        np.testing.assert_array_equal(np.isfinite(levels), np.broadcast_to(columns < 200, levels.shape))
        self.assertAlmostEqual(float(np.nanmedian(levels)), 300, delta=1)

    def test_a_surface_and_its_rows(self) -> None:
        shape = (170, 240)
        rows, columns = level_places(shape)
        y, x = np.meshgrid(2 * rows / 169 - 1, 2 * columns / 239 - 1, indexing="ij")
        base = np.random.default_rng(1).normal(500, 40, y.shape)
        own = (base - (7 + 3 * x - 2 * y**2 + x * y**2)) / 1.25
        own[3, 4] += 300
        own[5, 5] = np.nan
        found = level_difference(own.astype(np.float32), base.astype(np.float32), 1.25, shape, 9.0)
        picture = found.rows(0, 170, shape)
        yy, xx = np.mgrid[-1:1:170j, -1:1:240j]
        np.testing.assert_allclose(picture, 7 + 3 * xx - 2 * yy**2 + xx * yy**2, atol=0.01)
        np.testing.assert_array_equal(found.rows(40, 55, shape), picture[40:55])
        unknown = level_difference(np.full(y.shape, np.nan, np.float32), base.astype(np.float32), 1.0, shape, 9.0)
        self.assertEqual((unknown.coefficients, unknown.order), ((9.0,), 0))


class BySky(Made):
    def test_plate_solutions_with_their_distortion(self) -> None:
        """Every star lands on the reference's, whatever solution says where it is; a wrong way back would show."""
        field = Field(self.folder, count=3)
        exposures = []
        skies = [
            Wcs(120.0, 30.0, 210.0, 150.0, np.array([[-3e-4, 0.0], [0.0, 3e-4]])),
            Wcs(120.004, 30.002, 215.0, 140.0, np.array([[-2.9e-4, 5e-5], [5e-5, 3e-4]])),
            Wcs(120.0, 29.996, 200.0, 155.0, np.array([[2.9e-4, 8e-5], [-7e-5, 3.1e-4]])),
        ]
        ra, dec = skies[0].sky(field.x, field.y)
        for k, sky in enumerate(skies):
            image = np.full((HEIGHT, WIDTH), SKY)
            x, y = sky.pixel(ra, dec)
            inside = (x > -20) & (x < WIDTH + 20) & (y > -20) & (y < HEIGHT + 20)
            add_stars(image, x[inside], y[inside], field.flux[inside] * (1.0, 0.7, 1.0)[k], Psf(1.3))
            image += np.random.default_rng(k).normal(0, NOISE, image.shape)
            path = self.folder / f"solved-{k}.fits"
            write_fits(path, image.astype(np.float32), cards=[("IMAGETYP", "light", ""), ("GAIN", 1.0, ""), *sky.cards()])
            exposures.append(scan_file(str(path)))
        result = self.stack(exposures, align="sky")
        self.assertEqual([a.transform.kind for a in result.aligned], ["plate solutions"] * 3)
        gx, gy = np.meshgrid(np.linspace(0, WIDTH, 5), np.linspace(0, HEIGHT, 5))
        for one, sky in zip(result.aligned, skies):
            np.testing.assert_allclose(np.array(one.transform(gx, gy)), np.array(skies[0].pixel(*sky.sky(gx, gy))), atol=1e-6)
            back = one.transform.inverse()(*one.transform(gx, gy))
            np.testing.assert_allclose(np.array(back), np.array([gx, gy]), atol=1e-6)
            self.assertGreater(one.transform.matched, 15)
            self.assertLess(one.transform.rms_px, 0.3)
        # Brightness is compared by the stars in common; on the stack each stands where the reference has it, sharp.
        self.assertAlmostEqual(result.aligned[1].flux_ratio, 0.7 * 1.02, delta=0.05)
        assert result.stacked
        bright = [i for i in np.argsort(-field.flux) if 60 < field.x[i] < WIDTH - 60 and 60 < field.y[i] < HEIGHT - 60][:5]
        for i in bright:
            x, y = round(field.x[i]), round(field.y[i])
            box = result.stacked.data[y - 3 : y + 4, x - 3 : x + 4] - SKY
            yy, xx = np.mgrid[-3:4, -3:4]
            self.assertAlmostEqual(x + (xx * box).sum() / box.sum(), field.x[i], delta=0.4)
            self.assertAlmostEqual(y + (yy * box).sum() / box.sum(), field.y[i], delta=0.4)


class Grids(Made):
    """Other pixels than the reference's: where stars lie on the sky, and their light, stay."""

    SKY_OF_REFERENCE = Wcs(84.0, 41.0, 200.0, 150.0, np.array([[2.0e-4, 1.2e-4], [1.2e-4, -2.0e-4]]))

    def lights(self, stack: StackResult, sky: Wcs, field: Field) -> np.ndarray:
        """Return the light of bright stars alone, over what they have, by their places on the sky."""
        data = read_plane(stack.output)
        bright = np.flatnonzero(field.flux > 3e4)
        inside = (field.x[bright] > 60) & (field.x[bright] < WIDTH - 60) & (field.y[bright] > 60) & (field.y[bright] < HEIGHT - 60)
        bright = bright[inside]
        apart = [np.sort(np.hypot(field.x - field.x[i], field.y - field.y[i]))[1] for i in bright]
        bright = bright[np.array(apart) > 14]
        x, y = sky.pixel(*self.SKY_OF_REFERENCE.sky(field.x[bright], field.y[bright]))
        size = self.SKY_OF_REFERENCE.scale_arcsec_px / sky.scale_arcsec_px
        found = measure_apertures(data, x, y, radius_px=6 * size, inner_px=8 * size, outer_px=11 * size)
        # Refined places are those of the sky.
        for i in range(len(x)):
            half = round(4 * size)
            box = np.mgrid[round(y[i]) - half : round(y[i]) + half + 1, round(x[i]) - half : round(x[i]) + half + 1]
            light = np.maximum(data[tuple(box)] - found.sky[i], 0)
            for place, axis in ((y[i], 0), (x[i], 1)):
                self.assertAlmostEqual(float((light * box[axis]).sum() / light.sum()), place, delta=0.25 * size)
        self.assertGreater(len(x), 5)
        return found.flux / field.flux[bright]

    def test_scale_north_and_a_part(self) -> None:
        field = Field(self.folder, count=4)
        exposures = field.write()
        header = fitsio.read_header(exposures[0].path)
        write_fits(
            Path(exposures[0].path), fitsio.read(exposures[0].path),
            cards=[*((k, header[k], "") for k in ("IMAGETYP", "EXPTIME", "FILTER")), ("XPIXSZ", 3.8, ""), ("RDNOISE", 4.0, ""),
                   *self.SKY_OF_REFERENCE.cards()], replace=True,
        )  # fmt: skip
        exposures[0] = scan_file(exposures[0].path)
        for options in (
            GridOptions(), GridOptions(scale=2.0), GridOptions(scale=0.5), GridOptions(north_up=True),
            GridOptions(turn_deg=30.0, scale=1.5), GridOptions(part=(40, 40, 350, 230)),
        ):  # fmt: skip
            with self.subTest(options):
                result = self.stack(exposures, grid=options)
                told = fitsio.read_header(result.output)
                sky = wcs_from_header(told)
                assert sky is not None
                shares = self.lights(result, sky, field)
                # Larger pixels widen stars beyond the aperture.
                self.assertLess(abs(float(np.median(shares)) - 1), 0.02 if options.scale >= 1 else 0.04)
                self.assertAlmostEqual(sky.scale_arcsec_px * options.scale, self.SKY_OF_REFERENCE.scale_arcsec_px, places=6)
                self.assertAlmostEqual(told["XPIXSZ"], 3.8 / options.scale)
                self.assertAlmostEqual(
                    told["RDNOISE"] * options.scale, 4.0 * math.sqrt(told["EGAIN"] if "EGAIN" in told else self.effective(result))
                )
                # Sky of all exposures is made equal, whatever the pixels' size: nothing good is rejected.
                self.assertLess(max(o.values["rejected_fraction"] for o in result.frames), 0.02)
                if options.north_up:
                    turn, mirrored = sky.north_up(result.width / 2, result.height / 2)
                    self.assertAlmostEqual(turn, 0.0, delta=0.01)
                    self.assertFalse(mirrored)
        self.assertEqual((result.width, result.height), (350, 230))

    @staticmethod
    def effective(result: StackResult) -> float:
        assert result.stacked is not None
        return float(1 / (result.stacked.weights**2).sum())

    def test_an_exposure_of_larger_pixels_is_brought_to_the_same_level(self) -> None:
        field = Field(self.folder, count=5)
        exposures = field.write()
        path = Path(exposures[3].path)
        data = fitsio.read(str(path))
        binned = data.reshape(HEIGHT // 2, 2, WIDTH // 2, 2).sum(axis=(1, 3))
        cards = {"IMAGETYP": "light", "EXPTIME": 60.0, "GAIN": 1.0, "FILTER": "V"}
        write_fits(path, binned, cards=cards, replace=True)
        exposures[3] = scan_file(str(path))
        for normalise in (Normalise.LEVEL, Normalise.BOTH):
            result = self.stack(exposures, normalise=normalise)
            told = next(o for o in result.frames if o.file == str(path))
            self.assertTrue(told.ok, told.reason)
            self.assertLess(told.values["rejected_fraction"], 0.02)
            self.assertAlmostEqual(told.values["addend_adu"], 0.0, delta=0.02 * SKY)
            self.assertAlmostEqual(float(np.nanmedian(read_plane(result.output))), SKY, delta=1.0)
            # A pixel of four gathers four times the sky and twice the noise: on the finer grid it is worth as much.
            weights = [o.values["weight"] for o in result.frames]
            self.assertAlmostEqual(weights[3] / weights[2], 1.0, delta=0.35)

    def test_what_cannot_be_framed(self) -> None:
        exposures = Field(self.folder, count=3).write()
        for options, words in (
            (GridOptions(north_up=True), "solve the plate of light-0.fits"), (GridOptions(part=(400, 0, 100, 50)), r"\[401:500,1:50\] lies outside"),
        ):  # fmt: skip
            settings = StackOptions(reference=exposures[0].path, grid=options)
            failed = stack_exposures(exposures, self.folder / "no.fits", JobContext(), options=settings)
            self.assertRegex(failed.reason, words)
        self.assertFalse((self.folder / "no.fits").exists())

    def test_kernels_differ_and_are_known_to_the_history(self) -> None:
        exposures = Field(self.folder, count=4).write()
        planes = []
        for how in (Resampling(), Resampling(Kernel.NEAREST), Resampling(Kernel.BILINEAR)):
            result = self.stack(exposures, resampling=how, grid=GridOptions(scale=0.5))
            planes.append(read_plane(result.output))
            taken = [StackedExposure.of(f, dict(o.values), how) for f, o in zip(exposures, result.frames) if o.ok]
            assert result.stacked is not None
            found = pixel_history(taken, 90, 70, (result.height, result.width), result.stacked.rejection, JobContext())
            self.assertAlmostEqual(found.combined_adu, float(planes[-1][70, 90]), delta=0.01)
        self.assertFalse(np.allclose(planes[0], planes[1], equal_nan=True))
        self.assertFalse(np.allclose(planes[0], planes[2], equal_nan=True))


class Bent(Made):
    def test_a_field_that_bends_is_registered(self) -> None:
        """Stars of SNR over 50 land within 0.03 px of where they are in the reference (rms), at the corners too."""
        field = Field(self.folder, count=5, bend=0.8)
        exposures = field.write()
        result = self.stack(exposures)
        x, y = np.meshgrid(np.linspace(5, WIDTH - 6, 9), np.linspace(5, HEIGHT - 6, 7))
        for k, one in enumerate(result.aligned[1:], 1):
            inside = [(v > 0) & (v < size) for v, size in zip(field.ways[k](x, y), (WIDTH, HEIGHT))]
            wrong = np.array(one.transform(x, y)) - np.array(field.ways[k](x, y))
            # Some 60 stars of SNR 10 to 500 fit the 20 numbers of a cubic; corners count least.
            self.assertLess(np.sqrt((wrong[:, inside[0] & inside[1]] ** 2).mean()), 0.06, one.transform.kind)
        self.assertEqual(result.aligned[4].transform.kind, "cubic")
        self.assertEqual(dataclasses.replace(exposures[0]).path, result.reference)
