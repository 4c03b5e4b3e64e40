"""ulvar pair."""

import math

import numpy as np

from tests.cli.support import Command
from ulvar.simulation import Psf, star_field


class Pair(Command):
    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(9)
        x, y = np.r_[100.0, 108.0, rng.uniform(10, 230, 40)], np.r_[90.0, 96.0, rng.uniform(10, 190, 40)]
        away = np.hypot(x - 104, y - 93) > 18
        away[:2] = True
        x, y, flux = x[away], y[away], np.r_[60_000.0, 30_000.0, 10 ** rng.uniform(4, 5, 40)][away]
        for i in range(4):
            image = star_field(rng, width=240, height=200, x=x + 2 * i, y=y + i, flux_e=flux, psf=Psf.with_fwhm(3.0))
            self.write(f"n/p{i}.fits", image, IMAGETYP="light", EXPTIME=5.0, DATE_OBS=f"2027-02-11T20:{i:02d}:00", EGAIN=1.0)

    def test_in_pixels_counted_from_one(self) -> None:
        out = self.folder / "pair.csv"
        code, body = self.json("pair", self.folder / "n", "--first", "px:101,91", "--second", "px:109,97", "--out", out)
        self.assertEqual(code, 0)
        self.assertEqual(len(body["exposures"]), 4)
        s = body["summary"]
        self.assertEqual((s["count"], s["solved"]), (4, False))
        self.assertLess(abs(s["separation"] - 10.0), 5 * s["expected_separation"])
        self.assertAlmostEqual(s["angle_deg"], math.degrees(math.atan2(6, 8)), delta=0.5)
        self.assertAlmostEqual(body["exposures"][2]["x1"], 104.0, delta=0.1)
        self.assertEqual(out.read_text().count("\n"), 5)
        code, text, _ = self.ulvar("pair", self.folder / "n", "--first", "px:101,91", "--second", "px:109,97")
        self.assertEqual(code, 0)
        self.assertIn("mean of 4: ", text)
        self.assertIn("px, angle from +x", text)

    def test_wrong_usage(self) -> None:
        n, first, second = self.folder / "n", ("--first", "px:101,91"), ("--second", "px:109,97")
        kept = self.folder / "kept.csv"
        kept.write_text("mine")
        for words, told in (
            (("--first", "here", *second), "not RA,DEC"), (("--first", "px:4", *second), "not px:X,Y"),
            (("--first", "10,20", *second), "both"), ((*first, *second, "--out", self.folder / "a.docx"), "tables are written as"),
            ((*first, *second, "--out", kept), "it is kept"), (("--first", "10,95", "--second", "10,20"), "outside the sky"),
        ):  # fmt: skip
            code, _, error = self.ulvar("pair", n, *words)
            self.assertEqual(code, 2, words)
            self.assertIn(told, error)
        self.assertEqual(kept.read_text(), "mine")

    def test_sky_places_need_a_solution(self) -> None:
        code, body = self.json("pair", self.folder / "n", "--first", "10,20", "--second", "10.001,20")
        self.assertEqual(code, 3)
        self.assertTrue(all("no plate solution" in f["reason"] for f in body["frames"]))
        self.assertIsNone(body["summary"])
