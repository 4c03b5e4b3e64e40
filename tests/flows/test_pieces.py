"""Pieces of the flows alone: noise that is shared, lines that stay, pairs that may overlap, places that are refined."""

import math
import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from types import SimpleNamespace
from typing import Any
from unittest import mock

import numpy as np
from tools.cases import FolderCase

from tests.registration.test_registration import affine
from ulvar.astrometry import StarCatalogue, Wcs
from ulvar.engine import DiskFull, Failed, JobContext
from ulvar.flows import Scored, StackOptions, stack_exposures
from ulvar.flows.align import Aligned
from ulvar.flows.curve import point_to_point
from ulvar.flows.film_look import film_words
from ulvar.flows.measure import _refined
from ulvar.flows.mosaicking import _BEFORE, _pairs
from ulvar.flows.needs import stack_needs
from ulvar.flows.picture import caption_of
from ulvar.flows.planes import _lost
from ulvar.flows.positions import _best_way
from ulvar.flows.report import _Section, _text_lines, _value
from ulvar.flows.stack import _aligned as _aligned_as_asked
from ulvar.flows.stackfile import time_cards
from ulvar.flows.standard import known_by
from ulvar.flows.starfind import FindTask, stars_item
from ulvar.flows.warping import WarpTask, _levels, moving_trails, resampled_correlation
from ulvar.flows.watching import Watch
from ulvar.flows.wcsfile import describe
from ulvar.frames import ExposureFacts, scan_file, write_fits
from ulvar.registration import Kernel, Resampling, Transform, resample
from ulvar.stacking import Frame2D, level_places
from ulvar.stars import DetectOptions, ExposureQuality, StarTable, Trail

QUALITY = ExposureQuality(5, 3.0, 0.1, 100.0, 5.0, 1e4, 0, 0.5)


def scored(path: str, trails: tuple[Trail, ...] = (), **facts: object) -> Scored:
    return Scored(ExposureFacts(path, **facts), StarTable.empty(), QUALITY, trails)  # type: ignore[arg-type]


class FromPointToPoint(unittest.TestCase):
    def test_by_the_differences_of_those_that_have_a_value(self) -> None:
        values = np.array([12.0, 12.02, math.nan, 12.01, 12.04])
        self.assertAlmostEqual(point_to_point(values), 1.4826 * 0.02 / math.sqrt(2), delta=1e-6)
        self.assertTrue(math.isnan(point_to_point(values[:4])), "two differences tell no scatter")


class Times(unittest.TestCase):
    def test_an_exposure_whose_middle_is_not_known_has_no_part(self) -> None:
        begin = datetime(2027, 2, 11, 20, tzinfo=UTC)
        known = [
            ExposureFacts(
                f"{k}", start_utc=begin + timedelta(minutes=4 * k), mid_utc=begin + timedelta(minutes=4 * k + 2), exposure_s=240.0
            )
            for k in range(2)
        ]
        odd = ExposureFacts("x", start_utc=begin - timedelta(hours=1))
        self.assertIsNone(odd.mid_utc)
        cards = {name: value for name, value, _ in time_cards([odd, *known], np.array([5.0, 1.0, 3.0]))}
        self.assertEqual(cards["DATE-BEG"], "2027-02-11T20:00:00.000")
        self.assertEqual(cards["DATE-END"], "2027-02-11T20:08:00.000")
        self.assertEqual(cards["DATE-AVG"], "2027-02-11T20:05:00.000")
        self.assertEqual(time_cards([odd], np.ones(1)), [])


class InTheCatalogue(unittest.TestCase):
    def test_a_star_is_the_catalogues_within_two_seconds(self) -> None:
        none = np.zeros(2)
        stars = StarCatalogue(np.array([50.0, 51.0]), np.array([10.0, 10.0]), none + 2016, none, none, np.array([9.0, 10.0]))
        rows = {
            "near": [SimpleNamespace(ra=50.0, dec=10 + 1.9 / 3600)],
            "off": [SimpleNamespace(ra=51.0, dec=10 - 2.1 / 3600)],
            "unsolved": [],
        }
        found = known_by(SimpleNamespace(names=lambda: list(rows), star=rows.__getitem__), stars, "")  # type: ignore[arg-type]
        self.assertEqual({name: known.magnitude for name, known in found.items()}, {"near": 9.0})

    def test_what_cannot_be_taken_apart_is_told(self) -> None:
        outcome = _lost(SimpleNamespace(facts=SimpleNamespace(path="a.fits")), "it crashes")  # type: ignore[arg-type]
        self.assertEqual((outcome.file, outcome.ok, outcome.reason), ("a.fits", False, "it crashes"))


class ReportOnPaper(unittest.TestCase):
    def test_sections_and_how_to_repeat_it(self) -> None:
        star = [("", False), ("Star", True), ("Name   T", False)]
        section = _Section("Star", [("Name", "T")])
        self.assertEqual(_text_lines([section], ""), star)
        self.assertEqual(_text_lines([section], "ulvar curve x"), [*star, ("", False), ("To repeat it", True), ("ulvar curve x", False)])


class Captions(unittest.TestCase):
    def test_what_a_picture_shows_and_of_how_long(self) -> None:
        one, stack = {"EXPTIME": 240.0, "OBJECT": "T"}, {"NCOMBINE": 7, "EXPTOTAL": 1680.0}
        for header, what, when in (
            (one, "T, b.fits", "240 s"),
            (stack, "stack of 7 exposures", "28 min in all"),
            (stack | one, "T, stack of 7 exposures", "28 min in all"),
            ({}, "b.fits", ""),
        ):
            self.assertEqual(caption_of("a/b.fits", header, 10.3, 90.0), [what, when, "asinh from 10.3 to 90.0 ADU"])


class SharedNoise(unittest.TestCase):
    """Against white noise of a large frame, resampled here and gathered in squares of eight pixels."""

    def truth(self, ways: list[np.ndarray], weights: np.ndarray, how: Resampling) -> float:
        rng = np.random.default_rng(31)
        areas, pixels = 0.0, 0.0
        for matrix, weight in zip(ways, weights):
            scale = math.sqrt(abs(np.linalg.det(matrix[:, :2])))
            side = int(900 * scale) // 8 * 8
            out = resample(rng.standard_normal((1200, 1200)).astype(np.float32), Transform(matrix), (int(1200 * scale),) * 2, how)
            first = (len(out) - side) // 2
            part = out[first : first + side, first : first + side]
            self.assertTrue(np.isfinite(part).all())
            blocks = part.reshape(side // 8, 8, side // 8, 8).mean(axis=(1, 3))
            areas += weight**2 * float(blocks.var()) * 64
            pixels += weight**2 * float(part.var())
        return math.sqrt(areas / pixels)

    def test_as_by_hand(self) -> None:
        facts = ExposureFacts("a", width=1200, height=1200)
        half, whole = np.array([[1.0, 0, 0.5], [0, 1, 0.5]]), np.array([[1.0, 0, 7], [0, 1, -3]])
        turned = affine(1.0, 0.02, 3.0, -9.0)
        for ways, weights, how in (
            ([half], [1.0], Resampling()), ([half], [1.0], Resampling(Kernel.BILINEAR)), ([whole], [1.0], Resampling(Kernel.BILINEAR)),
            ([turned], [1.0], Resampling(Kernel.BILINEAR)), ([half, whole], [0.8, 0.2], Resampling(Kernel.BILINEAR)),
            ([half, whole], [0.2, 0.8], Resampling(Kernel.BILINEAR)), ([affine(2.0, 0.0, 0.3, 0.2)], [1.0], Resampling()),
        ):  # fmt: skip
            tasks = [WarpTask(facts, Transform(m), (3000, 3000), "", how=how) for m in ways]
            with self.subTest(ways=ways, weights=weights, how=how):
                told = resampled_correlation(tasks, np.array(weights))
                # A patch has some 900 squares: their deviation is known to 2.4 %, that of the truth to 0.6.
                self.assertAlmostEqual(told / self.truth(ways, np.array(weights), how), 1.0, delta=0.075)
        shifted = [WarpTask(facts, Transform(whole), (1200, 1200), "", plain=True)]
        self.assertEqual(resampled_correlation(shifted, np.array([1.0])), 1.0)

    def test_not_even_white_noise_is_found_equal_by_chance(self) -> None:
        facts = ExposureFacts("a", width=1200, height=1200)
        half = WarpTask(facts, Transform.shift(0.5, 0.5), (1200, 1200), "", how=Resampling(Kernel.BILINEAR))
        whole = WarpTask(facts, Transform.shift(1.0, 2.0), (1200, 1200), "", how=Resampling(Kernel.BILINEAR))
        # Means of two by two pixels: four times the variance of areas, less what edges lose.
        self.assertAlmostEqual(resampled_correlation([half], np.array([1.0])), 1.9, delta=0.1)
        self.assertAlmostEqual(resampled_correlation([whole], np.array([1.0])), 1.0, delta=0.08)
        # Only the five that count most are looked at.
        many = [whole] * 5 + [half] * 3
        self.assertAlmostEqual(resampled_correlation(many, np.array([1.0] * 5 + [0.1] * 3)), 1.0, delta=0.08)


class Lines(unittest.TestCase):
    """Trails are of one exposure; what several show at one place of the sky is none."""

    def trail(self, x0: float, y0: float, x1: float, y1: float) -> Trail:
        return Trail(x0, y0, x1, y1, 3.0, 20.0, 50.0)

    def moving(self, *lines: tuple[Trail, Transform]) -> list[bool]:
        aligned = [Aligned(scored(str(i), (trail,)), way, 1.0) for i, (trail, way) in enumerate(lines)]
        found = moving_trails(aligned)
        return [found.get(str(i), ()) == (trail,) for i, (trail, _) in enumerate(lines)]

    def test_lines_on_the_sky_stay(self) -> None:
        spike, here = self.trail(100, 100, 900, 500), Transform.identity()
        # The same line seen by an exposure that is shifted and turned upside down, and a piece of it.
        turned = Transform(affine(1.0, math.pi, 1000.0, 800.0))
        back = turned.inverse()
        x, y = back(np.array([140.0, 700.0]), np.array([120.0, 400.0]))
        piece = self.trail(x[0], y[0], x[1], y[1])
        self.assertEqual(self.moving((spike, here), (piece, turned)), [False, False])
        self.assertEqual(self.moving((piece, turned), (spike, here)), [False, False])
        # Of a short piece all lies on it, whichever comes first.
        short = self.trail(300, 200, 500, 300)
        self.assertEqual(self.moving((spike, here), (short, here)), [False, False])
        self.assertEqual(self.moving((short, here), (spike, here)), [False, False])
        for other in (
            self.trail(100, 112, 900, 512),  # beside it
            self.trail(100, 100, 900, 540),  # another angle
            self.trail(900, 500, 1700, 900),  # its continuation
            self.trail(850, 475, 1700, 900),  # hardly more than that
            self.trail(100, 500, 900, 100),  # leaning the other way
        ):
            with self.subTest(other=other):
                self.assertEqual(self.moving((spike, here), (other, here)), [True, True])
                self.assertEqual(self.moving((other, here), (spike, here)), [True, True])

    def test_one_of_many_may_lie_there_by_chance(self) -> None:
        spike, here = self.trail(100, 100, 900, 500), Transform.identity()
        elsewhere = [(self.trail(100 + 40 * k, 700, 900, 720 + 60 * k), here) for k in range(7)]
        told = self.moving((spike, here), (spike, here), *elsewhere)
        self.assertEqual(told[:2], [True, True], "one other of eight")
        self.assertEqual(self.moving(*[(spike, here)] * 4, *elsewhere)[:4], [False] * 4)


class Overlaps(unittest.TestCase):
    """Of many pointings those are matched that may overlap."""

    def pairs(self, made: list[Scored]) -> set[tuple[int, int]]:
        return {(min(p), max(p)) for p in _pairs(made)}

    def test_all_of_a_few(self) -> None:
        made = [scored(str(k), width=100, height=80) for k in range(30)]
        self.assertEqual(len(self.pairs(made)), 30 * 29 // 2)

    def test_by_pointing(self) -> None:
        # 300 x 400 pixels of 3.6 arcsec: half a degree across the corners; rows of 0.4 degrees at 60 degrees of declination.
        made = [
            scored(
                str(k), width=300, height=400, scale_arcsec_px=3.6, ra_deg=10 + 0.8 * (k % 8), dec_deg=60.0 + 2 * (k // 8),
            )
            for k in range(40)
        ]  # fmt: skip
        expected = {(k, k + 1) for k in range(40) if k % 8 != 7}
        self.assertEqual(self.pairs(made), expected)
        # One of a wide field reaches further.
        made[0] = replace(made[0], facts=replace(made[0].facts, scale_arcsec_px=12.0))
        self.assertEqual(self.pairs(made) - expected, {(0, 2)})

    def test_by_time_where_nobody_tells_places(self) -> None:
        begin = datetime(2027, 2, 11, 20, tzinfo=UTC)
        # The later the number, the earlier the exposure.
        made = [scored(str(k), width=300, height=400, start_utc=begin - timedelta(minutes=k)) for k in range(33)]
        expected = {(k, n) for k in range(33) for n in range(k + 1, min(k + _BEFORE + 1, 33))}
        self.assertEqual(self.pairs(made), expected)


class Refined(unittest.TestCase):
    """A star that is found beside its place moves there; another is lost."""

    def test_nearest_within_a_width(self) -> None:
        stars = replace(StarTable.empty(), x=np.array([10.0, 13.0, 300.0]), y=np.array([200.0, 204.0, 80.0]))
        x, y, lost = _refined(np.array([12.0, 303.9, 304.1, 80.0]), np.array([203.0, 80.0, 80.0, 300.0]), stars, 4.0)
        self.assertEqual((x.tolist(), y.tolist()), ([13.0, 300.0, 304.1, 80.0], [204.0, 80.0, 80.0, 300.0]))
        self.assertEqual(lost.tolist(), [False, False, True, True])
        # At least two pixels, however sharp the stars.
        self.assertEqual(_refined(np.array([301.9]), np.array([80.0]), stars, 0.5)[2].tolist(), [False])
        x, y, lost = _refined(np.array([5.0]), np.array([6.0]), StarTable.empty(), 4.0)
        self.assertEqual((x.tolist(), y.tolist(), lost.tolist()), ([5.0], [6.0], [True]))


class Levels(unittest.TestCase):
    """The background over a frame, where it is wanted."""

    def test_a_slope_and_a_hole(self) -> None:
        rng = np.random.default_rng(4)
        yy, xx = np.mgrid[:600, :900]
        plane = (200 + 0.1 * xx - 0.05 * yy).astype(np.float32)
        data = plane + rng.normal(0, 3, plane.shape).astype(np.float32)
        data[200:420, 300:620] = np.nan
        rows, columns = level_places(data.shape)
        found, there = _levels(data), np.ix_(rows, columns)
        np.testing.assert_array_equal(np.isnan(found), np.isnan(data[there]))
        self.assertTrue(np.isnan(found).any())
        inner = np.isfinite(found)
        # Cells as far apart as the places follow a slope to the edges but for half a cell of it.
        self.assertLess(float(np.abs(found - plane[there])[inner].max()), 6.0)
        self.assertLess(float(np.abs(found - plane[there])[1:-1, 1:-1][inner[1:-1, 1:-1]].mean()), 1.0)


class Refusals(FolderCase):
    """What cannot be done is said before anything is made."""

    def test_a_frame_without_a_value(self) -> None:
        path = self.folder / "nothing.fits"
        write_fits(path, np.full((90, 120), np.nan, np.float32), cards={"IMAGETYP": "light"})
        for quick in (False, True):
            failed = stars_item(FindTask(scan_file(str(path)), DetectOptions(), (), "", quick))
            assert isinstance(failed, Failed)
            self.assertEqual((failed.reason, failed.file), ("it has no pixels with a value", str(path)))

    def test_no_room_for_what_lies_between(self) -> None:
        rng = np.random.default_rng(2)
        made = []
        for k in range(2):
            path = self.folder / f"{k}.fits"
            write_fits(path, rng.normal(100, 5, (200, 300)).astype(np.float32), cards={"IMAGETYP": "light"})
            made.append(scan_file(str(path)))
        options = StackOptions(align="none")
        asked: list[int] = []

        def refused(folder: Path, wanted: int) -> None:
            asked.append(wanted)
            raise DiskFull(f"{folder}: no room")

        with mock.patch("ulvar.flows.stack.check_disk", refused), self.assertRaises(DiskFull):
            stack_exposures(made, self.folder / "s.fits", JobContext(), options=options)
        # Two resampled exposures, and what is written before it is renamed.
        self.assertEqual(asked, [4 * 200 * 300 * 4])
        self.assertEqual({p.name for p in self.folder.iterdir()}, {"0.fits", "1.fits"})
        # Memory is looked at as soon as the grid is known, by what is free.
        with mock.patch("ulvar.flows.needs.available_bytes", lambda: 60_000 * 36 - 1):
            result = stack_exposures(made, self.folder / "s.fits", JobContext(), options=options)
        self.assertRegex(result.reason, r"300 x 200 px needs 0\.0 GiB of memory, and 0\.0 GiB are free: .*--scale")
        self.assertEqual({p.name for p in self.folder.iterdir()}, {"0.fits", "1.fits"})
        with mock.patch("ulvar.flows.needs.available_bytes", lambda: 60_000 * 36):
            result = stack_exposures(made, self.folder / "s.fits", JobContext(), options=options)
        assert result.needs is not None
        self.assertTrue(result.ok)
        self.assertEqual((result.needs.memory_bytes, result.needs.disk_bytes), (60_000 * 36, 960_000))
        larger = stack_needs(Frame2D(300, 200, 0, 0), 120_000, 2, drops=True)
        self.assertEqual(larger.memory_bytes, 60_000 * 96)


class Told(unittest.TestCase):
    def test_the_exposure_that_is_asked_for_is_a_mosaic_s_reference(self) -> None:
        scored: list[Any] = [SimpleNamespace(facts=ExposureFacts(name)) for name in ("a", "b")]
        with mock.patch("ulvar.flows.stack.align_mosaic") as mosaic:
            _aligned_as_asked(scored, None, StackOptions(align="mosaic", reference="b"), JobContext())
        self.assertIs(mosaic.call_args.args[2], scored[1])

    def test_numbers_of_a_report_have_two_digits_of_their_errors(self) -> None:
        for value, error, words in (
            (12.34567, 0.5, "12.35 ± 0.50"), (1234.6, 30.0, "1235 ± 30"), (12.34567, math.nan, "12.3457"), (1.5, 0.0, "1.5"), (math.nan, 1.0, "–"),
        ):  # fmt: skip
            self.assertEqual(_value(value, error), words)

    def test_stacks_of_equal_names_are_told_apart(self) -> None:
        watch = Watch(Path("in"), Path("out"), JobContext())
        fields = (("M", "V", 10), ("m", "V", 10), ("M", "V", 10), ("N/1", "V", 10), ("M", "", 10))
        names = [watch._name(ExposureFacts("x", object=name, filter=band, width=width, height=8)) for name, band, width in fields]
        self.assertEqual(names, ["V", "V-10x8", "V-2", "N-1-V", "stack"])

    def test_a_solution_in_numbers(self) -> None:
        wcs = Wcs(50.0, 10.0, 99.5, 49.5, np.array([[-2.0, 0.0], [0.0, 2.0]]) / 3600)
        told = describe(wcs, ExposureFacts("x", width=200, height=100))
        wanted = {
            "ra": 50.0, "dec": 10.0, "scale_arcsec_px": 2.0, "rotation_deg": 0.0, "flipped": False, "matched": None, "rms_arcsec": None,
        }  # fmt: skip
        self.assertEqual({k: v if v is None else round(v, 9) for k, v in told.items()}, {**wanted, "seconds": 0.0})

    def test_words_are_looked_for_from_the_first_frame_of_a_film_to_the_last(self) -> None:
        film = mock.Mock(count=100, kind="SER")
        film.read.side_effect = lambda first, last: np.zeros((1, 20, 30))
        film_words(film)
        asked = [call.args[0] for call in film.read.call_args_list]
        self.assertEqual((asked[0], asked[-1], len(asked)), (0, 99, 48))

    def test_a_way_is_bent_only_by_more_than_chance(self) -> None:
        """Also where errors are told three times too small."""
        rng, seconds = np.random.default_rng(6), np.arange(20) * 300.0
        bent = 0
        for _ in range(40):
            ra, dec = 50 + (seconds / 300 + rng.normal(0, 0.3, 20)) / 3600, 10 + rng.normal(0, 0.3, 20) / 3600
            bent += len(_best_way(seconds, ra, dec, np.full(20, 0.1)).east) > 2
        # By chance one in a hundred.
        self.assertLessEqual(bent, 3)
        way = _best_way(seconds, 50 + 1e-3 * (seconds / 6000) ** 2, np.full(20, 10.0), np.full(20, 0.1))
        self.assertGreater(len(way.east), 2)
