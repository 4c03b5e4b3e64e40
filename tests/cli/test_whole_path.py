"""From raw exposures to the light curve by commands alone."""

from __future__ import annotations

import csv
import json
import math
from pathlib import Path

from tests.cli.support import Command
from tests.support import small_demo, stamps
from ulvar.frames import header_of


class Night(Command):
    """Masters to curve on the small demo night, against its truth."""

    def test_whole_path_on_files(self) -> None:
        demo = small_demo()
        truth = json.loads((demo / "truth.json").read_text())
        raw, masters, cal = demo / "raw", self.folder / "masters", self.folder / "cal"
        before = stamps(raw)
        code, body = self.json("sort", raw)
        self.assertEqual(code, 1, "one file is cut short")
        codes = {f["code"] for f in body["findings"]}
        self.assertLessEqual({"truncated", "flat_gain", "dark_temperature"}, codes)
        self.assertEqual(
            sum(g["count"] for g in body["groups"]) + 1, len([p for p in raw.rglob("*.f*") if p.is_file()])
        )
        code, body = self.json("masters", raw, "--out", masters)
        self.assertEqual({m["kind"] for m in body["masters"]}, {"bias", "dark", "dark_flat", "flat"})
        self.assertTrue(all(m["rejected_fraction"] < 0.02 for m in body["masters"]))
        again = self.json("masters", raw, "--out", masters)[1]
        self.assertTrue(all(m["skipped"] for m in again["masters"]))
        self.assertEqual([m["count"] for m in again["masters"]], [m["count"] for m in body["masters"]])
        code, body = self.json("calibrate", raw / "lights" / "V", "--masters", masters, "--out", cal)
        self.assertEqual((code, sum(not f["ok"] for f in body["frames"])), (1, 1))
        good = next(f for f in body["frames"] if f["ok"])
        self.assertTrue(good["dark"] and good["flat"] and not good["bias"])
        self.assertNotIn("SATURATE", header_of(good["output"]))
        code, body = self.json("calibrate", raw / "lights" / "B", "--masters", masters, "--out", cal)
        self.assertEqual(code, 3)
        self.assertIn("no safe dark", body["frames"][0]["reason"])
        tiles = self.folder / "tiles"
        self.assertEqual(self.json("catalogue", "import", demo / "catalogue.csv", "--out", tiles)[1]["tiles"], 1)
        code, body = self.json("solve", cal, "--catalogue", tiles)
        self.assertEqual(code, 0)
        for frame in body["frames"]:
            true = truth["frames"]["lights/V/" + Path(frame["file"]).name.replace("-cal.fits", ".fits")]
            east = (frame["ra"] - true["ra"]) * math.cos(math.radians(true["dec"])) * 3600
            self.assertLess(math.hypot(east, (frame["dec"] - true["dec"]) * 3600), 0.3)
            self.assertLess(abs((frame["rotation_deg"] - true["rotation_deg"] + 180) % 360 - 180), 0.05)
        self.assertTrue(all(f["skipped"] for f in self.json("solve", cal, "--catalogue", tiles)[1]["frames"]))
        code, body = self.json("measure", cal, "--stars", demo / "stars.csv", "--out", self.folder / "series.csv")
        self.assertEqual((code, body["rows"]), (0, 8 * len(body["frames"])))
        code, body = self.json(
            "curve",
            self.folder / "series.csv",
            "--out",
            self.folder / "curve.csv",
            "--model",
            "eclipse",
            "--detrend",
            "airmass",
            "--period",
            "0.05,0.5",
        )
        self.assertEqual(code, 0)
        fit = body["fit"]
        self.assertLess(
            abs(fit["mid_bjd_tdb"] - truth["eclipse"]["mid_bjd_tdb"]) * 86400, max(30, 4 * fit["mid_error_d"] * 86400)
        )
        self.assertLess(abs(fit["depth_mag"] - truth["eclipse"]["depth_mag"]), max(0.01, 4 * fit["depth_error_mag"]))
        self.assertEqual({f["code"] for f in body["findings"]}, {"comparison_varies"})
        with (self.folder / "series.csv").open(newline="") as handle:
            row = next(csv.DictReader(handle))
        self.assertEqual(len(row["bjd_tdb"].split(".")[1]), 9)
        self.assertTrue(row["airmass"] and row["flux_error"])
        code, body = self.json(
            "stack", cal, "--align", "sky", "--framing", "common", "--out", self.folder / "s.fits", "--memory", "0.2"
        )
        self.assertEqual(code, 0)
        self.assertLess(body["width"], 500)
        self.assertEqual(stamps(raw), before)
