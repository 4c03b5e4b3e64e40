"""The kernels' tests again with compiling off: what the compiled loops do, Python does line by line."""

from __future__ import annotations

import os
import subprocess
import sys
import unittest

from tests.support import ROOT

KERNELS = (
    "tests.stars.test_kernels", "tests.combine.test_bounds", "tests.registration.test_plain.TapByTap",
    "tests.registration.test_plain.Kernels", "tests.registration.test_plain.TwoPasses.test_holes",
    "tests.registration.test_plain.TwoPasses.test_small_rotations", "tests.registration.test_lookup",
    "tests.photometry.test_photometry.Overlap", "tests.photometry.test_series.AgainstNumpy",
    "tests.lightcurves.test_models.Periodogram.test_against_least_squares",
    "tests.calibration.test_steps.CosmicRays.test_edges_kernel_against_numpy", "tests.calibration.test_steps.Darks",
    "tests.calibration.test_steps.Defective",
)  # fmt: skip


class Uncompiled(unittest.TestCase):
    """An array read beyond its end, an integer that wraps: without the compiler these are errors."""

    def test_kernels_as_plain_python(self) -> None:
        done = subprocess.run(
            [sys.executable, "-W", "error", "-m", "unittest", *KERNELS],
            cwd=ROOT, env={**os.environ, "NUMBA_DISABLE_JIT": "1"}, capture_output=True, text=True, check=False,
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertGreater(int(done.stderr.rpartition("Ran ")[2].split()[0]), 40)
