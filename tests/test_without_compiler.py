"""The kernels' tests again with compiling off: what the compiled loops do, Python does line by line."""

import os
import subprocess
import sys
import unittest

from tools.cases import ROOT

KERNELS = (
    "tests.stars.test_kernels", "tests.combine.test_bounds", "tests.registration.test_plain.TapByTap",
    "tests.registration.test_plain.Kernels", "tests.registration.test_plain.Raised", "tests.registration.test_plain.TwoPasses.test_holes", "tests.registration.test_lookup", "tests.registration.test_registration.Resampling.test_what_triangles_propose",
    "tests.photometry.test_photometry.Overlap", "tests.photometry.test_series.AgainstNumpy",
    "tests.lightcurves.test_models.Periodogram.test_against_least_squares", "tests.lightcurves.test_models.Template.test_the_kernel_is_the_plain_sum",
    "tests.lightcurves.test_joint.TransitLight.test_against_the_integral", "tests.lightcurves.test_occultation.OccultationTest.test_the_deepest_box_against_all",
    "tests.lightcurves.test_periods.Searches.test_phase_bins_against_plain_sums", "tests.lightcurves.test_periods.Searches.test_boxes_against_plain_sums",
    "tests.lightcurves.test_many_nights.Rotations.test_squares_against_least_squares",
    "tests.combine.test_rows.EveryCount.test_median_mean_and_spread", "tests.combine.test_rows.Median", "tests.combine.test_rows.EveryCount.test_every_way_on_a_few_pixels",
    "tests.photometry.test_photometry.Apertures.test_flags", "tests.photometry.test_photometry.Apertures.test_each_term_of_the_error_alone",
    "tests.photometry.test_series.OneExposure", "tests.photometry.test_sky.Clipped", "tests.photometry.test_sky.Ellipses", "tests.photometry.test_sky.Beside",
    "tests.combine.test_rows.EveryCount.test_a_gap_in_the_middle_of_a_row_is_seen_whatever_its_frame_weighs", "tests.stacking.test_drops.Areas",
    "tests.calibration.test_steps.CosmicRays.test_edges_kernel_against_numpy", "tests.calibration.test_steps.Darks",
    "tests.calibration.test_steps.Defective", "tests.astrometry.test_small.Patterns",
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
