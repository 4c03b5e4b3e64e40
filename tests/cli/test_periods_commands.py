"""ulvar ephemeris, rotation, exchange, and the figures and reports of curve."""

import csv
import math
from pathlib import Path

import numpy as np

from tests.cli.support import Command
from tests.flows.test_told_curves import series
from ulvar.photometry import SeriesRow, write_series

JD = 2461448.0


class ManyNights(Command):
    """Small tables."""

    def minima(self) -> Path:
        rng = np.random.default_rng(1)
        cycles = np.array([0, 3, 4.5, 10, 33, 80.5, 120])
        path = self.folder / "minima.csv"
        with path.open("w", newline="") as handle:
            writer = csv.writer(handle)
            writer.writerow(["time", "error"])
            writer.writerows((JD + 0.4321 * c + rng.normal(0, 2e-4), 2e-4) for c in cycles)
        return path

    def test_an_ephemeris_with_table_and_figure(self) -> None:
        out, figure = self.folder / "oc.csv", self.folder / "oc.pdf"
        arguments = ("ephemeris", self.minima(), "--period", "0.432", "--halves", "--out", out, "--figure", figure)
        code, body = self.json(*arguments)
        self.assertEqual(code, 0, body)
        self.assertLess(abs(body["period_d"] - 0.4321), 4 * body["period_error_d"])
        self.assertEqual(len(body["minima"]), 7)
        self.assertTrue(figure.read_bytes().startswith(b"%PDF"))
        rows = list(csv.DictReader(out.open()))
        self.assertEqual([float(row["cycle"]) - float(rows[0]["cycle"]) for row in rows], [0, 3, 4.5, 10, 33, 80.5, 120])
        code, body = self.json(*arguments)
        self.assertEqual(code, 2)
        code, text, _ = self.ulvar("ephemeris", self.minima(), "--period", "0.432", "--halves", "--quadratic")
        self.assertEqual(code, 0)
        self.assertIn("d a year", text)
        code, body = self.json("ephemeris", self.minima(), "--period", "0.4")
        self.assertEqual(code, 3)
        self.assertIn("cycles off", body["error"])
        bad = self.folder / "bad.csv"
        bad.write_text("time,error\nnoon,1\n")
        for path, words in ((bad, "line 2"), (self.folder / "gone.csv", "gone.csv")):
            code, body = self.json("ephemeris", path, "--period", "0.4")
            self.assertEqual(code, 2)
            self.assertIn(words, body["error"])

    def session(self, night: int) -> Path:
        rng = np.random.default_rng(night)
        rows = []
        for k, jd in enumerate(np.sort(JD + night + rng.uniform(0, 0.25, 70))):
            phase = 2 * math.pi * (jd - JD) * 24 / 5.2
            light = 1e4 * 10 ** (-0.4 * (0.15 * math.cos(2 * phase) + 0.05 * math.cos(phase + 1) + 0.1 * night))
            for name, role, flux in (("rock", "target", light), ("a", "comparison", 5e4)):
                rows.append(
                    SeriesRow(
                        file=f"n{night}-{k}.fits", time_utc_mid=None, jd_utc=float(jd), bjd_tdb=math.nan, name=name, role=role, x=1.0, y=1.0,
                        flux=float(flux * (1 + rng.normal(0, 0.008))), flux_error=80.0, sky=1.0, sky_error=0.1, peak=10.0, fwhm_px=3.0, airmass=1.1, flags=0,
                    )
                )  # fmt: skip
        path = self.folder / f"night{night}.csv"
        write_series(path, rows, replace=True)
        return path

    def test_a_rotation_with_geometry(self) -> None:
        sessions = [self.session(night) for night in (0, 1, 3)]
        code, body = self.json("rotation", *sessions, "--period", "3,12")
        self.assertEqual(code, 0, body)
        self.assertLess(abs(body["period_h"] - 5.2), 5 * body["period_error_h"])
        self.assertAlmostEqual(body["offsets"]["night3"], 0.3, delta=0.02)
        table = self.folder / "where.csv"
        table.write_text("jd,sun_au,earth_au,phase_deg\n2461447,2.0,1.0,5\n2461453,2.0,1.0,5\n")
        code, same = self.json("rotation", *sessions, "--period", "3,12", "--geometry", table)
        self.assertEqual(code, 0, same)
        self.assertAlmostEqual(same["period_h"], body["period_h"], places=3)
        table.write_text("jd,sun_au,earth_au,phase_deg\n2461447,2.0,1.0,5\n2461448,2.0,1.0,5\n")
        code, failed = self.json("rotation", *sessions, "--geometry", table)
        self.assertEqual(code, 2)
        self.assertIn("does not cover", failed["error"])

    def test_exchange_and_pages_of_a_curve(self) -> None:
        table = self.folder / "s.csv"
        write_series(table, series().rows)
        code, text, _ = self.ulvar(
            "exchange", table, "--form", "variable-star", "--observer", "ABC", "--name", "T", "--filter", "V", "--check", "k",
        )  # fmt: skip
        self.assertEqual(code, 0)
        self.assertTrue(text.startswith("#TYPE=EXTENDED\n#OBSCODE=ABC\n"))
        out = self.folder / "x.txt"
        code, body = self.json(
            "exchange", table, "--form", "minor-planet", "--observer", "A", "--name", "R", "--filter", "C", "--contact", "A", "--at", "07:42:10,+41:18:03", "--out", out
        )  # fmt: skip
        self.assertEqual((code, body["points"]), (0, 79))
        self.assertIn("OBJECTDEC=+41:18:03", out.read_text())
        code, body = self.json("exchange", table, "--form", "minor-planet", "--observer", "A", "--name", "R")
        self.assertEqual(code, 2)
        self.assertIn("contact", body["error"])
        code, body = self.json("exchange", table, "--form", "variable-star", "--observer", "A", "--name", "R", "--check", "nobody")
        self.assertEqual(code, 2)
        style = self.folder / "style.toml"
        pages = [self.folder / name for name in ("f.svg", "r.html")]
        code, body = self.json(
            "curve", table, "--out", self.folder / "c.csv", "--model", "transit", "--figure", pages[0], "--report", pages[1], "--style", style
        )  # fmt: skip
        self.assertEqual(code, 0, body)
        self.assertIn("width_cm = 18.0", style.read_text())
        self.assertIn("ulvar curve", pages[1].read_text())
        style.write_text(style.read_text().replace('points = "#20262b"', 'points = "#aa0011"'))
        code, body = self.json("curve", table, "--out", self.folder / "c.csv", "--figure", pages[0], "--style", style, "--replace")
        self.assertEqual(code, 0, body)
        self.assertIn("#aa0011", pages[0].read_text())
        for words, told in (
            (("--figure", self.folder / "f.gif"), ".pdf"), (("--report", self.folder / "r.doc"), ".html"), (("--figure", pages[0]), "is kept"),
        ):  # fmt: skip
            code, body = self.json("curve", table, "--out", self.folder / "d.csv", *words)
            self.assertEqual(code, 2)
            self.assertIn(told, body["error"])
        style.write_text("points = 5")
        code, body = self.json("curve", table, "--out", self.folder / "d.csv", "--figure", self.folder / "g.svg", "--style", style)
        self.assertEqual(code, 2)
        self.assertIn("points", body["error"])
