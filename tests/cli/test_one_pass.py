"""Raw exposures to a stack in one pass: the same pixels as in two steps, and no file in between."""

import dataclasses
import shutil
import tempfile
from pathlib import Path
from typing import ClassVar

import fitsio
import numpy as np
from tools.cases import files_under, small_demo, stamps

from tests.cli.support import Command
from ulvar.flows import load_masters, plan_calibration
from ulvar.flows.lights import read_light, ready_facts
from ulvar.frames import FrameError, header_of, read_plane, scan_file


class OnePass(Command):
    """Five lights of the demo night and its masters."""

    masters: ClassVar[Path]
    lights: ClassVar[list[Path]]

    @classmethod
    def setUpClass(cls) -> None:
        raw = small_demo() / "raw"
        cls.made = Path(tempfile.mkdtemp(prefix="ulvar-test-"))
        cls.addClassCleanup(shutil.rmtree, cls.made, True)
        cls.masters = cls.made / "masters"
        cls.lights = []
        for light in sorted((raw / "lights" / "V").glob("*.fits"))[:5]:
            cls.lights.append(Path(shutil.copy2(light, cls.made)))
            with fitsio.FITS(str(cls.lights[-1]), "rw") as file:
                file[0].write_key("BIASSEC", "[1:4,1:9]")
        # setUp of each test is not there yet.
        code = cls("json").json("masters", raw, "--out", cls.masters)[0]
        assert code in (0, 1)

    def both(self, *words: object) -> tuple[Path, Path, dict]:
        """Stack in two steps and in one; returns both files and what the second says."""
        calibrated, one, two = self.folder / "calibrated", self.folder / "one.fits", self.folder / "two.fits"
        self.assertEqual(self.ulvar("calibrate", *self.lights, "--masters", self.masters, "--out", calibrated)[0], 0)
        code, body = self.json("stack", calibrated, "--out", two, *words)
        self.assertEqual(code, 0, body)
        shutil.rmtree(calibrated)
        before = stamps(self.lights[0].parent)
        code, body = self.json("stack", *self.lights, "--masters", self.masters, "--out", one, *words)
        self.assertEqual(code, 0, body)
        self.assertEqual(stamps(self.lights[0].parent), before)
        return one, two, body

    def test_the_same_pixels_as_in_two_steps(self) -> None:
        one, two, body = self.both("--drop", "0.8", "--scale", "1.5")
        self.assertEqual(files_under(self.folder), {"one.fits", "two.fits", "one-drops.fits", "two-drops.fits"})
        for name in ("", "-drops"):
            with self.subTest(name):
                a, b = (read_plane(str(p.with_name(f"{p.stem}{name}.fits"))) for p in (one, two))
                np.testing.assert_array_equal(a, b)
                self.assertGreater(np.isfinite(a).mean(), 0.5)
        self.assertEqual({f["file"] for f in body["frames"] if f["used"]}, set(map(str, self.lights)))
        # Raw exposures stacked as they are would have kept their bias.
        self.assertLess(float(np.nanmedian(read_plane(str(one)))), 0.7 * float(np.median(read_plane(str(self.lights[0])))))
        mine, theirs = header_of(str(one)), header_of(str(two))
        for card in ("NCOMBINE", "EXPTOTAL", "EGAIN", "RDNOISE", "DATE-AVG", "FILTER", "SKYNOISE", "NOISECOR"):
            self.assertEqual(mine[card], theirs[card], card)
        # What is true of raw pixels is not told of the stack.
        for card in ("SATURATE", "BIASSEC"):
            self.assertIn(card, header_of(str(self.lights[0])))
            self.assertNotIn(card, mine)
        history = [str(r["value"]) for r in fitsio.read_header(str(one)).records() if r["name"] == "HISTORY"]
        self.assertIn("5 exposures calibrated on the way", history)
        named = [line for line in history if line.startswith(("bias ", "dark ", "flat "))]
        self.assertEqual(len(named), len(set(named)))
        for kind in ("dark", "flat"):
            self.assertTrue(any((self.masters / line.removeprefix(f"{kind} ")).is_file() for line in named), named)

    def test_what_is_there_already_is_known_by_its_masters(self) -> None:
        out = self.folder / "s.fits"
        words = ("stack", *self.lights[:3], "--out", out)
        self.assertEqual(self.json(*words, "--masters", self.masters)[0], 0)
        self.assertTrue(self.json(*words, "--masters", self.masters)[1]["skipped"])
        # Uncalibrated it is another stack.
        self.assertEqual(self.json(*words)[0], 3)

    def test_a_light_without_a_safe_master_is_named_and_the_rest_goes_on(self) -> None:
        other = self.folder / "other.fits"
        shutil.copy2(self.lights[4], other)
        with fitsio.FITS(str(other), "rw") as file:
            file[0].write_key("EXPTIME", 33.0)
        words = ("--masters", self.masters, "--out", self.folder / "s.fits")
        code, body = self.json("stack", *self.lights[:3], other, *words)
        self.assertEqual((code, sum(f["used"] for f in body["frames"])), (1, 3))
        (refused,) = [f for f in body["frames"] if f["file"] == str(other)]
        self.assertIn("dark", refused["reason"])
        code, body = self.json("stack", other, *words, "--replace")
        self.assertEqual((code, body["output"]), (3, ""))
        code, body = self.json("stack", *self.lights[:3], other, *words, "--replace", "--partial")
        self.assertEqual((code, sum(f["used"] for f in body["frames"])), (0, 4))

    def test_masters_that_are_none(self) -> None:
        empty = self.folder / "empty"
        empty.mkdir()
        for folder, words in ((self.folder / "nowhere", "there is no such folder"), (empty, "holds no master")):
            code, _, err = self.ulvar("stack", *self.lights, "--masters", folder, "--out", self.folder / "s.fits")
            self.assertEqual(code, 2)
            self.assertIn(words, err)

    def test_a_master_that_is_gone_is_named_beside_the_exposure(self) -> None:
        lights = [scan_file(str(self.lights[0]))]
        plan = plan_calibration(lights, load_masters(self.masters)[0])
        task = plan.tasks[0]
        ready = ready_facts(lights[0], task)
        self.assertEqual((ready.path, ready.saturation_adu, ready.bitpix), (lights[0].path, None, -32))
        self.assertIsNotNone(lights[0].saturation_adu)
        gone = self.folder / "gone.fits"
        for broken in (
            dataclasses.replace(task, flat=str(gone)),
            dataclasses.replace(task, facts=dataclasses.replace(task.facts, path=str(gone))),
        ):
            with self.assertRaises(FrameError) as caught:
                read_light(ready, broken)
            self.assertEqual(caught.exception.path, lights[0].path)
            self.assertIn(str(gone), caught.exception.reason)

    def test_a_master_that_is_cut_short_is_named(self) -> None:
        masters = self.folder / "masters"
        shutil.copytree(self.masters, masters)
        for flat in masters.glob("*flat*V*"):
            flat.write_bytes(flat.read_bytes()[: flat.stat().st_size // 2])
        code, body = self.json("stack", *self.lights[:3], "--masters", masters, "--out", self.folder / "s.fits")
        self.assertEqual(code, 3)
        for frame in body["frames"]:
            self.assertFalse(frame["used"])
            self.assertIn("flat", frame["reason"])
        (passed,) = body["passed_over"]
        self.assertIn("flat", Path(passed["file"]).name)
        self.assertIn("cut short", passed["reason"])
        out = self.ulvar("stack", *self.lights[:3], "--masters", masters, "--out", self.folder / "s.fits", "--partial")[1]
        self.assertIn(f"{Path(passed['file']).name}: ", out)
