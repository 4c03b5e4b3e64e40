"""sort, masters, calibrate, shooting, camera and library on the command line."""

import csv
from pathlib import Path

import numpy as np
from tools.cases import files_under, small_demo, stamps

from tests.cli.support import Command
from ulvar.frames import header_of, read_frame, read_plane


class Steps(Command):
    """The options of masters and calibrate, and what they write."""

    def test_sort_with_pixels_and_tags(self) -> None:
        raw = small_demo() / "raw"
        code, body = self.json("sort", raw / "bias", raw / "darks", "--tag", "session={}")
        self.assertEqual(code, 0)
        self.assertEqual({g["session"] for g in body["groups"]}, {"2027-02-11"}, "no folder below: the times decide")
        code, body = self.json("sort", raw, "--no-pixels", "--tag", "session={}")
        self.assertEqual({g["session"] for g in body["groups"]}, {"lights", "flats", "dark flats", "darks", "bias"})
        self.assertEqual(self.ulvar("sort", raw, "--tag", "session=x")[0], 2)

    def test_a_wrong_value_is_told_with_its_option(self) -> None:
        raw = small_demo() / "raw"
        out = self.folder / "m"
        self.assertEqual(self.ulvar("masters", raw / "bias", "--out", out)[0], 0)
        lights = sorted((raw / "lights" / "V").glob("*.fits"))[:1]
        for words, told in (
            (("--hot-sigma", "0.5"), "--hot-sigma: it must be at least 2, not 0.5"),
            (("--overlay", "nonsense"), "nonsense"), (("--pedestal", "much"), "much"),
        ):  # fmt: skip
            code, _, err = self.ulvar("calibrate", *lights, "--masters", out, "--out", self.folder / "c", *words)
            self.assertEqual(code, 2)
            self.assertIn(told, " ".join(err.split()))
            self.assertNotIn("http", err)

    def test_every_step_at_once(self) -> None:
        raw = small_demo() / "raw"
        before = stamps(raw)
        out = self.folder / "m"
        code, body = self.json(
            "masters", raw / "darks", raw / "flats" / "V", raw / "dark flats" / "V", raw / "bias", "--out", out, "--trim",
            "[11:500,1:360]",
        )  # fmt: skip
        self.assertEqual(code, 0)
        self.assertEqual({m["kind"] for m in body["masters"]}, {"bias", "dark", "dark_flat", "flat"})
        lights = sorted((raw / "lights" / "V").glob("*.fits"))[:3]
        options = ["--masters", out, "--out", self.folder / "c", "--trim", "[11:500,1:360]", "--repair", "--cosmic", "--overlay", "[1:20,1:9]",
                   "--pedestal", "100", "--suffix", "_x", "--fact", "width=490"]  # fmt: skip
        self.assertEqual(self.ulvar("calibrate", *lights, *options)[0], 2, "a size is no fact to correct")
        code, body = self.json("calibrate", *lights, *options[:-2])
        # Masters of trimmed frames fit the trimmed size; raw lights are larger and are told so.
        self.assertEqual(code, 0, body)
        self.assertEqual({Path(f["output"]).name for f in body["frames"]}, {f"{p.stem}_x.fits" for p in lights})
        frame = read_frame(body["frames"][0]["output"])
        self.assertEqual(frame.data.shape, (360, 490))
        self.assertTrue(np.isnan(frame.data[:9, :20]).all())
        header = header_of(body["frames"][0]["output"])
        self.assertEqual(header["PEDESTAL"], 100.0)
        self.assertGreater(body["frames"][0]["noise_after"], 5)
        self.assertEqual(stamps(raw), before)
        for wrong in (["--overscan", "x"], ["--pedestal", "much"], ["--linearity", "a,b"], ["--hot-sigma", "0"]):
            self.assertEqual(self.ulvar("calibrate", *lights, "--masters", out, "--out", self.folder / "d", *wrong)[0], 2, wrong)
        self.assertFalse((self.folder / "d").exists())

    def test_scaling_is_asked_for(self) -> None:
        raw = small_demo() / "raw"
        out = self.folder / "m"
        self.assertEqual(self.ulvar("masters", *sorted((raw / "darks").glob("Dark-180-0*")), raw / "bias", "--out", out)[0], 0)
        light = sorted((raw / "lights" / "V").glob("*.fits"))[0]
        self.assertEqual(self.json("calibrate", light, "--masters", out, "--out", self.folder / "a")[0], 3)
        code, body = self.json("calibrate", light, "--masters", out, "--out", self.folder / "b", "--scale-darks")
        self.assertEqual((code, body["frames"][0]["ok"]), (0, True))
        self.assertIn("dark scaled by 1.3333", str(header_of(body["frames"][0]["output"])) + self.history(body["frames"][0]["output"]))

    @staticmethod
    def history(path: str) -> str:
        import fitsio

        return " ".join(str(r["value"]) for r in fitsio.read_header(path).records() if r["name"] == "HISTORY")


class Around(Command):
    """What is missing, the camera, the library."""

    def test_shooting_list(self) -> None:
        raw = small_demo() / "raw"
        code, body = self.json("shooting", raw / "lights", raw / "darks", raw / "bias", "--out", self.folder / "list.csv")
        self.assertEqual(code, 1)
        wanted = {(s["kind"], s["filter"], s["exposure_s"]) for s in body["shots"]}
        self.assertEqual(wanted, {("dark", "", 300.0), ("flat", "B", None), ("flat", "R", None), ("flat", "V", None)})
        with (self.folder / "list.csv").open(newline="") as handle:
            self.assertEqual(len(list(csv.DictReader(handle))), 4)
        self.assertEqual(self.ulvar("shooting", raw / "lights", "--out", self.folder / "list.csv")[0], 2, "kept unless asked")
        self.assertEqual(self.ulvar("shooting", raw / "bias")[0], 3)

    def test_camera(self) -> None:
        raw = small_demo() / "raw"
        code, body = self.json("camera", raw / "flats" / "V", raw / "dark flats" / "V", raw / "bias", "--level", "0.4")
        self.assertEqual(code, 0)
        (camera,) = body["cameras"]
        # Three pairs of 90,000 pixels: 0.3 % of the variance each, and the truth is 1.3.
        self.assertLess(abs(camera["gain_e_per_adu"] / 1.3 - 1), 0.02)
        self.assertEqual(body["flats"][0]["filter"], "V")
        self.assertEqual(self.ulvar("camera", raw / "bias", "--level", "2")[0], 2)
        self.assertEqual(self.ulvar("camera", raw / "bias")[0], 3)

    def test_library(self) -> None:
        raw = small_demo() / "raw"
        out, shelf = self.folder / "m", self.folder / "library"
        self.ulvar("masters", raw / "bias", "--out", out)
        (made,) = out.glob("*.fits")
        code, body = self.json("library", "add", made, "--library", shelf)
        self.assertEqual((code, body["masters"][0]["kind"], body["masters"][0]["count"]), (0, "bias", 6))
        self.assertEqual(self.json("library", "add", made, "--library", shelf)[0], 0, "the same is there already")
        self.assertEqual(self.json("library", "add", made, "--library", shelf, "--replace")[0], 0)
        code, body = self.json("library", "list", "--library", shelf)
        (entry,) = body["masters"]
        self.assertNotIn("{", self.ulvar("library", "list", "--library", shelf)[1])
        np.testing.assert_array_equal(read_plane(str(shelf / entry["file"])), read_plane(str(made)))
        self.assertEqual(self.ulvar("library", "retire", entry["file"], "--library", shelf)[0], 0)
        self.assertEqual(self.json("library", "list", "--library", shelf)[1]["masters"], [])
        self.assertEqual(self.ulvar("library", "retire", "nothing", "--library", shelf)[0], 2)
        other = self.write("odd.fits", np.ones((5, 6), np.float32))
        self.assertEqual(self.json("library", "add", other, "--library", shelf)[0], 3)
        self.assertEqual(self.json("library", "add", other, "--library", shelf, "--fact", "role=dark", "--fact", "count=12")[0], 0)
        self.assertFalse([n for n in files_under(shelf) if Path(n).name.startswith(".")])
