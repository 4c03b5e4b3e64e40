"""Rules of matching, word by word and at their edges."""

import math
import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np
from tools.cases import FolderCase

from ulvar.calibration import Candidate, MatchOptions, build_master, match_lights, parse_region
from ulvar.calibration.candidates import _age_days, suits
from ulvar.calibration.comparing import _drift
from ulvar.calibration.cosmic import _grown_mosaic, _median, find_cosmic_rays
from ulvar.calibration.defects import _clusters
from ulvar.calibration.levels import dark_current
from ulvar.calibration.matching import Fit
from ulvar.calibration.prepare import Preparation
from ulvar.calibration.shooting import _need
from ulvar.engine import Failed
from ulvar.frames import ExposureFacts, Role, Tolerances

START = datetime(2027, 2, 11, 20, tzinfo=UTC)
LIGHT = ExposureFacts(
    "l", Role.LIGHT, filter="V", exposure_s=60.0, gain=100.0, offset=30.0, temperature_c=-15.0, width=40, height=30, camera="Kvist",
    start_utc=START,
)  # fmt: skip


def candidate(kind: Role, **changes: object) -> Candidate:
    """Return a master that fits the light but for some changes."""
    level = changes.pop("level", None)
    facts = replace(LIGHT, role=kind, filter="V" if kind is Role.FLAT else "", is_master=True, **changes)  # type: ignore[arg-type]
    return Candidate(kind, facts, 20, kind.value, level)  # type: ignore[arg-type]


class Doubts(unittest.TestCase):
    def test_an_unknown_exposure_is_a_doubt_and_no_refusal(self) -> None:
        for wanted, have in ((LIGHT, replace(LIGHT, exposure_s=None)), (replace(LIGHT, exposure_s=None), LIGHT)):
            dark = Candidate(Role.DARK, replace(have, role=Role.DARK), 20, "d")
            verdict = suits(wanted, dark, Tolerances(), use_exposure=True, use_filter=False)
            self.assertEqual((verdict.refusal, verdict.doubt), ("", "exposure unknown"))
        sound = suits(LIGHT, candidate(Role.DARK), Tolerances(), use_exposure=True, use_filter=False)
        self.assertEqual((sound.refusal, sound.doubt), ("", ""))

    def test_ages(self) -> None:
        later = replace(LIGHT, start_utc=START + timedelta(days=3))
        self.assertEqual((_age_days(LIGHT, later), _age_days(later, LIGHT)), (3.0, 3.0))
        for one, other in ((LIGHT, None), (None, LIGHT), (None, None)):
            first, second = (f or replace(LIGHT, start_utc=None) for f in (one, other))
            self.assertIsNone(_age_days(first, second))

    def test_scaling_without_a_bias_is_refused_with_the_reason(self) -> None:
        short = candidate(Role.DARK, exposure_s=30.0)
        options = MatchOptions(Tolerances(), scale_darks=True)
        match = match_lights(LIGHT, [short], options=options)
        self.assertEqual(match.dark.fit, Fit.NOTHING_SAFE)
        self.assertIn("scaling needs a bias: ", match.dark.reason)
        self.assertTrue(match.dark.reason.partition("scaling needs a bias: ")[2])
        # A bias that does not fit is told with what is wrong with it.
        far = candidate(Role.BIAS, exposure_s=0.0, gain=200.0)
        told = match_lights(LIGHT, [short, far], options=options).dark.reason
        self.assertRegex(told, r"30 s is 30 s too short; scaling needs a bias: .*gain")

    def test_dark_current(self) -> None:
        bias = candidate(Role.BIAS, exposure_s=0.0, level=300.0)
        self.assertEqual(dark_current(None, [bias]), 0.0)
        self.assertEqual(dark_current(candidate(Role.DARK), [bias]), 0.0)
        self.assertEqual(dark_current(candidate(Role.DARK, level=312.0), [bias]), 12.0)
        # One whose bias was taken off before has only its current left.
        self.assertEqual(dark_current(candidate(Role.DARK, level=12.0), [bias]), 12.0)
        self.assertEqual(dark_current(candidate(Role.DARK, level=312.0), []), 0.0)

    def test_what_is_to_be_taken_first(self) -> None:
        match = match_lights(LIGHT, [])
        for kind, fit, reason, wanted in (
            (Role.DARK, Fit.NOTHING_SAFE, "x", (0, "x")), (Role.BIAS, Fit.NOTHING_SAFE, "x", (0, "x")),
            (Role.DARK, Fit.NONE_TAKEN, "", (1, "there are none")), (Role.FLAT, Fit.NONE_TAKEN, "", (1, "there are none")),
            (Role.BIAS, Fit.NONE_TAKEN, "", (None, "")), (Role.DARK_FLAT, Fit.NONE_TAKEN, "", (1, "the flats have nothing to subtract")),
            (Role.DARK_FLAT, Fit.NEAR, "a bias", (2, "a bias stands in for them")), (Role.DARK, Fit.NEAR, "40 d old", (2, "40 d old")),
            (Role.DARK, Fit.NEAR, "scaled by 2", (2, "one of another exposure is scaled by 2")), (Role.DARK, Fit.NEAR, "1 K off", (None, "")),
        ):  # fmt: skip
            with self.subTest(kind=kind, fit=fit, reason=reason):
                self.assertEqual(_need(kind, fit, reason, False, match), wanted)
                if fit is not Fit.NOTHING_SAFE:
                    self.assertEqual(_need(kind, fit, reason, True, match), (None, ""))


class Numbers(FolderCase):
    def test_a_drift_is_that_of_the_frames_that_are_used(self) -> None:
        levels = np.array([300.0, 301, 302, 303, 304, 305])
        self.assertAlmostEqual(_drift(levels, set(), 5.0), 5.0)
        wild = np.array([300.0, 301, 900, math.nan, 302, 303, 304, 305])
        want = np.array([300.0, 301, 302, 303, 304, 305])
        steps = np.array([0, 1, 4, 5, 6, 7])
        slope = np.polyfit(steps, want, 1)[0]
        self.assertAlmostEqual(_drift(wild, {2}, 5.0), 7 * slope, places=6)
        self.assertEqual(_drift(levels[:4], set(), 5.0), 0.0)
        self.assertEqual(_drift(levels, {0, 1}, 5.0), 0.0)

    def test_a_ray_on_a_mosaic_grows_into_pixels_of_its_colour(self) -> None:
        hit = np.zeros((9, 11), dtype=np.bool_)
        hit[4, 6] = True
        want = np.zeros_like(hit)
        want[2:7:2, 4:9:2] = True
        np.testing.assert_array_equal(_grown_mosaic(hit), want)

    def test_a_single_pixel_counts_by_the_deviations_of_its_surroundings(self) -> None:
        # Of 100 electrons the noise is 10: 4.5 deviations are 45.
        for height, seen in ((44, False), (46, True)):
            image = np.full((41, 41), 100, np.float32)
            image[20, 20] += height
            found = find_cosmic_rays(image, gain_e_per_adu=1.0, read_noise_e=0.0, contrast=0.01)
            self.assertEqual(bool(found.any()), seen)

    def test_medians_of_a_mosaic_are_those_of_each_colour(self) -> None:
        plane = np.random.default_rng(3).normal(100, 9, (40, 60)).astype(np.float32)
        mosaic = _median(plane, 5, True)
        for at in np.ndindex(2, 2):
            np.testing.assert_array_equal(mosaic[at[0] :: 2, at[1] :: 2], _median(plane[at[0] :: 2, at[1] :: 2], 5, False))

    def test_clusters_are_of_four_pixels_and_more(self) -> None:
        bad = np.zeros((20, 20), np.bool_)
        self.assertEqual(_clusters(bad), 0)
        bad[3, 3:6] = bad[10:12, 10:12] = bad[15, 2] = bad[16, 3] = bad[17, 2] = bad[16, 1] = True
        self.assertEqual(_clusters(bad), 2)

    def test_a_region_outside_of_the_frame_is_named(self) -> None:
        paths = [self.write(f"b{i}.fits", np.full((30, 40), 300 + i, np.uint16), IMAGETYP="Bias", EXPTIME=0.0) for i in range(3)]
        exposures = [ExposureFacts(path, Role.BIAS, width=40, height=30) for path in paths]
        for name in ("overscan", "trim"):
            made = build_master(Role.BIAS, exposures, preparation=Preparation(**{name: parse_region("[1:50,1:30]")}))
            assert isinstance(made, Failed)
            self.assertIn("the region [1:50,1:30] lies outside its 40 x 30 px", made.reason)
