"""The storm in short: fixed seeds of every kind of input, kills, full disks; and every input that ever did harm."""

import os
import subprocess
import sys
import unittest

from tools.cases import ROOT

# Seeds of inputs that once ended in a traceback, a wrong product, a hang or a sentence without the file's name.
FOUND = (
    3, 4, 33, 44, 50, 58, 63, 70, 86, 92, 101, 112, 116, 121, 145, 169, 192, 219, 263, 267, 291, 1010, 1016, 1033, 1064, 1094, 1099,
    1171, 2199, 10064, 10294, 10351, 1000600, 2007654, 3002538, 3003123, 3008288, 4001991,
)  # fmt: skip


class Short(unittest.TestCase):
    def test_damaged_inputs_kills_and_bad_disks(self) -> None:
        # With this seed every kind of bad disk comes up, and a command with workers among those that are ended.
        words = ("all", "--count", "6", "--seed", "587", "--minutes", "5", "--also", ",".join(map(str, FOUND)))
        done = subprocess.run(
            [sys.executable, str(ROOT / "bench" / "storm" / "run_storm.py"), *words],
            capture_output=True, text=True, check=False, timeout=900, cwd=ROOT,
        )  # fmt: skip
        self.assertEqual((done.returncode, done.stderr[-2000:]), (0, ""), done.stdout[-4000:])
        said = done.stdout
        self.assertIn(f"fuzz: {6 + len(FOUND)} inputs", said)
        self.assertIn("kill: 6 kills", said)
        # Small file systems are mounted by root only; sizes are limited in their stead.
        for kind in ("limits", "failed", "pulled out", "slow") + (("small disks",) if os.geteuid() == 0 else ()):
            self.assertRegex(said, rf"[1-9]\d* ?[a-z ]*{kind}")
