"""The same pair in many exposures: means, scatter, what stands off, and the table."""

import math
from datetime import UTC, datetime, timedelta
from pathlib import Path

import fitsio
import numpy as np
import pyarrow.parquet as pq
from tools.cases import FolderCase

from ulvar.astrometry import Wcs, position_angle_deg, separation_deg
from ulvar.astrometry.votable import read_votable
from ulvar.engine import JobContext
from ulvar.flows import PAIR_COLUMNS, PairRow, make_reference, measure_pairs, pair_cells, paired, summarise, told_off, write_pairs
from ulvar.frames import scan_file
from ulvar.photometry import ListedStar
from ulvar.simulation import Psf, star_field
from ulvar.stars import PairFit

START = datetime(2027, 2, 11, 20, 0, 0, tzinfo=UTC)


def row(x: float, y: float, *, error: float = 0.02, wcs: Wcs | None = None, minute: int = 0) -> PairRow:
    """Return a pair whose second star lies at (x, y) from its first."""
    fit = PairFit(
        np.array([50.0, 50.0 + x]), np.array([60.0, 60.0 + y]), np.array([1000.0, 500.0]),
        np.diag([error**2 / 2] * 4 + [25.0, 25.0]), 1.0, 3.0, False, True,
    )  # fmt: skip
    return paired(fit, wcs, f"e{minute}", START + timedelta(minutes=minute))


class Means(FolderCase):
    def test_of_pixels(self) -> None:
        rows = told_off([row(3 + dx, 4 + dy, minute=i) for i, (dx, dy) in enumerate([(0.1, 0), (-0.1, 0), (0, 0.1), (0, -0.1)])])
        s = summarise(rows)
        assert s is not None
        self.assertEqual((s.count, s.outliers, s.solved), (4, 0, False))
        self.assertAlmostEqual(s.separation, 5.0, delta=1e-9)
        self.assertAlmostEqual(s.angle_deg, math.degrees(math.atan2(4, 3)), delta=1e-9)
        # Along (0.6, 0.8) the four lie off by 0.06, -0.06, 0.08, -0.08; across by the same the other way round.
        along = np.array([0.06, -0.06, 0.08, -0.08]).std(ddof=1)
        self.assertAlmostEqual(s.separation_scatter, along, delta=1e-9)
        self.assertAlmostEqual(s.separation_error, along / 2, delta=1e-9)
        self.assertAlmostEqual(s.angle_scatter_deg, math.degrees(along / 5), delta=1e-9)
        self.assertAlmostEqual(s.expected_separation, 0.02, delta=1e-9)
        self.assertAlmostEqual(s.difference_mag, 2.5 * math.log10(2), delta=1e-9)
        self.assertAlmostEqual(s.year, 2027.1139, delta=1e-3)

    def test_the_mean_of_a_close_pair_is_not_too_long(self) -> None:
        rng = np.random.default_rng(1)
        rows = [row(*(np.array([0.5, 0.0]) + rng.normal(0, 0.4, 2)), error=0.57, minute=i) for i in range(400)]
        s = summarise(rows)
        assert s is not None
        self.assertAlmostEqual(s.separation, 0.5, delta=4 * 0.4 / 20)
        self.assertGreater(np.mean([r.fit.separation_px[0] for r in rows]), 0.6)

    def test_the_difference_is_weighed_by_its_errors(self) -> None:
        rows = [row(3, 4), row(3, 4), row(3, 4)]
        for one, fainter, error in zip(rows, (0.5, 0.4, 0.1), (1.0, 1.0, 10.0)):
            one.fit.flux[1] = 1000 * fainter
            one.fit.covariance[4:, 4:] = np.diag([error**2, error**2])
        s = summarise(rows)
        assert s is not None
        differences = -2.5 * np.log10([0.5, 0.4, 0.1])
        errors = np.array([one.fit.difference_mag[1] for one in rows])
        self.assertAlmostEqual(s.difference_mag, float((differences / errors**2).sum() / (1 / errors**2).sum()), delta=1e-9)
        self.assertLess(s.difference_mag, 1.0)

    def test_errors_along_both_axes_are_those_of_the_difference(self) -> None:
        one, spread = row(3, 4), np.random.default_rng(2).normal(size=(4, 4))
        one.fit.covariance[:4, :4] = spread @ spread.T
        between = np.array([[-1, 0, 1, 0], [0, -1, 0, 1]]) @ spread
        np.testing.assert_allclose(one.offset_error, np.sqrt((between**2).sum(axis=1)))

    def test_what_stands_off_is_left_away(self) -> None:
        rng = np.random.default_rng(4)
        offsets = np.array([6.0, -2.0]) + rng.normal(0, 0.015, (12, 2))
        offsets[7] += (0.0, 0.4)
        wcs = Wcs(40.0, 10.0, 50.0, 60.0, np.array([[-2.0, 0], [0, 2.0]]) / 3600)
        rows = told_off([row(*offset, wcs=wcs, minute=i) for i, offset in enumerate(offsets)])
        self.assertEqual([r.outlier for r in rows], [i == 7 for i in range(12)])
        self.assertIn("outlier", rows[7].flags)
        s = summarise(rows)
        assert s is not None
        self.assertEqual((s.count, s.outliers, s.solved), (11, 1, True))
        # To the west by 12 arcsec and to the south by 4.
        self.assertAlmostEqual(s.angle_deg, 180 + math.degrees(math.atan2(12, 4)), delta=0.1)
        self.assertAlmostEqual(s.separation, 2 * math.hypot(6, 2), delta=0.03)
        self.assertIsNone(summarise([]))

    def test_angles_on_both_sides_of_north(self) -> None:
        wcs = Wcs(40.0, 10.0, 50.0, 60.0, np.array([[-1.0, 0], [0, 1.0]]) / 3600)
        s = summarise([row(dx, 10, wcs=wcs) for dx in (-0.2, 0.1, 0.1, 0.0)])
        assert s is not None
        self.assertLess(min(s.angle_deg, 360 - s.angle_deg), 0.01)
        self.assertLess(s.angle_scatter_deg, 1.5)

    def test_an_unsolved_one_among_solved_ones(self) -> None:
        wcs = Wcs(40.0, 10.0, 50.0, 60.0, np.array([[-1.0, 0], [0, 1.0]]) / 3600)
        s = summarise([row(3, 4, wcs=wcs), row(3, 4), row(3, 4, wcs=wcs)])
        assert s is not None
        self.assertEqual((s.count, s.unsolved), (2, 1))


class Tables(FolderCase):
    def test_every_format_holds_the_same(self) -> None:
        wcs = Wcs(40.0, 10.0, 50.0, 60.0, np.array([[-1.5, 0], [0, 1.5]]) / 3600)
        rows = [row(3, 4, wcs=wcs), row(3.1, 4, minute=5)]
        cells = pair_cells(rows)
        names = [name for name, *_ in PAIR_COLUMNS]
        truth = {"separation": [7.5, math.nan], "separation_px": [5.0, math.hypot(3.1, 4)], "x2": [53.0, 53.1]}
        for name, values in truth.items():
            np.testing.assert_allclose(np.array(cells[name], dtype=float), values, atol=1e-3)
        for ending in (".csv", ".vot", ".fits", ".parquet"):
            path = self.folder / f"pair{ending}"
            write_pairs(path, rows)
            with self.assertRaisesRegex(Exception, "exists"):
                write_pairs(path, rows)
            found = self.read(path)
            self.assertEqual(list(found), names, ending)
            for name, _, decimals, _ in PAIR_COLUMNS:
                if decimals is not None:
                    np.testing.assert_allclose(
                        np.array([float(v) if v not in ("", None) else math.nan for v in found[name]]),
                        np.array(cells[name], dtype=float), atol=0.51 * 10.0**-decimals, err_msg=name,
                    )  # fmt: skip
            self.assertEqual([str(v)[:16].replace(" ", "T") for v in found["time_utc_mid"]], ["2027-02-11T20:00", "2027-02-11T20:05"])
            self.assertEqual(list(found["file"]), ["e0", "e5"])

    def read(self, path: Path) -> dict[str, list]:
        if path.suffix == ".csv":
            lines = [line.split(",") for line in path.read_text().splitlines()]
            return dict(zip(lines[0], map(list, zip(*lines[1:]))))
        if path.suffix == ".parquet":
            table = pq.read_table(path)
            self.assertEqual(table.schema.field("separation").metadata[b"unit"], b"arcsec")
            self.assertEqual(table.schema.metadata[b"time_scale"], b"UTC")
            return {k: ["" if v is None else v for v in values] for k, values in table.to_pydict().items()}
        if path.suffix == ".fits":
            with fitsio.FITS(str(path)) as handle:
                self.assertEqual(handle[1].read_header()["TUNIT5"], "arcsec")
                told = " ".join(str(c["value"]) for c in handle[1].read_header().records() if c["name"] == "HISTORY")
                self.assertIn("time_scale: UTC", told)
                data = handle[1].read()
            return {name: [v.decode().strip() if isinstance(v, bytes) else v for v in data[name].tolist()] for name in data.dtype.names}
        ((fields, columns),) = read_votable(path)
        self.assertEqual(next(f.unit for f in fields if f.name == "separation"), "arcsec")
        self.assertIn('name="time_scale"', path.read_text())
        return {f.name: list(columns[f.name]) for f in fields}


class Series(FolderCase):
    """A pair in frames that are shifted and turned, on the sky and by the alignment."""

    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(6)
        self.scale, self.ra, self.dec = 1.8, 83.0, 31.0
        self.sky = np.column_stack([self.ra + rng.uniform(-0.08, 0.08, 60), self.dec + rng.uniform(-0.07, 0.07, 60)])
        self.sky[0] = (self.ra, self.dec)
        self.sky[1] = (self.ra + 9.0 / 3600 / math.cos(math.radians(self.dec)), self.dec + 7.0 / 3600)
        apart = np.hypot((self.sky[2:, 0] - self.ra) * 0.857, self.sky[2:, 1] - self.dec) * 3600
        self.sky = np.vstack([self.sky[:2], self.sky[2:][apart > 35]])
        self.flux = np.r_[50_000.0, 20_000.0, 10 ** rng.uniform(4, 5, len(self.sky) - 2)]
        self.paths, self.solutions = [], {}
        for i in range(5):
            turn = math.radians(20.0 * i)
            cd = np.array([[-math.cos(turn), -math.sin(turn)], [-math.sin(turn), math.cos(turn)]]) * self.scale / 3600
            wcs = Wcs(self.ra, self.dec, 140.0 + 3 * i, 118.0 - 2 * i, cd)
            x, y = wcs.pixel(self.sky[:, 0], self.sky[:, 1])
            image = star_field(rng, width=280, height=240, x=x, y=y, flux_e=self.flux, psf=Psf.with_fwhm(3.0))
            path = self.write(
                f"e{i}.fits", image, IMAGETYP="light", DATE_OBS=f"2027-02-11T20:{i:02d}:00", EXPTIME=20.0, EGAIN=1.0
            )  # fmt: skip
            self.paths.append(path)
            self.solutions[path] = wcs
        self.exposures = [scan_file(path) for path in self.paths]
        self.apart = 3600 * float(separation_deg(*self.sky[0], *self.sky[1]))
        self.angle = float(position_angle_deg(*self.sky[0], *self.sky[1]))

    def test_on_the_sky(self) -> None:
        stars = tuple(ListedStar(n, "target", ra=a, dec=d) for n, (a, d) in zip("ab", self.sky[:2]))
        rows, outcomes = measure_pairs(self.exposures, stars, JobContext(), solutions=self.solutions)  # type: ignore[arg-type]
        self.assertTrue(all(o.ok for o in outcomes))
        self.assertEqual([r.file for r in rows], [f"e{i}.fits" for i in range(5)])
        for one in rows:
            assert one.sky is not None
            self.assertLess(abs(one.sky.arcsec - self.apart), 4 * one.sky.arcsec_error)
            self.assertLess(abs(one.sky.angle_deg - self.angle), 4 * one.sky.angle_error_deg)
            self.assertLess(one.sky.arcsec_error, 0.08)
        s = summarise(rows)
        assert s is not None
        self.assertLess(abs(s.separation - self.apart), 4 * s.expected_separation / math.sqrt(5))
        self.assertAlmostEqual(s.difference_mag, 2.5 * math.log10(2.5), delta=0.02)

    def test_by_the_alignment(self) -> None:
        reference = make_reference(self.exposures[2])
        x, y = self.solutions[self.paths[2]].pixel(*self.sky[:2].T)
        stars = tuple(ListedStar(n, "target", x=float(a), y=float(b)) for n, a, b in zip("ab", x, y))
        rows, outcomes = measure_pairs(self.exposures, stars, JobContext(), reference=reference)  # type: ignore[arg-type]
        self.assertEqual([o.ok for o in outcomes], [True] * 5)
        for i, one in enumerate(rows):
            self.assertIsNone(one.sky)
            self.assertAlmostEqual(one.fit.separation_px[0], self.apart / self.scale, delta=4 * one.fit.separation_px[1])
            px, py = self.solutions[self.paths[i]].pixel(*self.sky[:2].T)
            np.testing.assert_allclose(one.fit.x, px, atol=0.1)
            np.testing.assert_allclose(one.fit.y, py, atol=0.1)
        # The picture turns: separations agree all the same, and none stands off.
        self.assertFalse(any(r.outlier for r in rows))

    def test_a_frame_that_shows_nothing_else(self) -> None:
        rng = np.random.default_rng(2)
        paths = []
        for i in range(3):
            x, y = np.array([30.0, 36.0]) + 4 * i, np.array([28.0, 31.0]) - 3 * i
            image = star_field(rng, width=72, height=64, x=x, y=y, flux_e=np.array([40_000.0, 25_000.0]), psf=Psf.with_fwhm(3.0))
            paths.append(self.write(f"only{i}.fits", image, IMAGETYP="light", EXPTIME=0.1, EGAIN=1.0))
        exposures = [scan_file(path) for path in paths]
        stars = ListedStar("a", "target", x=30.2, y=27.9), ListedStar("b", "target", x=36.2, y=31.1)
        rows, outcomes = measure_pairs(exposures, stars, JobContext(), reference=make_reference(exposures[0]))  # type: ignore[arg-type]
        self.assertEqual([o.reason for o in outcomes], ["", "", ""])
        for one in rows:
            self.assertAlmostEqual(one.fit.separation_px[0], math.hypot(6, 3), delta=5 * one.fit.separation_px[1])
            self.assertAlmostEqual(one.fit.angle_deg[0], math.degrees(math.atan2(3, 6)), delta=5 * one.fit.angle_deg[1])
            self.assertIn("own_shape", one.flags)

    def test_bad_files_are_named_and_the_rest_goes_on(self) -> None:
        stars = tuple(ListedStar(n, "target", ra=a, dec=d) for n, (a, d) in zip("ab", self.sky[:2]))
        solutions = {k: v for k, v in self.solutions.items() if k != self.paths[1]}
        away = self.solutions[self.paths[3]]
        solutions[self.paths[3]] = Wcs(away.ra0 + 1, away.dec0, away.x0, away.y0, away.cd)
        rows, outcomes = measure_pairs(self.exposures, stars, JobContext(), solutions=solutions)  # type: ignore[arg-type]
        self.assertEqual([o.ok for o in outcomes], [True, False, True, False, True])
        self.assertIn("no plate solution", outcomes[1].reason)
        self.assertIn("outside the picture", outcomes[3].reason)
        self.assertEqual(len(rows), 3)
