"""The storm in short: fixed seeds of every kind of input, kills, full disks; and every input that ever did harm."""

from __future__ import annotations

import os
import subprocess
import sys
import unittest

from tests.support import ROOT

# Seeds of inputs that once ended in a traceback, a wrong product, a hang or a sentence without the file's name.
FOUND = (
    3, 4, 33, 44, 50, 58, 63, 70, 86, 92, 101, 112, 116, 121, 145, 169, 192, 219, 263, 267, 291, 1010, 1016, 1033, 1064, 1094, 1099,
    1171, 2199, 10064, 10294, 10351, 1000600, 2007654, 3002538, 3003123, 3008288, 4001991,
)  # fmt: skip


class Short(unittest.TestCase):
    def storm(self, *words: str) -> str:
        """Run a campaign that has to find nothing; returns what it says."""
        done = subprocess.run(
            [sys.executable, str(ROOT / "bench" / "storm" / "run_storm.py"), *words],
            capture_output=True, text=True, check=False, timeout=900, cwd=ROOT,
        )  # fmt: skip
        self.assertEqual((done.returncode, done.stderr[-2000:]), (0, ""), done.stdout[-4000:])
        return done.stdout

    def test_damaged_inputs(self) -> None:
        said = self.storm("fuzz", "--count", "6", "--seed", "500", "--minutes", "5", "--also", ",".join(map(str, FOUND)))
        self.assertIn(f"fuzz: {6 + len(FOUND)} inputs", said)

    def test_kills(self) -> None:
        self.assertIn("kill: 6 kills", self.storm("kill", "--count", "6", "--seed", "500", "--minutes", "5"))

    def test_bad_disks(self) -> None:
        said = self.storm("disk", "--count", "10", "--seed", "500", "--minutes", "5")
        # Small file systems are mounted by root only; sizes are limited in their stead.
        for kind in ("limits", "failed", "pulled out", "slow") + (("small disks",) if os.geteuid() == 0 else ()):
            self.assertRegex(said, rf"[1-9]\d* ?[a-z ]*{kind}")
