"""Stacks on a moving body: it stays a point and keeps its light, while the stars trail."""

import json
import math
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from unittest import mock

import numpy as np
from tools.cases import FolderCase, remember_stars

from tests.cli.support import Command
from tests.registration.test_registration import affine
from ulvar.astrometry import Wcs, offset_position, wcs_from_header
from ulvar.cli.places import given_body
from ulvar.engine import JobContext
from ulvar.flows import Aligned, Body, Scored, StackOptions, StackResult, stack_exposures
from ulvar.flows.body import _cut
from ulvar.frames import ExposureFacts, Role, header_of, read_plane, scan_file, write_fits
from ulvar.photometry import ListedStar, measure_apertures
from ulvar.registration import Transform
from ulvar.simulation import Psf, add_stars
from ulvar.stars import StarTable, Trail

WIDTH, HEIGHT, SKY, NOISE, COUNT = 360, 260, 150.0, 5.0, 8
START = datetime(2027, 2, 11, 20, 0, tzinfo=UTC)
EVERY, SECONDS = timedelta(minutes=10), 60.0
# On the first exposure, px and px an hour; it bends a little.
FROM, SPEED, BEND, LIGHT = (120.0, 150.0), (60.0, -35.0), (4.0, 6.0), 9000.0
# A second of arc and a half a pixel, north to the upper left.
SOLUTION = Wcs(115.5, 41.2, 180.0, 130.0, 1.5 / 3600 * np.array([[-0.9, -math.sqrt(0.19)], [-math.sqrt(0.19), 0.9]]))


def way_of(k: int) -> Transform:
    """Carry the pixels of an exposure onto those of the first one: moved and a little turned."""
    return Transform(affine(1.0, 0.003 * k, 3.0 * k, -2.0 * k))


def place_at(when: datetime) -> tuple[float, float]:
    """Return where the body is on the first exposure."""
    hours = (when - START).total_seconds() / 3600
    x, y = (p + v * hours + b * hours**2 for p, v, b in zip(FROM, SPEED, BEND))
    return x, y


def middle(k: int) -> datetime:
    """Return the middle of an exposure."""
    return START + k * EVERY + timedelta(seconds=SECONDS / 2)


class BodyCase(FolderCase):
    def field(self, *, solved: bool = False, timeless: int = -1) -> list[ExposureFacts]:
        """Write exposures of stars and a body among them."""
        remember_stars(self)
        rng = np.random.default_rng(4)
        x, y = rng.uniform(-20, WIDTH + 20, 70), rng.uniform(-20, HEIGHT + 20, 70)
        flux = 10 ** rng.uniform(3.3, 4.8, 70)
        made = []
        for k in range(COUNT):
            back = way_of(k).inverse()
            u, v = back(*(np.append(s, b) for s, b in zip((x, y), place_at(middle(k)))))
            image = np.full((HEIGHT, WIDTH), SKY)
            add_stars(image, u, v, np.append(flux, LIGHT), Psf(1.3))
            image = (image + rng.normal(0, NOISE, image.shape)).astype(np.float32)
            cards = {"IMAGETYP": "light", "EXPTIME": SECONDS, "GAIN": 1.0, "FILTER": "V"}
            if k != timeless:
                cards["DATE-OBS"] = f"{START + k * EVERY:%Y-%m-%dT%H:%M:%S}"
            path = self.folder / f"light-{k}.fits"
            told = [*cards.items()] + ([(n, w) for n, w, _ in SOLUTION.cards()] if solved and k == 0 else [])
            write_fits(path, image, cards=dict(told), replace=True)
            made.append(scan_file(str(path)))
        return made

    def marks(self, exposures: list[ExposureFacts], *which: int, off: float = 0.0) -> tuple[tuple[str, float, float], ...]:
        """Return where the body is in exposures, in their own pixels."""
        found = []
        for k in which:
            u, v = way_of(k).inverse()(*(np.array([c]) for c in place_at(middle(k))))
            found.append((exposures[k].path, float(u[0]) + off, float(v[0]) - off))
        return tuple(found)

    def stack(self, exposures: list[ExposureFacts], body: Body, **options: object) -> StackResult:
        settings = StackOptions(reference=exposures[0].path, body=body, **options)  # type: ignore[arg-type]
        return stack_exposures(exposures, self.folder / "stack.fits", JobContext(), options=settings, replace=True)

    def check(self, result: StackResult, *, count: int = COUNT, within_px: float = 0.08) -> None:
        """The body lies where it was on the first exposure, as sharp as a star and with all its light; stars are gone."""
        self.assertTrue(result.ok, result.reason)
        assert result.body is not None
        self.assertEqual(result.body.reason, "")
        at = place_at(middle(0))
        found = read_plane(result.body.output)
        light, x, y = _measured(found, at)
        error = NOISE * math.sqrt(math.pi * 36 / count)
        self.assertLess(abs(light - LIGHT), 4 * error + 0.01 * LIGHT)
        self.assertLess(math.hypot(x - at[0], y - at[1]), within_px)
        # In the stack of the stars it is rejected nearly everywhere.
        self.assertLess(_measured(read_plane(result.output), at)[0], 0.25 * LIGHT)
        self.assertEqual(header_of(result.body.output)["NCOMBINE"], count)


def _measured(picture: np.ndarray, at: tuple[float, float]) -> tuple[float, float, float]:
    """Return light within 6 px, and the centroid within 4 px."""
    one = measure_apertures(picture, np.array([at[0]]), np.array([at[1]]), radius_px=6.0, inner_px=14.0, outer_px=22.0)
    yy, xx = np.mgrid[: picture.shape[0], : picture.shape[1]]
    near = np.hypot(xx - at[0], yy - at[1]) < 4
    weight = np.clip(picture[near] - SKY, 0, None)
    return (
        float(one.flux[0]), float((xx[near] * weight).sum() / weight.sum()), float((yy[near] * weight).sum() / weight.sum()),
    )  # fmt: skip


class Marked(BodyCase):
    def test_three_marks_follow_a_bent_way(self) -> None:
        exposures = self.field()
        # Clicked beside it, another way each time: the detection next to the place is the body.
        marks = [mark for k, off in ((0, 1.8), (4, -1.8), (7, 1.8)) for mark in self.marks(exposures, k, off=off)]
        result = self.stack(exposures, Body(tuple(marks)))
        self.check(result)
        assert result.body is not None
        self.assertAlmostEqual(result.body.px_h, math.hypot(*SPEED), delta=2.0)
        self.assertAlmostEqual(result.body.angle_deg, math.degrees(math.atan2(SPEED[1], SPEED[0])) % 360, delta=2.0)
        self.assertTrue(b"aligned on a moving body: 69." in Path(result.body.output).read_bytes()[:20000])
        # It moves 1.2 px in a minute: less than stars are wide.
        self.assertAlmostEqual(result.body.smear_px, 1.16, delta=0.1)
        self.assertEqual(result.body.smeared, "")

    def test_two_marks_make_a_straight_way(self) -> None:
        exposures = self.field()
        result = self.stack(exposures, Body(self.marks(exposures, 0, 7)))
        assert result.body is not None
        self.assertTrue(result.body.output)
        # Half way it is off by an eighth of the bend over 70 minutes squared.
        light, _, _ = _measured(read_plane(result.body.output), place_at(middle(0)))
        self.assertGreater(light, 0.8 * LIGHT)

    def test_what_cannot_be_followed_is_told(self) -> None:
        exposures = self.field(timeless=3)
        with self.assertRaisesRegex(ValueError, "in two exposures"):
            Body(((exposures[0].path, 1.0, 1.0), (exposures[0].path, 9.0, 1.0)))
        with self.assertRaisesRegex(ValueError, "by one of them"):
            Body(self.marks(exposures, 0, 1), rate=(10.0, 0.0))
        with self.assertRaisesRegex(ValueError, "by one of them"):
            Body()
        result = self.stack(exposures, Body(self.marks(exposures, 0, 4, 7)))
        self.check(result, count=COUNT - 1)
        assert result.body is not None
        self.assertEqual([(Path(f.file).name, f.reason) for f in result.body.lost], [("light-3.fits", "its time is not known")])
        lost = self.stack(exposures, Body(self.marks(exposures, 0, 3)))
        assert lost.body is not None
        self.assertTrue(lost.ok)
        self.assertIn("marked in light-3.fits, but its time is not known", lost.body.reason)
        rate = self.stack(exposures, Body(rate=(100.0, 30.0)))
        assert rate.body is not None
        self.assertIn("solve the plate of light-0.fits first", rate.body.reason)

    def test_exposures_that_are_not_aligned_follow_it_all_the_same(self) -> None:
        with mock.patch(f"{__name__}.way_of", lambda k: Transform.identity()):
            exposures = self.field()
            self.check(self.stack(exposures, Body(self.marks(exposures, 0, 4, 7)), align="none"))

    def test_its_own_trail_stays_and_that_of_a_satellite_goes(self) -> None:
        """A body that is long in each exposure is found as a trail, which moves over the stars but not in this stack."""
        satellite = Trail(10, 200, 300, 20, 3.0, 20.0, 1.0)
        aligned, followed = [], []
        for k in range(4):
            one = Trail(50.0 + 30 * k, 60, 80.0 + 30 * k, 70, 3.0, 20.0, 1.0)
            trails = (one, satellite) if k == 2 else (one,)
            facts = ExposureFacts(f"{k}.fits", Role.LIGHT, width=360, height=260)
            scored = Scored(facts, StarTable.empty(), None, trails=trails)  # type: ignore[arg-type]
            aligned.append(Aligned(scored, Transform.identity(), 1.0))
            followed.append(Aligned(scored, Transform.shift(-30.0 * k, 0), 1.0))
        cut = {path: trails for path, trails in _cut(aligned, followed).items() if trails}
        self.assertEqual(cut, {"2.fits": (satellite,)})

    def test_a_long_body_is_told(self) -> None:
        exposures = [replace(f, exposure_s=240.0) for f in self.field()]
        result = self.stack(exposures, Body(self.marks(exposures, 0, 4, 7)))
        assert result.body is not None
        self.assertRegex(result.body.smeared, r"moves 4\.\d px during an exposure, 1\.\d times the FWHM")


class Tracked(BodyCase):
    def track(self, first: int = -1, last: int = COUNT) -> ListedStar:
        rows = []
        for k in range(first, last + 1):
            when = middle(k)
            ra, dec = SOLUTION.sky(*place_at(when))
            rows.append((when.timestamp(), float(ra), float(dec)))
        return ListedStar("body", "target", track=tuple(rows))


class OnTheSky(Tracked):
    def test_by_an_ephemeris(self) -> None:
        exposures = self.field(solved=True)
        result = self.stack(exposures, Body(track=self.track()))
        self.check(result)
        assert result.body is not None
        # The place that the file tells of the body is that of the reference's middle.
        known = wcs_from_header(header_of(result.body.output))
        assert known is not None
        ra, dec = SOLUTION.sky(*place_at(middle(0)))
        np.testing.assert_allclose(known.pixel(ra, dec), np.array(place_at(middle(0))), atol=1e-6)

    def test_exposures_beyond_the_table_are_left_out_and_named(self) -> None:
        exposures = self.field(solved=True)
        result = self.stack(exposures, Body(track=self.track(-1, 5)))
        self.check(result, count=6)
        assert result.body is not None
        self.assertEqual([Path(f.file).name for f in result.body.lost], ["light-6.fits", "light-7.fits"])
        self.assertIn("table does not reach", result.body.lost[0].reason)
        none = self.stack(exposures, Body(track=self.track(1, 5)))
        assert none.body is not None
        self.assertIn("on the reference: the table does not reach its time", none.body.reason)

    def test_by_a_rate(self) -> None:
        exposures = self.field(solved=True)
        begin, end = (SOLUTION.sky(*place_at(middle(k))) for k in (0, 7))
        ra0, dec0 = float(begin[0]), float(begin[1])
        hours = (middle(7) - middle(0)).total_seconds() / 3600
        # Small angles: offsets on the plane are those on the sky.
        east = (float(end[0]) - ra0) * math.cos(math.radians(dec0))
        north = float(end[1]) - dec0
        speed, angle = 3600 * math.hypot(east, north) / hours, math.degrees(math.atan2(east, north))
        reached = offset_position(ra0, dec0, east, north)
        np.testing.assert_allclose(reached, (float(end[0]), float(end[1])), atol=2e-6)
        result = self.stack(exposures, Body(rate=(speed, angle)))
        assert result.body is not None
        light, x, y = _measured(read_plane(result.body.output), place_at(middle(0)))
        self.assertGreater(light, 0.8 * LIGHT)
        self.assertLess(math.hypot(x - place_at(middle(0))[0], y - place_at(middle(0))[1]), 1.5)


class OnTheCommandLine(Tracked, Command):
    def test_tables_marks_and_what_is_wrong_with_them(self) -> None:
        exposures = self.field(solved=True)
        files, out = [f.path for f in exposures], self.folder / "out" / "s.fits"
        table = self.folder / "body.csv"
        rows = [f"body,target,{ra},{dec},{datetime.fromtimestamp(t, UTC):%Y-%m-%dT%H:%M:%S}" for t, ra, dec in self.track().track]
        table.write_text("\n".join(["name,role,ra,dec,time_utc", *rows]), encoding="utf-8")
        first = ["stack", *files, "--reference", files[0]]
        code, text, _ = self.ulvar(*first, "--out", str(out), "--body-table", str(table), "--json")
        told = json.loads(text)["series"][0]["body"]
        self.assertEqual((code, told["output"], told["reason"]), (0, str(out.with_name("s-body.fits")), ""))
        light, _, _ = _measured(read_plane(told["output"]), place_at(middle(0)))
        self.assertGreater(light, 0.97 * LIGHT)
        # The same by marks, which count pixels from 1.
        marks = [f"--body-at={path}:{x + 1},{y + 1}" for path, x, y in self.marks(exposures, 0, 4, 7)]
        given = given_body([mark.removeprefix("--body-at=") for mark in marks], None, None, exposures)
        assert given is not None
        np.testing.assert_allclose([m[1:] for m in given.marks], [m[1:] for m in self.marks(exposures, 0, 4, 7)], atol=1e-9)
        code, text, _ = self.ulvar(*first, "--out", str(self.folder / "m.fits"), *marks)
        self.assertEqual(code, 0)
        self.assertIn("m-body.fits: on the body, which moves 6", text)
        for wrong, why in (
            (["--common=a"], "takes FILE:X,Y=FILE:X,Y"), ([f"--common={files[0]}:1,2={files[0]}:3,4"], "in one other exposure"),
            ([f"--common={files[0]}:1,2={files[1]}:3,4"] * 3, "two stars of an exposure are enough"),
            (["--align=none", "--common=a"], "aligned by stars"), ([marks[0]], "in two exposures"), (["--body-rate=5"], "takes ARCSEC_H,ANGLE"), (["--body-rate=-5,30"], "the speed is over 0"),
            (["--body-rate=5,360.5"], "the angle from"), (["--body-rate=5,-360.5"], "the angle from"),
            (["--body-at=x.fits:1,2"], "x.fits is not among"), (["--body-at=1,2"], "is not among"), (["--body-at=a:nan,2"], "takes FILE:X,Y"),
            ([f"--body-table={files[0]}"], "light-0.fits"), ([*marks, "--body-rate=5,6"], "by one of them"),
            (["--align=mosaic", "--body-rate=5,6"], "not on a mosaic"),
        ):  # fmt: skip
            code, _, problem = self.ulvar(*first, "--out", str(self.folder / "w.fits"), *wrong)
            self.assertEqual(code, 2, wrong)
            self.assertIn(why, problem)
        self.assertFalse((self.folder / "w.fits").exists())


class Tracks(FolderCase):
    def test_a_target_between_the_rows_of_its_table(self) -> None:
        """Over 0 h and close to a pole, where RA changes by degrees between two rows."""
        when = [START + timedelta(hours=h) for h in range(6)]
        angle = np.radians(np.arange(6) * 4.0)
        # A circle of 2 degrees about a place 3 degrees from the pole.
        places = [offset_position(359.9, 87.0, 2 * math.cos(a), 2 * math.sin(a)) for a in angle]
        star = ListedStar("b", "target", track=tuple((w.timestamp(), *p) for w, p in zip(when, places)))
        half = np.radians(10.0)
        expected = offset_position(359.9, 87.0, 2 * math.cos(half), 2 * math.sin(half))
        ra, dec = star.sky_at(START + timedelta(hours=2.5))
        away = math.hypot((ra - expected[0] + 180) % 360 - 180, 0) * math.cos(math.radians(dec)), dec - expected[1]
        self.assertLess(3600 * math.hypot(*away), 0.2)
        self.assertTrue(all(math.isnan(v) for v in star.sky_at(START - timedelta(seconds=1))))
        self.assertEqual(ListedStar("b", "target", track=((5.0, 1.0, 2.0),)).sky_at(datetime.fromtimestamp(5, UTC)), (1.0, 2.0))
