"""The command line's contract: exit codes, JSON on standard output only, files kept."""

import csv
import json
from pathlib import Path
from unittest import mock

import numpy as np
import tifffile
from tools.cases import files_under, stamps

from tests.cli.support import Command
from ulvar.engine import WorkerDied
from ulvar.frames import read_plane


class StrangeFolders(Command):
    """Empty, text only, missing, bare: the right code, a clear sentence, valid JSON."""

    def test_nothing_to_find(self) -> None:
        (self.folder / "empty").mkdir()
        (self.folder / "text").mkdir()
        (self.folder / "text" / "a.txt").write_text("x")
        for name in ("empty", "text"):
            code, body = self.json("sort", self.folder / name)
            self.assertEqual((code, body["groups"], body["findings"][0]["code"]), (3, [], "nothing_found"))
        code, out, err = self.ulvar("sort", self.folder / "nope", "--json")
        self.assertEqual((code, list(json.loads(out))), (2, ["error"]))
        self.assertIn("no such file or folder", err)

    def test_bare_exposures_from_sort_to_curve(self) -> None:
        bare = self.bare()
        before = stamps(bare)
        code, body = self.json("sort", bare)
        self.assertEqual((code, body["groups"][0]["role"], body["groups"][0]["count"]), (0, "unknown", 4))
        self.assertEqual(self.json("masters", bare, "--out", self.folder / "m")[0], 3)
        code, body = self.json("stars", bare, "--table", self.folder / "t")
        self.assertEqual(code, 0)
        self.assertTrue(all(abs(f["fwhm_px"] - 3) < 0.06 and 0 <= f["score"] <= 1 for f in body["frames"]))
        code, body = self.json("stack", bare, "--out", self.folder / "s.fits")
        self.assertEqual((code, body["width"], body["height"]), (0, 400, 300))
        m = [np.array(f["matrix"]) for f in body["frames"]]
        # Exposure i lies 1.3 i px to the right of the first; matched on 55 stars the shift is known to 0.02 px.
        np.testing.assert_allclose(m[3][:, 2] - m[0][:, 2], [-3.9, 2.1], atol=0.1)
        self.assertAlmostEqual(sum(f["weight"] for f in body["frames"]), 1.0)
        with (self.folder / "t" / "im0.stars.csv").open(newline="") as handle:
            rows = list(csv.DictReader(handle))[:4]
        listed = "name,role,x,y\n" + "".join(f"s{i},{'target' if not i else 'comparison'},{r['x']},{r['y']}\n" for i, r in enumerate(rows))
        (self.folder / "s.csv").write_text(listed)
        code, body = self.json("measure", bare, "--stars", self.folder / "s.csv", "--out", self.folder / "series.csv")
        self.assertEqual((code, body["rows"]), (0, 16))
        with (self.folder / "series.csv").open(newline="") as handle:
            table = list(csv.DictReader(handle))
        self.assertEqual({r["flux_error"] for r in table}, {""}, "no gain, no error bar")
        self.assertEqual(self.ulvar("curve", self.folder / "series.csv", "--out", self.folder / "c.csv")[0], 0)
        self.assertEqual(stamps(bare), before)

    def test_one_frame(self) -> None:
        bare = self.bare(1)
        self.assertEqual(self.json("stack", bare, "--out", self.folder / "one.fits")[0], 0)
        np.testing.assert_allclose(read_plane(str(self.folder / "one.fits")), read_plane(str(bare / "im0.fits")), atol=1e-2)


class Outputs(Command):
    """Nothing is overwritten; what is there already counts as done."""

    def test_skip_keep_replace(self) -> None:
        bare, out = self.bare(), self.folder / "s.fits"
        self.assertEqual(self.ulvar("stack", bare, "--out", out)[0], 0)
        first = out.stat().st_mtime_ns
        code, body = self.json("stack", bare, "--out", out)
        self.assertEqual((code, body["skipped"], out.stat().st_mtime_ns), (0, True, first))
        code, body = self.json("stack", bare, "--out", out, "--method", "median")
        self.assertEqual((code, out.stat().st_mtime_ns), (3, first))
        self.assertEqual(self.ulvar("stack", bare, "--out", out, "--method", "median", "--replace")[0], 0)
        self.assertNotEqual(out.stat().st_mtime_ns, first)
        self.assertFalse([f for f in files_under(self.folder) if "/." in f or f.startswith(".")], "no scratch is left")

    def test_tiff(self) -> None:
        bare = self.bare(2)
        for depth, kind in ((16, np.uint16), (32, np.float32)):
            out = self.folder / f"{depth}.tif"
            self.assertEqual(self.ulvar("stack", bare, "--out", out, "--depth", depth, "--align", "none")[0], 0)
            picture = tifffile.imread(out)
            self.assertEqual((picture.dtype, picture.shape), (kind, (300, 400)))

    def test_one_bad_file_does_not_stop_the_rest(self) -> None:
        bare = self.bare()
        (bare / "im2.fits").write_bytes((bare / "im2.fits").read_bytes()[:60000])
        (bare / "junk.fits").write_text("junk")
        code, body = self.json("stack", bare, "--out", self.folder / "s.fits")
        bad = {Path(f["file"]).name: f["reason"] for f in body["frames"] if not f["used"]}
        self.assertEqual(code, 1)
        self.assertIn("cut short", bad["im2.fits"])
        self.assertIn("not a FITS file", bad["junk.fits"])
        code, body = self.json("stars", bare)
        self.assertEqual((code, sum(f["ok"] for f in body["frames"])), (1, 3))


class Usage(Command):
    """Wrong usage is exit code 2 with a plain sentence."""

    def test_refusals(self) -> None:
        bare = self.bare(2)
        (self.folder / "c.csv").write_text("ra,dec\n1,2\n")
        (self.folder / "s.csv").write_text("name,role,x,y\nt,target,1,1\n")
        cases = (
            (("solve", bare, "--catalogue", self.folder / "c.csv", "--blind", "--at", "1,2"), "--blind takes no hint"),
            (("solve", bare, "--catalogue", self.folder / "c.csv", "--seconds", "0"), "above 0"),
            (("solve", bare, "--catalogue", self.folder / "c.csv", "--at", "1,2,3"), "is not RA,DEC"),
            (("solve", bare, "--catalogue", self.folder / "none.csv"), "no such file"),
            (("stack", bare, "--out", self.folder / "s.png"), "written as"),
            (("stack", bare, "--out", self.folder / "s.fits", "--method", "median", "--weights", "snr"), "takes no weights"),
            (("stack", bare, "--out", self.folder / "s.fits", "--low", "0"), "above 0"),
            (("measure", bare, "--stars", self.folder / "s.csv", "--out", self.folder / "t.csv", "--aperture", "big"), "not a radius"),
            (("measure", bare, "--stars", self.folder / "s.csv", "--out", self.folder / "t.docx"), "tables are written as"),
            (("stars", bare, "--fact", "gain=abc"), "gain=abc"),
            (("stars", bare, "--fact", "nonsense"), "NAME=VALUE"),
            (("calibrate", bare, "--masters", bare, "--out", self.folder), "holds no master"),
            (("catalogue", "fetch", "--service", "x", "--at", "1,2", "--radius", "1", "--out", "o"), "no address of a service"),
            (("run", self.folder / "none.toml"), "no such file"),
            (("stack", bare), "Missing option"),
            (("nonsense",), "No such command"),
        )  # fmt: skip
        for words, sentence in cases:
            with self.subTest(words=words[0], sentence=sentence):
                code, out, err = self.ulvar(*words)
                self.assertEqual(code, 2)
                self.assertIn(sentence, " ".join(err.split()))
                self.assertEqual(out, "")

    def test_errors_are_json_where_that_was_asked_for(self) -> None:
        bare = self.bare(2)
        code, body = self.json("stack", bare, "--out", self.folder / "s.fits", "--low", "0")
        self.assertEqual((code, list(body)), (2, ["error"]))
        self.assertIn("above 0", body["error"])
        # Also where the options' own reader refuses them.
        for words, why in (
            (("--scale", "wide"), "should be a valid number"), (("--nothing",), "No such option"), (("--align", "x"), "Invalid value for '--align'"),
        ):  # fmt: skip
            code, body = self.json("stack", bare, "--out", self.folder / "s.fits", *words)
            self.assertEqual((code, list(body)), (2, ["error"]), words)
            self.assertIn(why, body["error"])
        code, body = self.json("library", "add")
        self.assertEqual((code, "FILE" in body["error"]), (2, True))
        code, body = self.json("sort", self.folder / "nowhere")
        self.assertEqual(code, 2)
        self.assertIn("no such file or folder", body["error"])

    def test_a_dead_worker_is_a_sentence(self) -> None:
        bare = self.bare(4)
        with mock.patch("ulvar.cli.stars.find_all", side_effect=WorkerDied("a worker process ended")):
            code, body = self.json("stars", bare)
        self.assertEqual((code, list(body)), (3, ["error"]))
        self.assertIn("a worker process ended", body["error"])

    def test_reasons_name_the_option_that_does_otherwise(self) -> None:
        bare = self.bare(3)
        out = self.folder / "s.fits"
        self.assertEqual(self.ulvar("stack", bare, "--out", out, "--align", "none")[0], 0)
        code, body = self.json("stack", bare, "--out", out, "--align", "none", "--low", "9")
        self.assertEqual(code, 3)
        self.assertIn("it is kept (see --replace)", body["frames"][0]["reason"])

    def test_window_without_a_display_says_so(self) -> None:
        for words in ((), ("open",)):
            with mock.patch.dict("os.environ", clear=True):
                code, _, err = self.ulvar(*words)
            self.assertEqual(code, 3)
            self.assertIn("no display", err)
