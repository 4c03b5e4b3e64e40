"""ulvar nights, minima, and curves, rotation and ephemerides of folders of nights."""

import csv
import math

import numpy as np
from bench.made_nights import EPOCH, PERIOD, lay_night, rows_of
from tools.nights import eclipsing_nights

from tests.cli.support import Command
from ulvar.night import Night
from ulvar.night.nights import nights_in, read_nights
from ulvar.photometry import SeriesRow


class NightsCommand(Command):
    """A star of three nights, which each call it otherwise."""

    def setUp(self) -> None:
        super().setUp()
        self.place = eclipsing_nights(self.folder)

    def test_what_is_there(self) -> None:
        code, body = self.json("nights", self.place)
        self.assertEqual((code, body["nights"], body["unread"]), (0, 3, []))
        [star] = body["targets"]
        self.assertEqual((star["name"], star["nights"]), ("T 12", 3))
        self.assertEqual(
            [(one["session"], one["name"], one["filter"], one["points"]) for one in star["sessions"]],
            [
                ("2027-02-11 V", "T 12", "V", 90), ("2027-02-16 B", "t12 again", "B", 90), ("2027-02-16 V", "t12 again", "V", 90),
                ("2027-02-20 V", "T-12", "V", 90),
            ],
        )  # fmt: skip
        code, out, _ = self.ulvar("nights", self.place, "--target", "t12AGAIN")
        self.assertEqual(code, 0)
        self.assertIn("2027-02-20 V: 90 points in third", out)
        code, _, err = self.ulvar("nights", self.place, "--target", "nobody")
        self.assertEqual(code, 2)
        self.assertIn("no night measured 'nobody'; targets are T 12", err)

    def test_one_curve_of_all(self) -> None:
        code, body = self.json(
            "curve", self.place, "--out", self.folder / "c.csv", "--target", "T 12", "--model", "sine", "--around", PERIOD,
            "--harmonics", "6",
        )  # fmt: skip
        self.assertEqual((code, body["points"]), (0, 360))
        levels = {one["name"]: one["offset_mag"] for one in body["fit"]["sessions"]}
        # The star is 0.6 mag redder, and each night's comparison stars make it 0.1 mag fainter.
        self.assertAlmostEqual(levels["2027-02-16 B"] - levels["2027-02-16 V"], 0.6, delta=0.02)
        self.assertAlmostEqual(body["fit"]["values"]["period_d"], PERIOD, delta=0.001)
        report = self.folder / "r.html"
        code, body = self.json("curve", self.place, "--out", self.folder / "v.csv", "--filter", "v", "--report", report)
        self.assertIn("T 12: light curve", report.read_text())
        self.assertEqual((code, body["points"]), (0, 270))
        code, _, err = self.ulvar("curve", self.place, "--out", self.folder / "r.csv", "--filter", "R")
        self.assertEqual(code, 2)
        self.assertIn("T 12 was not measured through 'R'", err)

    def test_minima_and_their_ephemeris(self) -> None:
        table = self.folder / "minima.csv"
        code, body = self.json("minima", self.place, "--out", table)
        self.assertEqual(code, 1)
        self.assertEqual([one["name"] for one in body["minima"]], ["2027-02-11 V", *(f"2027-02-16 {b}" for b in "BV")])
        [missing] = body["missing"]
        self.assertEqual(missing["name"], "2027-02-20 V")
        for one in body["minima"]:
            cycle = round((one["time"] - EPOCH) / PERIOD)
            self.assertLess(abs(one["time"] - EPOCH - cycle * PERIOD), 4 * one["error"], one)
            self.assertLess(one["error"], 2e-4)
            self.assertAlmostEqual(one["depth_mag"], 0.45, delta=0.05)
        with table.open() as file:
            rows = list(csv.DictReader(line for line in file if not line.startswith("#")))
        self.assertEqual([row["session"] for row in rows], [one["name"] for one in body["minima"]])
        np.testing.assert_allclose([float(row["time"]) for row in rows], [one["time"] for one in body["minima"]], atol=1e-7)
        self.assertEqual([row["folded"] == "" for row in rows], [one["folded"] is None for one in body["minima"]])
        code, body = self.json("ephemeris", table, "--period", "0.712")
        self.assertEqual(code, 0)
        self.assertLess(abs(body["period_d"] - PERIOD), 4 * body["period_error_d"])

    def test_a_model_without_a_middle(self) -> None:
        code, _, err = self.ulvar("minima", self.place, "--model", "sine")
        self.assertEqual(code, 2)
        self.assertIn("a sine has no middle to time", err)

    def test_rotation_takes_nights(self) -> None:
        code, body = self.json("rotation", self.place, "--period", "16.5,18", "--filter", "V", "--order", "6")
        self.assertEqual(code, 0)
        self.assertEqual((body["points"], len(body["offsets"])), (270, 3))
        self.assertAlmostEqual(body["period_h"], 24 * PERIOD, delta=0.05)

    def test_what_a_night_leaves_out_counts_there_only(self) -> None:
        """Two nights have exposures of one name: what is left out of one stays in the other."""
        first = self.place / "2027" / "first"
        night = Night(first)
        series = night.current_series()
        night.leave_out([series.files[0]], "cloud")
        settings = night.settings
        settings.curve.leave_out = ["a"]
        night.set_settings(settings)
        night.close()
        read = read_nights(nights_in(self.place))
        parts = {one.part.name: one.part for one in read.parts(read.star("T 12"))}
        self.assertEqual(parts["2027-02-11 V"].files_out, frozenset({"V0.fits"}))
        self.assertEqual(parts["2027-02-16 V"].files_out, frozenset())
        self.assertEqual((parts["2027-02-11 V"].leave_out, parts["2027-02-20 V"].leave_out), (("a",), ()))
        code, _ = self.json("curve", self.place, "--out", self.folder / "c.csv", "--filter", "V")
        self.assertEqual(code, 0)
        with (self.folder / "c.csv").open() as file:
            rows = list(csv.DictReader(line for line in file if not line.startswith("#")))
        self.assertEqual(sum("left_out" in row["flags"] for row in rows), 1)
        self.assertEqual([row["session"] for row in rows][:90], ["2027-02-11 V"] * 90)
        # Of star a alone the ensemble is b's light, of both their sum.
        light = np.array([float(row["ensemble_flux"]) for row in rows])
        self.assertLess(float(np.median(light[:90])), 0.6 * float(np.median(light[90:180])))

    def test_a_night_of_several_evenings(self) -> None:
        def rows(band: str, files: list[str]) -> list[SeriesRow]:
            times = np.concatenate([EPOCH + day - 0.05 + np.arange(40) * 0.0025 for day in (30.0, 31.0)])
            return rows_of(times, 0.0, 3, files=files)

        lay_night(self.place, "two evenings", ("V",), rows, "2027-03-13").close()
        read = read_nights(nights_in(self.place))
        names = [one.part.name for one in read.parts(read.star("T 12"))]
        self.assertEqual(len(names), 6)
        self.assertEqual(names[-2:], ["2027-03-13 V", "2027-03-14 V"])

    def test_another_star_nearby_is_another(self) -> None:
        def rows(band: str, files: list[str]) -> list[SeriesRow]:
            return rows_of(EPOCH + 40 + np.arange(30) * 0.002, 0.0, 4, files=files, dec=41.305)

        lay_night(self.place, "other", ("V",), rows, "2027-03-23").close()
        read = read_nights(nights_in(self.place))
        self.assertEqual([(one.name, one.nights) for one in read.targets()], [("T 12", 3), ("T 12", 1)])
        self.assertEqual(len(read.parts(read.targets()[0])), 4)

    def test_bad_nights_do_not_stop_the_others(self) -> None:
        broken = self.place / "2027" / "third" / "night.sqlite"
        broken.write_bytes(b"SQLite format 3\0" + bytes(200))
        before = broken.read_bytes()
        table = next((self.place / "2027" / "first").rglob("*-series.csv"))
        table.write_text("no table\n")
        code, out, _ = self.ulvar("nights", self.place)
        self.assertEqual(code, 1)
        self.assertIn("t12 again: 1 night", out)
        self.assertIn("third", out)
        self.assertIn(table.name, out)
        # A night is read, not mended, by the way.
        self.assertEqual(broken.read_bytes(), before)
        code, _, err = self.ulvar("nights", self.folder / "nowhere")
        self.assertEqual(code, 2)
        (self.folder / "empty").mkdir()
        code, _, err = self.ulvar("minima", self.folder / "empty")
        self.assertEqual(code, 2)
        self.assertIn("there is no night in it", err)
        self.assertTrue(math.isfinite(EPOCH))
