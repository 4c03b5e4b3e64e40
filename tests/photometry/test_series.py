"""Series photometry: what is measured, written and read back, number by number."""

import csv
import math
import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np
from tools.cases import FolderCase
from tools.rows import MID, whole_row
from tools.same import kept

from ulvar.engine import OutputExists
from ulvar.frames import ExposureFacts, Frame
from ulvar.photometry import (
    SERIES_COLUMNS,
    ApertureOptions,
    ListedStar,
    SeriesRow,
    SeriesTable,
    StarListError,
    measure_apertures,
    measure_exposure,
    read_series,
    read_star_list,
    row_from_values,
    row_values,
    write_series,
)
from ulvar.photometry._kernels import fill_bad
from ulvar.photometry._kernels_overlap import pixel_overlap
from ulvar.photometry.measuring import shape_of
from ulvar.simulation import Psf, add_stars
from ulvar.stars import StarFlag, StarTable


def detections(places: list[tuple[float, float, float]]) -> StarTable:
    """Return a star table of (x, y, flux)."""
    n = len(places)
    columns = {name: np.zeros(n) for name in StarTable.__dataclass_fields__}
    columns |= {k: np.array([p[i] for p in places]) for i, k in enumerate(("x", "y", "flux"))}
    columns["flags"] = np.zeros(n, dtype=np.int64)
    return StarTable(**columns)


class Written(FolderCase):
    """Each number stands in its own column, and comes back."""

    def test_columns_of_the_file(self) -> None:
        path = self.folder / "s.csv"
        write_series(path, [whole_row()])
        with path.open(newline="") as handle:
            (found,) = csv.DictReader(handle)
        wanted = {
            "file": "night/a.fits", "time_utc_mid": "2027-02-11T21:04:05.250000", "jd_utc": "2461448.377838542",
            "bjd_tdb": "2461448.382512345", "name": "Tarnholt 12", "role": "target", "x": "101.2500", "y": "57.5000",
            "flux": "18234.5678", "flux_error": "42.1250", "sky": "301.12345", "sky_error": "0.51234", "peak": "4021.75",
            "fwhm_px": "3.1250", "airmass": "1.234567", "flags": "saturated|neighbour", "radius_px": "5.3125", "inner_px": "9.5625",
            "outer_px": "17.1250", "covered": "0.125", "noise_source": "30.5000", "noise_sky": "20.2500", "noise_read": "11.1250",
            "noise_level": "7.7500", "noise_flat": "3.3750", "noise_scintillation": "13.0625", "profile_flux": "18200.5000",
            "profile_error": "40.6250", "ra": "115.5226046", "dec": "41.3041667", "aperture": "1.7000",
        }  # fmt: skip
        self.assertEqual(found, wanted)
        self.assertEqual(list(found), [name for name, *_ in SERIES_COLUMNS])
        with self.assertRaises(OutputExists):
            write_series(path, [])

    def test_what_is_unknown_is_empty_and_comes_back_unknown(self) -> None:
        path = self.folder / "s.csv"
        nothing = dict.fromkeys(("jd_utc", "bjd_tdb", "flux_error", "airmass", "sky_error"), math.nan)
        write_series(path, [whole_row(time_utc_mid=None, flags=0, **nothing), whole_row()])
        with path.open(newline="") as handle:
            first, _ = csv.DictReader(handle)
        self.assertEqual({first[name] for name in (*nothing, "time_utc_mid", "flags")}, {""})
        back, whole = read_series(path).rows
        self.assertTrue(all(math.isnan(getattr(back, name)) for name in nothing))
        self.assertEqual((back.time_utc_mid, back.flags), (None, 0))
        self.assertEqual(whole, whole_row())

    def test_rows_as_plain_values(self) -> None:
        for row in (whole_row(), whole_row(flux_error=math.nan, time_utc_mid=None)):
            again = row_from_values(row_values(row))
            self.assertEqual(repr(again), repr(row))
            self.assertNotIn("nan", repr(row_values(row)))

    def test_every_format_reads_back_the_same(self) -> None:
        when = datetime(2027, 2, 11, 20, 0, 1, 250_000, tzinfo=UTC)
        rows = [
            SeriesRow("e1.fits", when, 2461448.333347801, 2461448.338123456, "T", "target", 10.25, 20.5, 12345.6789, 12.5, 300.1, 0.5, 9000.0, 3.25,
                      1.234567, int(StarFlag.SATURATED | StarFlag.EDGE)),
            SeriesRow("lang genannt, zwei.fits", None, math.nan, math.nan, "é", "check", 1.0, 2.0, math.nan, math.nan, 1.0, math.nan, 5.0, 3.0, math.nan, 0),
        ]  # fmt: skip
        for ending in ("csv", "vot", "fits", "parquet"):
            path = self.folder / f"s.{ending}"
            write_series(path, rows)
            found = read_series(path).rows
            self.assertEqual(len(found), 2, ending)
            for told, back in zip(rows, found):
                for name, _, decimals, _ in SERIES_COLUMNS:
                    a, b = getattr(told, name), getattr(back, name)
                    if decimals is None or name == "flags":
                        # FITS holds ASCII only: what is none is told by its code.
                        self.assertEqual(
                            a if ending != "fits" or not isinstance(a, str) else a.replace("é", "\\xe9"), b, f"{ending} {name}",
                        )  # fmt: skip
                    elif math.isnan(a):
                        self.assertTrue(math.isnan(b), f"{ending} {name}")
                    else:
                        self.assertAlmostEqual(a, b, delta=0.51 * 10.0**-decimals, msg=f"{ending} {name}")
        with self.assertRaisesRegex(ValueError, "tables are written as"):
            write_series(self.folder / "s.docx", rows)
        for ending in ("vot", "fits", "parquet"):
            bad = self.folder / f"bad.{ending}"
            bad.write_text("no table")
            with self.assertRaisesRegex(StarListError, f"bad.{ending}"):
                read_series(bad)

    def test_wrong_tables(self) -> None:
        path = self.folder / "t.csv"
        for text, told in (
            ("a,b\n1,2\n", "lacks file, flux, name, role"), ("file,name,role,flux\nx,t,target,bright\n", "line 2"),
        ):  # fmt: skip
            path.write_text(text)
            with self.assertRaisesRegex(StarListError, told):
                read_series(path)
        with self.assertRaises(StarListError):
            read_series(self.folder / "none.csv")

    def test_star_lists_pass_over_remarks_and_want_both_coordinates(self) -> None:
        path = self.folder / "l.csv"
        path.write_text("# a remark\nname,role,ra,dec\n\n# another\nT,target,10.5,20.25\n")
        (star,) = read_star_list(path)
        self.assertEqual((star.name, star.ra, star.dec), ("T", 10.5, 20.25))
        for line in ("T,target,10.5,", "T,target,,20.25"):
            path.write_text(f"name,role,ra,dec\n{line}\n")
            with self.assertRaisesRegex(StarListError, "neither"):
                read_star_list(path)


class Table(unittest.TestCase):
    """Rows picked by star, role and exposure."""

    def test_picking(self) -> None:
        rows = [
            whole_row(name=name, role=role, file=f"{i}.fits", time_utc_mid=None, jd_utc=2.0 - i, flux=100.0 * k + i)
            for k, (name, role) in enumerate((("t", "target"), ("a", "comparison"), ("b", "comparison"), ("k", "check")))
            for i in range(2)
        ]  # fmt: skip
        table = SeriesTable(rows[:-1])
        self.assertEqual(len(table), 7)
        self.assertEqual(table.names(), ["t", "a", "b", "k"])
        self.assertEqual(table.names("comparison"), ["a", "b"])
        self.assertEqual([row.file for row in table.star("a")], ["1.fits", "0.fits"], "in the order of time")
        exposures = [("0.fits", 2.0), ("1.fits", 1.0)]
        np.testing.assert_array_equal(table.column(["a", "k"], exposures, "flux"), [[100.0, 101.0], [300.0, math.nan]])
        self.assertEqual(table.column([], exposures, "flux").shape, (0, 2))

    def test_an_exposure_is_one_whatever_rows_its_stars_lie_on(self) -> None:
        later = MID + timedelta(days=1)
        rows = [
            whole_row(name=name, jd_utc=2461448.3 + day + late, time_utc_mid=when)
            for name, late in (("t", 0.0), ("a", 1e-6))
            for day, when in ((0, MID), (1, later))
        ]
        table = SeriesTable(rows)
        # Two nights hold the same file name.
        self.assertEqual(len({row.exposure for row in rows}), 2)
        self.assertEqual([row.name for row in table.of_exposure(rows[0].exposure)], ["t", "a"])


class OneExposure(unittest.TestCase):
    """Listed stars in a frame whose light is known."""

    def setUp(self) -> None:
        image = np.full((90, 140), 200.0)
        self.x, self.y, self.flux = np.array([40.2, 95.7]), np.array([30.6, 61.3]), np.array([9e4, 4e4])
        add_stars(image, self.x, self.y, self.flux, Psf.with_fwhm(3.0))
        self.image = image.astype(np.float32)
        self.stars = [ListedStar("t", "target", x=40.2, y=30.6), ListedStar("a", "comparison", x=95.7, y=61.3)]
        self.options = ApertureOptions(8.0, False, 14.0, 20.0)

    def measure(self, image: np.ndarray, facts: ExposureFacts | None = None, **more: object) -> list[SeriesRow]:
        frame = Frame(image, facts or ExposureFacts("n/e.fits", gain_e_per_adu=1.0, mid_utc=MID))
        return measure_exposure(frame, self.stars, self.x, self.y, fwhm_px=3.0, options=self.options, **more)  # type: ignore[arg-type]

    def test_fields(self) -> None:
        rows = self.measure(self.image)
        for k, row in enumerate(rows):
            self.assertEqual((row.file, row.name, row.role, row.time_utc_mid), ("e.fits", "ta"[k], self.stars[k].role, MID))
            self.assertEqual((row.x, row.y, row.fwhm_px, row.flags), (self.x[k], self.y[k], 3.0, 0))
            # Outside of 8 px a star of 3 px FWHM has under a thousandth of its light.
            self.assertLess(abs(row.flux / self.flux[k] - 1), 2e-3)
            self.assertAlmostEqual(row.sky, 200.0, delta=0.05)
            self.assertEqual(
                row.peak, self.image[round(self.y[k]) - 1 : round(self.y[k]) + 2, round(self.x[k]) - 1 : round(self.x[k]) + 2].max()
            )
        self.assertEqual(self.measure(self.image, file="night/e.fits")[0].file, "night/e.fits")

    def test_a_pedestal_is_taken_off(self) -> None:
        plain = self.measure(self.image)
        raised = self.measure(self.image + 100, ExposureFacts("e.fits", gain_e_per_adu=1.0, pedestal_adu=100.0))
        for a, b in zip(plain, raised):
            self.assertAlmostEqual(a.flux, b.flux, delta=0.5)
            self.assertAlmostEqual(a.sky, b.sky, places=2)
            self.assertAlmostEqual(a.peak, b.peak, places=2)

    def test_neighbours_are_told(self) -> None:
        own = [(40.3, 30.5, 9e4), (95.6, 61.4, 4e4)]
        cases = {
            "nothing near": ([], 0), "inside, bright": ([(46.0, 30.6, 5e3)], 1), "inside, faint": ([(46.0, 30.6, 40.0)], 0),
            "outside": ([(54.0, 30.6, 5e4)], 0), "another star's": ([(95.7, 68.0, 5e3)], 2),
        }  # fmt: skip
        for name, (others, flagged) in cases.items():
            with self.subTest(name):
                rows = self.measure(self.image, detected=detections([*own, *others]))
                told = [bool(row.flags & StarFlag.NEIGHBOUR) for row in rows]
                self.assertEqual(told, [flagged == 1, flagged == 2])
        kept(self, rows)

    def test_a_detection_is_the_star_itself_up_to_part_of_its_width(self) -> None:
        # Of a width of 3 px up to 2.1 px, of none known up to 1.5 px; a star is its own neighbour nowhere.
        for fwhm, distance, told in ((3.0, 2.0, False), (3.0, 2.2, True), (1.0, 0.9, False), (math.nan, 1.4, False), (math.nan, 1.6, True)):
            with self.subTest(fwhm=fwhm, distance=distance):
                rows = measure_exposure(
                    Frame(self.image, ExposureFacts("e.fits")), [ListedStar("A", "target", x=40.3, y=30.5)], np.array([40.3]),
                    np.array([30.5]), fwhm_px=fwhm, options=ApertureOptions(8.0, False),
                    detected=detections([(40.3 + distance, 30.5, 9e4)]),
                )  # fmt: skip
                self.assertEqual(bool(rows[0].flags & StarFlag.NEIGHBOUR), told)

    def test_the_aperture_has_the_shape_of_the_stars_where_it_is_to(self) -> None:
        table = detections([(12.0 * k, 5.0, 9e4) for k in range(9)])
        leaning = replace(table, snr=np.full(9, 50.0), ellipticity=np.full(9, 0.5), angle_deg=np.full(9, 30.0))
        round_rows = self.measure(self.image, detected=leaning)
        plain = self.measure(self.image, detected=table)
        self.assertEqual([r.flux for r in round_rows], [r.flux for r in plain])
        self.options = replace(self.options, radius=4.0, elliptical=True)
        shape = shape_of(leaning)
        self.assertAlmostEqual(shape.axis_ratio, 0.5)
        for row in self.measure(self.image, detected=leaning):
            found = measure_apertures(
                self.image, np.array([row.x]), np.array([row.y]), radius_px=4.0, inner_px=14.0, outer_px=20.0, shape=shape, gain_e_per_adu=1.0,
            )  # fmt: skip
            self.assertAlmostEqual(row.flux / float(found.flux[0]), 1.0, places=4)
            self.assertGreater(abs(row.flux / plain[0].flux - 1), 0.01)
        # Their table tells nothing where there is none.
        self.assertEqual(len(self.measure(self.image)), 2)
        kept(self, table, leaning, round_rows, plain, found)

    def test_a_place_that_is_half_known_is_none(self) -> None:
        for x, y in ((math.nan, 30.5), (40.3, math.nan)):
            found = measure_apertures(
                self.image, np.array([x]), np.array([y]), radius_px=5.0, inner_px=9.0, outer_px=15.0, gain_e_per_adu=1.0
            )
            self.assertTrue(found.flags[0] & StarFlag.EDGE)
            self.assertTrue(np.isnan(found.sky[0]))

    def test_lost_stars_are_told(self) -> None:
        rows = self.measure(self.image, lost=np.array([False, True]))
        self.assertEqual([row.flags for row in rows], [0, StarFlag.LOST])

    def test_radii(self) -> None:
        self.assertEqual(ApertureOptions(10.0, False).radii(3.0), (10.0, 18.0, 32.0))
        self.assertEqual(ApertureOptions(2.0, False).radii(3.0), (2.0, 6.0, 12.0))
        self.assertEqual(ApertureOptions(2.0, True).radii(5.0), (10.0, 18.0, 32.0))


class Filled(unittest.TestCase):
    """Masked pixels of an aperture get the mean of the good ones at their distance."""

    def test_sums_by_hand(self) -> None:
        rng = np.random.default_rng(12)
        data = rng.normal(100, 9, (24, 31)).astype(np.float32)
        mask = np.zeros(data.shape, np.uint16)
        mask[10, 14] = mask[13, 17] = 8
        mask[12, 12] = 1  # another kind, which is no reason here
        data[11, 18] = np.nan
        cx, cy, r = 15.3, 11.6, 4.2
        places = np.array([[14, 10], [17, 13]])
        weights = np.array([0.9, 0.7])
        sums = np.array([5.0, 2.0, 1.0, 0.5])
        fill_bad(data, mask, 8, cx, cy, r, np.array([1.0, 1.0, 0.0]), 5, 28, 2, 22, places, weights, sums)
        rows, columns = np.mgrid[2:22, 5:28]
        away = np.hypot(columns - cx, rows - cy)
        good = np.isfinite(data[2:22, 5:28]) & ((mask[2:22, 5:28] & 8) == 0)
        expected = np.array([5.0, 2.0, 1.0, 0.5])
        for (x, y), w in zip(places, weights):
            ring = good & (np.abs(away - np.hypot(x - cx, y - cy)) < 0.75)
            mean = data[2:22, 5:28][ring].astype(float).mean()
            shares = np.mean([pixel_overlap(dx - cx, dy - cy, r) for dx, dy in zip(columns[ring], rows[ring])])
            expected += (w * mean, w, 2 * w * shares + w**2 / ring.sum(), w * mean)
        np.testing.assert_allclose(sums, expected, rtol=1e-6)

    def test_without_a_good_one_nothing_is_known(self) -> None:
        mask = np.full((9, 9), 8, np.uint16)
        sums = np.zeros(4)
        fill_bad(
            np.ones((9, 9), np.float32), mask, 8, 4.0, 4.0, 2.0, np.array([1.0, 1.0, 0.0]), 0, 9, 0, 9, np.array([[4, 4]]),
            np.array([1.0]), sums,
        )  # fmt: skip
        self.assertEqual(sums.tolist(), [0.0, 0.0, 0.0, np.inf])


class AgainstNumpy(unittest.TestCase):
    """The kernel's sums and its clipped sky against plain NumPy."""

    def test_sky(self) -> None:
        rng = np.random.default_rng(8)
        image = rng.normal(100, 5, (120, 150)).astype(np.float32)
        image[rng.random(image.shape) < 0.03] += 400.0
        places = rng.uniform(30, 85, (25, 2))
        for inner, outer in ((6.0, 12.0), (8.0, 9.0)):
            result = measure_apertures(image, places[:, 0], places[:, 1], radius_px=4, inner_px=inner, outer_px=outer)
            y, x = np.indices(image.shape)
            for k, (cx, cy) in enumerate(places):
                away = np.hypot(x - cx, y - cy)
                values = image[(away >= inner) & (away <= outer)].astype(float)
                while True:
                    middle, spread = np.median(values), values.std(ddof=1)
                    kept = values[np.abs(values - middle) <= 3 * spread]
                    if len(kept) in (len(values),) or len(kept) < 8:
                        break
                    values = kept
                self.assertAlmostEqual(result.sky[k], np.median(values), places=4)
                self.assertAlmostEqual(result.sky_error[k], 1.0135 * values.std(ddof=1) * math.sqrt(math.pi / 2 / len(values)), places=4)

    def test_few_sky_pixels_give_no_sky(self) -> None:
        image = np.full((40, 40), 10.0, np.float32)
        result = measure_apertures(image, np.array([20.0]), np.array([20.0]), radius_px=3, inner_px=5.01, outer_px=5.05)
        self.assertTrue(np.isnan(result.sky[0]), "no pixel lies between 5.01 and 5.05 px")
        nothing = measure_apertures(image * np.nan, np.array([20.0]), np.array([20.0]), radius_px=3, inner_px=6, outer_px=9)
        self.assertTrue(np.isnan([nothing.sky[0], nothing.flux[0], nothing.peak[0], nothing.sky_error[0]]).all())
        self.assertEqual(nothing.flags[0], StarFlag.BAD_PIXEL)
