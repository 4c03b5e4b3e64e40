"""ulvar colour: a picture from three files, and what is wrong in a sentence."""

import contextlib
import io
import json
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import fitsio

from tests.flows.test_colour import Sky
from ulvar.cli.main import main


class Command(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        self.paths = {name: Sky(self.folder).write(name).path for name in ("red", "green", "blue")}

    def call(self, *words: str, without: str = "") -> tuple[int, str, str]:
        """Return exit code, output and errors."""
        given = [part for name, path in self.paths.items() if name != without for part in (f"--{name}", path)]
        out, err = io.StringIO(), io.StringIO()
        argv = ["ulvar", "colour", *given, "--out", str(self.folder / "made" / "c.fits"), *words]
        told = contextlib.redirect_stdout(out), contextlib.redirect_stderr(err)
        with mock.patch("sys.argv", argv), told[0], told[1], self.assertRaises(SystemExit) as ended:
            main()
        return int(ended.exception.code or 0), out.getvalue(), err.getvalue()

    def test_a_picture(self) -> None:
        code, out, _ = self.call("--json", "--ratios", "1,1,2", "--gradient", "1")
        told = json.loads(out)
        self.assertEqual((code, told["width"], told["height"]), (0, 360, 260))
        self.assertEqual([c["channel"] for c in told["channels"]], ["red", "green", "blue"])
        self.assertAlmostEqual(told["channels"][2]["factor"], 2 / 0.4, delta=0.1)
        self.assertIsNone(told["channels"][1]["residual_px"])
        self.assertLess(told["channels"][0]["residual_px"], 0.1)
        self.assertEqual(fitsio.read(told["output"]).shape, (3, 260, 360))
        self.assertIn("gradient of order 1", str(fitsio.read_header(told["output"])))
        code, out, _ = self.call()
        self.assertEqual(code, 3)
        self.assertIn("--replace", out)
        self.assertEqual(self.call("--replace")[0], 0)

    def test_what_is_wrong(self) -> None:
        for words, said in (
            (["--depth", "8"], "--depth is 16 or 32"), (["--ratios", "1,2"], "takes R,G,B"), (["--ratios", "a,b,c"], "a,b,c"),
            (["--gradient", "9"], "0 to 4"), (["--saturation", "-1"], "saturation"), (["--out", "x.jpg"], "written as"),
        ):  # fmt: skip
            code, _, err = self.call(*words)
            self.assertEqual(code, 2, words)
            self.assertIn(said, err)
        self.assertEqual(self.call(without="blue")[0], 2)
        Path(self.paths["red"]).write_bytes(b"SIMPLE")
        code, out, _ = self.call("--json")
        self.assertEqual(code, 3)
        self.assertIn("red.fits", json.loads(out)["channels"][0]["file"])
        self.assertTrue(json.loads(out)["channels"][0]["reason"])
