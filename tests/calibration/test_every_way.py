"""One small exposure calibrated in every way: what is asked for is done and told, and pixels that nothing befell have their light."""

import unittest
from itertools import product

import numpy as np
from tools.same import kept

from ulvar.calibration import CalibrateOptions, Master, Region, make_calibrator
from ulvar.calibration.calibrate import without_bias
from ulvar.calibration.masters import _illuminated_median
from ulvar.calibration.overscan import overscan_level
from ulvar.calibration.prepare import Preparation
from ulvar.frames import ExposureFacts, Frame, MaskBit, Role

WIDE, HIGH, DARK_COLUMNS = 72, 54, 12


class EveryWay(unittest.TestCase):
    def setUp(self) -> None:
        self.rng = np.random.default_rng(41)
        self.sky = 400 + 30 * np.sin(np.arange(WIDE) / 9) + np.arange(HIGH)[:, None]
        self.thermal = self.rng.gamma(2, 20, (HIGH, WIDE))
        self.thermal[20, 30] = self.thermal[7, 66] = 4000
        self.response = 1 - 0.3 * ((np.arange(WIDE) - 30) ** 2 / 2500 + (np.arange(HIGH)[:, None] - 25) ** 2 / 3500)
        self.response[33, 12:14] = 0.1

    def master(self, kind: Role, plane: np.ndarray, error: float) -> Master:
        return Master((plane + self.rng.normal(0, error, plane.shape)).astype(np.float32), kind, ExposureFacts("m"), 20, error, 0.0, ())

    def light(self, cfa: str, scale: float) -> np.ndarray:
        full = np.zeros((HIGH, WIDE + DARK_COLUMNS)) + 300 + 5 * np.sin(np.arange(HIGH) / 11)[:, None]
        full[:, DARK_COLUMNS:] += self.sky * self.response * (1.3 if cfa else 1.0) + scale * self.thermal
        full += self.rng.normal(0, 3, full.shape)
        for y, x in ((10, 20), (10, 21), (11, 21), (44, 60)):
            full[y, x + DARK_COLUMNS] += 900
        full[30:33, 40 + DARK_COLUMNS : 43 + DARK_COLUMNS] += [[300, 600, 300], [600, 1500, 600], [300, 600, 300]]
        return full.astype(np.float32)

    def test_all_at_once_and_each_alone(self) -> None:
        flat = self.master(Role.FLAT, self.response, 0.002)
        ways = product(
            ("median", "rows", "line"), ("exposure", "noise"), ("", "RGGB"), (False, True), ("off", "auto", 50.0), (None, 4000.0)
        )
        for n, (fit, scaling, cfa, cosmic, pedestal, full) in enumerate(ways):
            if n % 4 not in (0, 3):
                continue
            scale = 1.5 if scaling == "noise" else 1.0
            options = CalibrateOptions(
                preparation=Preparation(Region(0, 0, DARK_COLUMNS, HIGH), Region(DARK_COLUMNS, 0, DARK_COLUMNS + WIDE, HIGH), fit=fit),
                dark_scale=scaling, cosmic=cosmic, pedestal=pedestal, repair=n % 8 < 4, overlays=(Region(2, 50, 14, 54),) if n % 3 else (),
            )  # fmt: skip
            dark, bias = self.master(Role.DARK, self.thermal, 0.5), self.master(Role.BIAS, np.zeros((HIGH, WIDE)), 0.5)
            calibrate = make_calibrator(dark=dark, bias=bias, flat=flat, options=options, scale=scale, mosaic=bool(cfa))
            facts = ExposureFacts("l", Role.LIGHT, cfa=cfa, saturation_adu=full, gain_e_per_adu=1.5, read_noise_e=4.0)
            mask = np.zeros((HIGH, WIDE + DARK_COLUMNS), np.uint16)
            mask[44, 60 + DARK_COLUMNS] = int(MaskBit.COSMIC)
            done = calibrate(Frame(self.light(cfa, scale), facts, mask if n % 5 == 0 else None))
            with self.subTest(n):
                kept(self, done.data, done.mask, done.steps)
                said = " ".join(done.steps)
                asked = {"cosmic-ray": cosmic, "overlay": bool(n % 3), "defective": options.repair, "scaled": scaling == "noise"}
                self.assertEqual({word: word in said for word in asked}, asked)
                # Noise of the pixels in a median of 3,000; one level for all rows and the factor told by the noise are off by more.
                off = np.median((done.data - done.facts.pedestal_adu)[4:48] / (1.3 if cfa else 1.0) - self.sky[4:48])
                self.assertLess(abs(off), 0.5 if (scaling, fit) == ("exposure", "rows") else 4.0)

    def test_levels_that_samples_tell(self) -> None:
        """Of masters that are not even, each pixel counts: of a few or of one a level would be another."""
        slope = np.linspace(0.2, 1.8, WIDE) * np.linspace(0.9, 1.1, HIGH)[:, None]
        bias = self.master(Role.BIAS, 300 * slope, 0.5)
        told = [without_bias(self.master(Role.DARK, level * slope[::-1, ::-1], 0.5), bias) for level in (100.0, 140.0, 160.0, 310.0)]
        self.assertEqual(told, [True, True, False, False])
        corners = np.where(np.hypot(*np.indices((HIGH, WIDE)) - 30) < 28, 20000 * slope, 900).astype(np.float32)
        corners[:3] = np.nan
        lit = corners[np.isfinite(corners) & (corners > 0.2 * np.nanpercentile(corners, 98))]
        self.assertAlmostEqual(_illuminated_median(corners), float(np.median(lit)), delta=0.02 * float(np.median(lit)))
        self.assertEqual(_illuminated_median(np.full((4, 4), np.nan, np.float32)), 1.0)
        for high in (2, 3, 4, 5, 9, 26, 54):
            strip = (100 + np.arange(high)[:, None] + self.rng.normal(0, 1, (high, 9))).astype(np.float32)
            for fit in ("rows", "line"):
                level = overscan_level(np.hstack([strip, strip]), Region(0, 0, 9, high), fit=fit)
                # A median of nine values of deviation 1 has one of 0.41; at the ends the smoothed level is drawn inwards.
                self.assertLess(float(np.abs(level - 100 - np.arange(high)).max()), 1.6 + min(13, high) / 2 * (fit == "rows"))
                kept(self, level)
