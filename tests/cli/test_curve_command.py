"""ulvar curve: models, trends that the points choose, nights joined, posteriors, periods."""

from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np

from tests.cli.support import Command
from ulvar.lightcurves import transit_dimming
from ulvar.photometry import SeriesRow, write_series

START = datetime(2027, 2, 11, 20, tzinfo=UTC)
JD = 2461448.0


class CurveCommand(Command):
    """Tables of two nights with a transit each."""

    def table(self, name: str, night: int, level: float, *, depth: bool = True) -> Path:
        rng = np.random.default_rng(30 + night)
        rows = []
        time = JD + 2.0 * night + np.linspace(0, 0.2, 110)
        dimming = transit_dimming(time, JD + 2.0 * night + 0.09, 0.1, 0.13, 0.2, (0.4, 0.25)) if depth else 0 * time
        fwhm = rng.normal(3.0, 0.2, len(time))
        light = 4e4 * 10 ** (-0.4 * (dimming + 0.004 * (fwhm - 3) / 0.2 + level)) * (1 + rng.normal(0, 0.0015, len(time)))
        for k, jd in enumerate(time):
            own = {
                "x": 10.0, "y": 10.0, "sky": 200.0, "sky_error": 0.1, "peak": 900.0, "flags": 0, "airmass": 1.1 + 0.1 * k / 110,
            }  # fmt: skip
            when = START + timedelta(days=float(jd - JD))
            for star, role, flux, error in (
                ("T", "target", light[k], 45.0),
                ("a", "comparison", 9e4 * (1 + rng.normal(0, 4e-4)), 40.0),
                ("k", "check", 3e4 + k % 7, 30.0),
            ):
                rows.append(
                    SeriesRow(
                        file=f"n{night}-{k}.fits", time_utc_mid=when, jd_utc=float(jd), bjd_tdb=float(jd), name=star, role=role,
                        flux=float(flux), flux_error=error, fwhm_px=float(fwhm[k]), **own,
                    )
                )  # fmt: skip
        path = self.folder / name
        write_series(path, rows, replace=True)
        return path

    def test_a_transit_with_the_trends_that_points_ask_for(self) -> None:
        table = self.table("one.csv", 0, 0.0)
        code, body = self.json("curve", table, "--out", self.folder / "c.csv", "--model", "transit", "--detrend", "auto")
        self.assertEqual(code, 0)
        fit = body["fit"]
        self.assertLess(abs(fit["mid_bjd_tdb"] - JD - 0.09), 4 * fit["mid_error_d"])
        self.assertLess(abs(fit["values"]["ratio"] - 0.13), 4 * fit["errors"]["ratio"])
        self.assertEqual([one["term"] for one in body["detrend"]], ["fwhm"])
        self.assertAlmostEqual(body["detrend"][0]["coefficient_mag"], 0.004, delta=0.0008)
        self.assertGreater(body["detrend_tried"][0]["gain"], 10)
        code, out, _ = self.ulvar("curve", table, "--out", self.folder / "d.csv", "--model", "transit", "--detrend", "fwhm", "--free-law")
        self.assertEqual(code, 0)
        self.assertIn("ratio of radii 0.1", out)
        self.assertIn("fwhm: +", out)

    def test_nights_are_joined_each_with_its_level(self) -> None:
        one, two = self.table("one.csv", 0, 0.0), self.table("two.csv", 1, 0.3)
        code, body = self.json(
            "curve", one, "--with", two, "--out", self.folder / "c.csv", "--model", "sine", "--around", "2.0", "--harmonics", "5",
        )  # fmt: skip
        self.assertEqual((code, body["points"]), (0, 220))
        session = body["fit"]["sessions"]
        self.assertEqual([s["name"] for s in session], ["two"])
        self.assertAlmostEqual(session[0]["offset_mag"], 0.3, delta=0.02)
        code, body = self.json("curve", one, "--with", one, "--out", self.folder / "d.csv")
        self.assertEqual(code, 2)
        self.assertIn("taken once", body["error"])

    def test_other_models_periods_and_posterior(self) -> None:
        table = self.table("one.csv", 0, 0.0)
        out = self.folder / "c.csv"
        code, body = self.json("curve", table, "--out", out, "--model", "polynomial", "--degree", "6")
        self.assertEqual(code, 0)
        self.assertAlmostEqual(body["fit"]["values"]["minimum"], JD + 0.09, delta=0.006)
        code, text, _ = self.ulvar(
            "curve", table, "--out", out, "--replace", "--model", "sine", "--harmonics", "1", "--sample", "--period", "0.02,0.2",
            "--method", "phase",
        )  # fmt: skip
        self.assertEqual(code, 0)
        self.assertIn("posterior: period", text)
        self.assertIn("phase dispersion", text)

    def test_further_stars_stand_under_the_curve_in_figures(self) -> None:
        table, figure, report = self.table("one.csv", 0, 0.0), self.folder / "f.svg", self.folder / "r.html"
        words = (
            "curve", table, "--out", self.folder / "c.csv", "--beneath", "k", "--figure", figure, "--report", report,
        )  # fmt: skip
        self.assertEqual(self.ulvar(*words)[0], 0)
        for path in (figure, report):
            self.assertRegex(path.read_text(), r"k, shifted by .* mag")
        for beneath, said in (
            ("k,nobody", "there is no star 'nobody'; there are T, a, k"), ("k", "of one table"),
            ("a", "'a' cannot be drawn: there is no other comparison star"),
        ):  # fmt: skip
            more = ("--with", self.table("two.csv", 1, 0.0)) if beneath == "k" else ()
            code, _, error = self.ulvar("curve", table, *more, "--out", self.folder / "d.csv", "--beneath", beneath)
            self.assertEqual(code, 2)
            self.assertIn(said, " ".join(error.split()))
            self.assertFalse((self.folder / "d.csv").exists())

    def test_what_is_wrong_is_told(self) -> None:
        table = self.table("one.csv", 0, 0.0, depth=False)
        out = self.folder / "c.csv"
        for words, told in (
            (("--detrend", "moon"), "moon"), (("--law", "1"), "U1,U2"), (("--law", "0.9,0.9", "--model", "transit"), "limb"),
            (("--harmonics", "40", "--model", "sine"), "harmonics"), (("--around", "-1", "--model", "sine"), "above 0"),
            (("--with", self.folder / "gone.csv"), "gone.csv"),
        ):  # fmt: skip
            with self.subTest(told):
                code, body = self.json("curve", table, "--out", out, *words)
                self.assertEqual(code, 2, body)
                self.assertIn(told, body["error"])
        self.assertFalse(out.exists())
