"""Folders of several series on the command line: each is worked on by itself, none is mixed with another."""

import csv
from pathlib import Path

import numpy as np
from bench.made_series import BANDS, FIELDS, GAIN, PER_SERIES, interleaved

from tests.cli.support import Command
from ulvar.frames import header_of


class SeriesBySeries(Command):
    def setUp(self) -> None:
        super().setUp()
        self.skies = interleaved(self.write)
        self.raw = self.folder / "raw"
        self.keys = [f"{name.replace(' ', '-')}-{band}" for name in FIELDS for band in BANDS]

    def test_sorted(self) -> None:
        code, body = self.json("sort", self.raw)
        self.assertEqual(code, 0)
        self.assertEqual([one["name"] for one in body["series"]], self.keys)
        first = body["series"][0]
        self.assertEqual((first["field"], first["filter"], first["count"]), ("West Field", "V", PER_SERIES))
        self.assertEqual([Path(f).name for f in first["files"]], ["000.fits", "003.fits", "006.fits", "009.fits"])
        self.assertIn("West-Field-B", self.ulvar("sort", self.raw)[1])
        given = self.json("sort", self.raw, "--fact", "object=One")[1]["series"]
        self.assertEqual([(s["name"], s["count"]) for s in given], [("One-V", 8), ("One-B", 8), ("One-R", 8)])

    def test_stacked(self) -> None:
        code, body = self.json("stack", self.raw, "--out", self.folder / "s.fits", "--reference", self.raw / "005.fits")
        self.assertEqual(code, 0)
        self.assertEqual([one["name"] for one in body["series"]], self.keys)
        for one in body["series"]:
            self.assertEqual(Path(one["output"]).name, f"s-{one['name']}.fits")
            header = header_of(one["output"])
            self.assertEqual((header["FILTER"], header["NCOMBINE"], one["used"]), (one["name"][-1], PER_SERIES, PER_SERIES))
        self.assertFalse((self.folder / "s.fits").exists())
        self.assertEqual({f["series"] for f in body["frames"]}, set(self.keys))
        self.assertEqual(body["findings"], [])
        # The reference that was named is that of its series, whose other exposures lie on it.
        matrix = next(f["matrix"] for f in body["frames"] if f["file"].endswith("005.fits"))
        np.testing.assert_allclose(matrix, [[1, 0, 0], [0, 1, 0]], atol=1e-9)
        again = self.json("stack", self.raw, "--out", self.folder / "s.fits", "--reference", self.raw / "005.fits")[1]
        self.assertTrue(all(one["skipped"] for one in again["series"]))

    def test_one_of_them(self) -> None:
        code, body = self.json("stack", self.raw, "--out", self.folder / "one.fits", "--series", "east-field-b")
        self.assertEqual((code, [s["name"] for s in body["series"]]), (0, ["East-Field-B"]))
        self.assertEqual(body["output"], str(self.folder / "one.fits"))
        code, body = self.json("stack", self.raw, "--out", self.folder / "v.fits", "--series", "V")
        self.assertEqual([Path(s["output"]).name for s in body["series"]], ["v-West-Field-V.fits", "v-East-Field-V.fits"])
        code, _, told = self.ulvar("stack", self.raw, "--out", self.folder / "x.fits", "--series", "H")
        self.assertEqual(code, 2)
        self.assertIn("there are West-Field-V, West-Field-B", told)

    def test_together_only_when_asked(self) -> None:
        west = [self.raw / f"{i:03}.fits" for i in (0, 2, 3, 5)]
        code, body = self.json("stack", *west, "--out", self.folder / "all.fits", "--together")
        self.assertEqual((code, [f["code"] for f in body["findings"]]), (0, ["mixed_filters"]))
        self.assertEqual(header_of(str(self.folder / "all.fits"))["NCOMBINE"], 4)

    def test_measured_and_drawn(self) -> None:
        west = self.skies["West Field"]
        lines = ["name,role,x,y"]
        for k, role in ((3, "target"), (8, "comparison"), (15, "comparison"), (20, "check")):
            lines.append(f"s{k},{role},{west[k, 0]:.3f},{west[k, 1]:.3f}")
        stars = self.folder / "stars.csv"
        stars.write_text("\n".join(lines))
        files = sorted(self.raw.glob("00*.fits")) + sorted(self.raw.glob("01[01].fits"))
        out, curve = self.folder / "t.csv", self.folder / "c.csv"
        words = ("measure", *files, "--stars", stars, "--out", out, "--aperture", "5")
        code, body = self.json(*words, "--reference", self.raw / "000.fits")
        self.assertEqual((code, body["rows"]), (0, 3 * 4 * PER_SERIES))
        self.assertEqual([s["name"] for s in body["series"]], self.keys[:3])
        for one, factor in zip(body["series"], BANDS.values()):
            self.assertEqual((Path(one["output"]).name, one["rows"]), (f"t-{one['name']}.csv", 4 * PER_SERIES))
            with Path(one["output"]).open(newline="") as handle:
                rows = [r for r in csv.DictReader(handle) if r["name"] == "s3"]
            flux = np.mean([float(r["flux"]) for r in rows]) * GAIN
            # An aperture of 5 px about a star of 3 px FWHM; a neighbour may add a few per cent.
            self.assertAlmostEqual(flux / (factor * west[3, 2]), 1.0, delta=0.05)
        self.assertEqual([s["title"] for s in body["series"]], [f"West Field · {band}" for band in BANDS])
        self.assertEqual(self.ulvar(*words)[0], 2, "tables that exist are kept")
        (self.raw / "none.fits").write_bytes(b"none")
        more = (*words[:2], self.raw / "none.fits", *words[len(files) + 1 : -3], self.folder / "bad.csv", *words[-2:])
        code, body = self.json(*more, "--reference", self.raw / "000.fits")
        self.assertEqual((code, [Path(f["file"]).name for f in body["frames"] if not f["ok"]]), (1, ["none.fits"]))
        code, body = self.json("curve", out, "--out", curve)
        self.assertEqual((code, [s["series"] for s in body["series"]]), (0, sorted(self.keys[:3])))
        self.assertTrue(all((self.folder / f"c-{key}.csv").exists() for key in self.keys[:3]))
        code, body = self.json("curve", out, "--out", self.folder / "r.csv", "--series", "R")
        self.assertEqual((code, body["points"], body["output"]), (0, PER_SERIES, str(self.folder / "r.csv")))
        code, _, told = self.ulvar("curve", out, "--out", self.folder / "x.csv", "--series", "nope")
        self.assertEqual(code, 2)
        self.assertIn("West-Field-V", told)
        self.assertEqual(self.ulvar("curve", self.folder / "none.csv", "--out", curve)[0], 2)
        # The ending of the name chooses the format, of what is written and of what is read.
        table, drawn = self.folder / "f.fits", self.folder / "f.vot"
        code, _ = self.json(
            *("measure", *files, "--stars", stars, "--out", table, "--aperture", "5", "--series", "R"), "--reference", self.raw / "000.fits"
        )
        self.assertEqual((code, table.read_bytes()[:6]), (0, b"SIMPLE"))
        code, again = self.json("curve", table, "--out", drawn)
        self.assertEqual((code, again["points"]), (0, PER_SERIES))
        # Text is rounded to what its columns show, numbers are not.
        self.assertAlmostEqual(again["rms"], body["rms"], places=6)
        self.assertIn("<VOTABLE", drawn.read_text())
        self.assertEqual(self.ulvar("curve", table, "--out", self.folder / "f.docx")[0], 2)
