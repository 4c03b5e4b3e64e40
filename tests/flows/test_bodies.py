"""A moving body: from tables, elements and marks to its places in exposures, against where it was put."""

import math
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
from tools.cases import FolderCase, remember_stars

from tests.cli.support import Command
from ulvar.astrometry import Orbit, Wcs, ephemeris, offset_position, tangent_plane
from ulvar.engine import Failed, JobContext
from ulvar.flows import (
    doubts_of,
    marked_body,
    measure_positions,
    named_body,
    position_cells,
    put_solution,
    read_bodies,
    summarise_body,
    with_residuals,
)
from ulvar.flows.positions import PositionRow
from ulvar.frames import ExposureFacts, scan_file
from ulvar.photometry import StarListError, read_series
from ulvar.simulation import Psf, star_field
from ulvar.stars import StarFit

START = datetime(2027, 2, 11, 20, 0, tzinfo=UTC)
RA, DEC, SCALE = 0.002, 24.0, 2.0
COUNT = 8


class Moving(FolderCase):
    """Eight exposures of half an hour; the body moves by 120 arcsec an hour towards position angle 70."""

    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)
        rng = np.random.default_rng(7)
        self.sky = np.column_stack([RA + rng.uniform(-0.09, 0.09, 70), DEC + rng.uniform(-0.07, 0.07, 70)])
        self.flux = 10 ** rng.uniform(4.0, 5.2, 70)
        self.paths, self.solutions, self.truth = [], {}, []
        for i in range(COUNT):
            when = START + timedelta(minutes=4 * i)
            turn = math.radians(30.0 + 5 * i)
            cd = np.array([[-math.cos(turn), -math.sin(turn)], [-math.sin(turn), math.cos(turn)]]) * SCALE / 3600
            wcs = Wcs(RA, DEC, 150.0 + i, 120.0 - i, cd)
            self.truth.append(self.place(when + timedelta(seconds=15)))
            places = np.vstack([self.sky, [self.truth[-1]]])
            x, y = wcs.pixel(places[:, 0], places[:, 1])
            clear = np.hypot(x - x[-1], y - y[-1]) > 14
            clear[-1] = True
            image = star_field(
                rng, width=300, height=240, x=x[clear], y=y[clear], flux_e=np.r_[self.flux, 9000.0][clear], psf=Psf.with_fwhm(3.0),
            )  # fmt: skip
            path = self.write(
                f"b{i}.fits", image, IMAGETYP="light", EXPTIME=30.0, EGAIN=1.0, DATE_OBS=when.strftime("%Y-%m-%dT%H:%M:%S"),
                SITELAT=47.0, SITELONG=8.0, SITEELEV=600.0,
            )  # fmt: skip
            self.paths.append(path)
            self.solutions[path] = wcs
        self.exposures = [scan_file(path) for path in self.paths]

    def place(self, when: datetime) -> tuple[float, float]:
        hours = (when - START).total_seconds() / 3600
        angle = math.radians(70)
        return offset_position(RA, DEC, 120 * hours * math.sin(angle) / 3600, 120 * hours * math.cos(angle) / 3600)

    def table(self, *, off_east: float = 0.0, off_north: float = 0.0) -> str:
        lines = ["name,ra,dec,time_utc"]
        for minute in range(-10, 50, 10):
            when = START + timedelta(minutes=minute)
            ra, dec = offset_position(*self.place(when), off_east / 3600, off_north / 3600)
            lines.append(f"Mover,{ra:.8f},{dec:.8f},{when:%Y-%m-%dT%H:%M:%S}")
        path = self.folder / "mover.csv"
        path.write_text("\n".join(lines) + "\n")
        return str(path)

    def off_truth(self, rows: list[PositionRow]) -> np.ndarray:
        off = []
        for row in rows:
            k = int(row.file[1])
            east, north = tangent_plane(np.array([row.ra]), np.array([row.dec]), *self.truth[k])
            off.append((3600 * float(east[0]), 3600 * float(north[0])))
        return np.array(off)

    def test_by_a_table_that_is_off(self) -> None:
        body = named_body(self.table(off_east=1.5, off_north=-0.8), self.exposures, "mover")
        rows, outcomes = measure_positions(self.exposures, body, JobContext(), solutions=self.solutions)
        self.assertEqual([o.reason for o in outcomes], [""] * COUNT)
        off, error = self.off_truth(rows), np.array([row.error for row in rows])
        self.assertLess(np.abs(off / error).max(), 4)
        self.assertLess(abs((off / error).std() - 1), 0.6)
        self.assertLess(error.max(), 0.06)
        # Measured less told: the table was 1.5 arcsec too far east and 0.8 too far south.
        np.testing.assert_allclose([row.off for row in rows], off + np.array([-1.5, 0.8]), atol=0.01)
        s = summarise_body(rows)
        assert s is not None
        np.testing.assert_allclose(s.off, (-1.5, 0.8), atol=0.06)
        self.assertAlmostEqual(s.speed, 120, delta=0.4)
        self.assertAlmostEqual(s.angle_deg, 70, delta=0.2)
        self.assertEqual((s.count, s.outliers, s.bent), (COUNT, 0, False))
        self.assertLess(max(s.residual), 2 * max(s.expected))
        cells = position_cells(rows)
        np.testing.assert_allclose(np.array(cells["off_ra"], dtype=float), [row.off[0] for row in rows])
        np.testing.assert_allclose(np.array(cells["flux"], dtype=float), 9000, rtol=0.05)
        self.assertEqual(cells["name"], ["Mover"] * COUNT)

    def test_by_marks_in_two_exposures(self) -> None:
        marks = []
        for k in (1, 5):
            x, y = self.solutions[self.paths[k]].pixel(*self.truth[k])
            marks.append((self.exposures[k], self.solutions[self.paths[k]], float(x) + 0.4, float(y) - 0.3))
        body = marked_body("new", marks, self.exposures)
        assert not isinstance(body, Failed)
        rows, outcomes = measure_positions(self.exposures, body, JobContext(), told=False, solutions=self.solutions)
        # Before the first mark and after the last it goes on as straight.
        self.assertEqual([o.ok for o in outcomes], [True] * COUNT)
        self.assertLess(np.abs(self.off_truth(rows)).max(), 0.25)
        self.assertTrue(all(math.isnan(row.off[0]) for row in rows))
        self.assertLess(np.abs([row.residual for row in rows]).max(), 0.2)
        # 120 arcsec an hour towards 70 degrees from one place on are the same way.
        moving = marked_body("new", marks[1:], self.exposures, rate=(120.0, 70.0))
        assert not isinstance(moving, Failed)
        rows, _ = measure_positions(self.exposures, moving, JobContext(), told=False, solutions=self.solutions)
        self.assertEqual(len(rows), COUNT)
        self.assertLess(np.abs(self.off_truth(rows)).max(), 0.25)
        for k in range(COUNT):
            ra, dec = moving.sky_at(self.exposures[k].mid_utc)
            x, y = self.solutions[self.paths[k]].pixel(ra, dec)
            there = self.solutions[self.paths[k]].pixel(*self.truth[k])
            self.assertLess(math.hypot(float(x - there[0]) - 0.4, float(y - there[1]) + 0.3), 0.3)
        refused = marked_body("new", marks[:1], self.exposures)
        assert isinstance(refused, Failed)
        self.assertIn("two solved exposures", refused.reason)

    def test_what_does_not_show_it_is_named(self) -> None:
        solutions = dict(self.solutions)
        del solutions[self.paths[2]]
        far = solutions[self.paths[4]]
        solutions[self.paths[4]] = Wcs(far.ra0 + 2, far.dec0, far.x0, far.y0, far.cd)
        shifted = solutions[self.paths[6]]
        solutions[self.paths[6]] = Wcs(shifted.ra0, shifted.dec0, shifted.x0 + 40, shifted.y0 + 35, shifted.cd)
        body = named_body(self.table(), self.exposures)
        rows, outcomes = measure_positions(self.exposures, body, JobContext(), solutions=solutions, radius_arcsec=3)
        self.assertEqual([o.ok for o in outcomes], [k not in (2, 4, 6) for k in range(COUNT)])
        self.assertIn("no plate solution", outcomes[2].reason)
        self.assertIn("outside of it", outcomes[4].reason)
        self.assertRegex(outcomes[6].reason, "stands out|no star")
        self.assertEqual(len(rows), COUNT - 3)

    def test_elements_are_seen_from_the_site(self) -> None:
        path = self.folder / "elements.csv"
        path.write_text("name,q,e,i,node,peri,tp\nfirst,1.2,0.3,4,100,20,2461440.5\nsecond,0.9,0.5,7,40,80,2461460.5\n")
        first, second = read_bodies(path, self.exposures)
        self.assertEqual((first.name, second.name), ("first", "second"))
        when = self.exposures[3].mid_utc
        assert when is not None
        seen = ephemeris(Orbit("second", 0.9, 0.5, 7, 40, 80, 2461460.5), [when], (47.0, 8.0, 600.0))
        ra, dec = second.sky_at(when)
        self.assertLess(3600 * math.hypot((ra - float(seen.ra[0])) * math.cos(math.radians(dec)), dec - float(seen.dec[0])), 0.003)
        self.assertEqual(doubts_of(path, self.exposures), [])
        path.write_text(
            "name,q,e,i,node,peri,tp,epoch\nfirst,1.2,0.3,4,100,20,2461440.5,2461440.5\nsecond,0.9,0.5,7,40,80,2461460.5,2461748.5\n"
        )
        (far,) = doubts_of(path, self.exposures)
        self.assertIn("of second are of 300 days away", far)
        nowhere = [replace(facts, site_latitude_deg=None) for facts in self.exposures]
        self.assertIn("The site is not known", doubts_of(path, nowhere)[0])
        self.assertEqual(doubts_of(self.table(), nowhere), [], "places by time are of their own observer")
        with self.assertRaisesRegex(StarListError, "there is no 'third'.*first, second"):
            named_body(path, self.exposures, "third")
        with self.assertRaisesRegex(StarListError, "times of the exposures"):
            read_bodies(path, [ExposureFacts("x.fits")])
        still = self.folder / "still.csv"
        still.write_text("name,ra,dec\na,10,20\n")
        with self.assertRaisesRegex(StarListError, "no star in it moves"):
            read_bodies(still, self.exposures)


class Residuals(FolderCase):
    def rows(self, east: np.ndarray, north: np.ndarray, error: float = 0.1) -> list[PositionRow]:
        fit = StarFit(5.0, 5.0, 100.0, np.eye(3), 1.0, 3.0, False, True)
        rows = []
        for k, (e, n) in enumerate(zip(east, north)):
            ra, dec = offset_position(359.9999, -40.0, float(e) / 3600, float(n) / 3600)
            rows.append(PositionRow(f"r{k}", "b", START + timedelta(minutes=6 * k), fit, ra, dec, (error, error)))
        return rows

    def test_a_straight_and_a_bent_way(self) -> None:
        rng = np.random.default_rng(3)
        hours = np.arange(12) / 10
        noise = rng.normal(0, 0.1, (2, 12))
        rows, way = with_residuals(self.rows(40 * hours + noise[0], -30 * hours + noise[1]))
        assert way is not None
        self.assertEqual(len(way.east), 2)
        self.assertAlmostEqual(way.rate[0], 50, delta=0.4)
        self.assertAlmostEqual(way.rate[1], 180 - math.degrees(math.atan2(40, 30)), delta=0.5)
        self.assertLess(abs(np.std([r.residual for r in rows]) - 0.1), 0.04)
        self.assertFalse(any(r.outlier for r in rows))
        _, bent = with_residuals(self.rows(40 * hours + 3 * hours**2 + noise[0], -30 * hours + noise[1]))
        assert bent is not None
        self.assertEqual(len(bent.east), 3)

    def test_one_that_stands_off(self) -> None:
        hours = np.arange(10) / 10
        east = 40 * hours
        east[6] += 1.2
        rows, way = with_residuals(self.rows(east, 10 * hours, 0.1))
        self.assertEqual([r.outlier for r in rows], [k == 6 for k in range(10)])
        # It stays in the table, and does not draw the way towards it.
        self.assertAlmostEqual(rows[6].residual[0], 1.2, delta=0.01)
        assert way is not None
        self.assertAlmostEqual(way.rate[0], math.hypot(40, 10), delta=0.05)
        s = summarise_body(rows)
        assert s is not None
        self.assertEqual((s.count, s.outliers), (9, 1))

    def test_few(self) -> None:
        self.assertIsNone(summarise_body([]))
        _, way = with_residuals(self.rows(np.array([0.0]), np.array([0.0])))
        self.assertIsNone(way)
        two, _ = with_residuals(self.rows(np.array([0.0, 2.0]), np.array([0.0, 1.0])))
        self.assertTrue(all(math.isnan(r.residual[0]) for r in two))


class BodyCommand(Command, Moving):
    def test_table_and_marks(self) -> None:
        for path, wcs in self.solutions.items():
            put_solution(Path(path), wcs, "made")
        out = self.folder / "places.vot"
        code, body = self.json("body", *self.paths, "--table", self.table(off_east=1.0), "--out", out)
        self.assertEqual(code, 0)
        self.assertEqual(len(body["positions"]), COUNT)
        self.assertAlmostEqual(body["summary"]["off"][0], -1.0, delta=0.06)
        self.assertIn("<VOTABLE", out.read_text())
        x, y = (self.solutions[self.paths[k]].pixel(*self.truth[k]) for k in (0, 7))
        marks = [f"--at={self.paths[k]}:{float(px) + 1:.1f},{float(py) + 1:.1f}" for k, (px, py) in ((0, x), (7, y))]
        code, text, _ = self.ulvar("body", *self.paths, *marks, "--name", "new one")
        self.assertEqual(code, 0)
        self.assertIn("it moves 1", text)
        self.assertNotIn("measured less told", text)

    def test_measured_along_with_stars(self) -> None:
        for path, wcs in self.solutions.items():
            put_solution(Path(path), wcs, "made")
        listed, out = self.folder / "list.csv", self.folder / "rows.csv"
        ra, dec = self.sky[5]
        listed.write_text(f"name,role,ra,dec\nT,target,{ra % 360:.7f},{dec:.7f}\n")
        code, body = self.json(
            "measure", *self.paths, "--stars", listed, "--bodies", self.table(), "--out", out, "--aperture", "6", "--annulus", "9,13",
        )  # fmt: skip
        self.assertEqual((code, body["rows"]), (0, 2 * COUNT), body)
        rows = [row for row in read_series(out).rows if row.name == "Mover"]
        self.assertEqual(len(rows), COUNT)
        for k, row in enumerate(rows):
            x, y = self.solutions[self.paths[k]].pixel(*self.truth[k])
            self.assertLess(math.hypot(row.x - float(x), row.y - float(y)), 0.02)
            self.assertAlmostEqual(row.flux / 9000, 1, delta=0.12)

    def test_wrong_usage(self) -> None:
        table = self.table()
        for words, told in (
            ((), "by one of them"), (("--table", table, "--at", f"{self.paths[0]}:3,4"), "by one of them"),
            (("--table", table, "--name", "nobody"), "there is no 'nobody'"), (("--table", table, "--radius", "0"), "above 0"),
            (("--at", f"{self.paths[0]}:3,4"), "no plate solution"), (("--table", self.folder / "none.csv"), "none.csv"),
            (("--table", table, "--out", "x.docx"), "tables are written"),
        ):  # fmt: skip
            code, _, error = self.ulvar("body", *self.paths, *words)
            self.assertEqual((code, told in error), (2, True), error)
