"""Outputs where nothing can be written: a sentence, JSON where it was asked for, nothing half, nothing lost."""

import errno
from pathlib import Path
from unittest import mock

import numpy as np
from tools.cases import files_under, stamps

from tests.cli.support import Command
from ulvar.simulation import Psf, star_field


class BadPlaces(Command):
    def setUp(self) -> None:
        super().setUp()
        self.lights = self.bare(4)
        for i in range(3):
            bias = np.random.default_rng(i).normal(300, 5, (300, 400)).astype(np.uint16)
            self.write(f"bias/b{i}.fits", bias, IMAGETYP="Bias", EXPTIME=0.0)
        (self.folder / "stars.csv").write_text("name,role,x,y\nA,target,150,100\nB,comparison,100,60\n")
        (self.folder / "table.csv").write_text("ra,dec,mag\n10.0,20.0,9.5\n10.1,20.1,10.5\n")

    def commands(self, out: Path) -> list[tuple[object, ...]]:
        """Return every command that writes something small, with its output there."""
        return [
            ("stars", self.lights, "--table", out / "t"), ("stack", self.lights, "--out", out / "s.fits"),
            ("measure", self.lights, "--stars", self.folder / "stars.csv", "--aperture", "5", "--out", out / "m.csv"),
            ("masters", self.folder / "bias", "--out", out / "m"), ("catalogue", "import", self.folder / "table.csv", "--out", out / "c"),
            ("demo", "--no-window", "--folder", out / "d"),
        ]  # fmt: skip

    def test_a_file_stands_where_a_folder_should(self) -> None:
        wall = self.folder / "wall"
        wall.write_text("mine")
        before = stamps(self.folder)
        for words in self.commands(wall):
            with self.subTest(words[0]):
                code, body = self.json(*words)
                self.assertEqual(code, 3)
                told = body.get("error") or body["failed"][0]["reason"]
                self.assertIn("a file is in the way where a folder is needed", told)
                self.assertTrue(told.startswith(str(wall)), told)
                code, out, err = self.ulvar(*words)
                self.assertEqual(code, 3)
                self.assertIn("is in the way", err + out)
        self.assertEqual(stamps(self.folder), before)

    def test_a_disk_that_fills_up(self) -> None:
        def full(handle: int) -> None:
            raise OSError(errno.ENOSPC, "No space left on device")

        out = self.folder / "out"
        for words in self.commands(out)[:-1]:
            with self.subTest(words[0]), mock.patch("ulvar.engine.atomic.os.fsync", full):
                code, body = self.json(*words) if words[0] != "stars" else self.json("stars", *self.few(words))
                self.assertEqual(code, 3)
                told = body.get("error") or body["failed"][0]["reason"]
                self.assertRegex(told, rf"^{out}/.*: its disk is full \(.* [kM]B free\)$")
        self.assertEqual(files_under(out), set())

    def few(self, words: tuple[object, ...]) -> list[object]:
        """Return the words with as few exposures as are worked on in this process."""
        return [self.lights / "im0.fits", self.lights / "im1.fits", *words[2:]]


class HeadersThatClimb(Command):
    """What a header says never leads out of the folder that was asked for."""

    def test_filters_and_objects_that_look_like_paths(self) -> None:
        rng = np.random.default_rng(9)
        x, y, flux = rng.uniform(20, 380, 40), rng.uniform(20, 280, 40), 10 ** rng.uniform(4, 5, 40)
        for k, (name, filter_name) in enumerate((("../../up", "../../x"), ("/etc/top", "V/../../../../y"), ("a\\b", "..")) * 3):
            sky = star_field(rng, width=400, height=300, x=x, y=y, flux_e=flux, psf=Psf.with_fwhm(3.0))
            cards = {"IMAGETYP": "Light", "EXPTIME": 30.0, "FILTER": filter_name, "OBJECT": name, "GAIN": 1}
            self.write(f"in/l{k}.fits", sky.astype(np.uint16), **cards)
            flat = rng.normal(20_000, 100, (300, 400)).astype(np.uint16)
            self.write(f"in/f{k}.fits", flat, IMAGETYP="Flat", EXPTIME=2.0, FILTER=filter_name, GAIN=1)
            bias = rng.normal(300, 5, (300, 400)).astype(np.uint16)
            self.write(f"in/b{k}.fits", bias, IMAGETYP="Bias", EXPTIME=0.0, GAIN=1)
        before, out = files_under(self.folder), self.folder / "deep" / "out"
        code, body = self.json("masters", self.folder / "in", "--out", out / "m")
        self.assertEqual((code, len(body["masters"])), (0, 4))
        code, _ = self.json("library", "add", *sorted((out / "m").glob("*.fits")), "--library", self.folder / "deep" / "lib")
        self.assertEqual(code, 0)
        code, body = self.json("stack", *sorted((self.folder / "in").glob("l*.fits")), "--out", out / "s.fits")
        self.assertEqual((code, len(body["series"])), (0, 3))
        made = files_under(self.folder) - before
        self.assertGreaterEqual(len(made), 6)
        self.assertEqual({str(Path(f).parent) for f in made}, {"deep/out", "deep/out/m", "deep/lib"})
