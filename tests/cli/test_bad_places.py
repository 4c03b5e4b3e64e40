"""Outputs where nothing can be written: a sentence, JSON where it was asked for, nothing half, nothing lost."""

from __future__ import annotations

import errno
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from tests.cli.support import Command
from tests.support import files_under, stamps


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
            ("stars", self.lights, "--table", out / "t"),
            ("stack", self.lights, "--out", out / "s.fits"),
            ("measure", self.lights, "--stars", self.folder / "stars.csv", "--aperture", "5", "--out", out / "m.csv"),
            ("masters", self.folder / "bias", "--out", out / "m"),
            ("catalogue", "import", self.folder / "table.csv", "--out", out / "c"),
            ("demo", "--no-window", "--folder", out / "d"),
        ]

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


if __name__ == "__main__":
    unittest.main()
