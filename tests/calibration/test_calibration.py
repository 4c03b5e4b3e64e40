"""Masters, matching and calibration against a simulated camera."""

import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
from tools.cases import FolderCase
from tools.same import kept

from ulvar.calibration import Candidate, Fit, Master, build_master, find_defects, make_calibrator, match_lights, read_master, write_master
from ulvar.engine import Failed
from ulvar.frames import ExposureFacts, Frame, MaskBit, Role, Tolerances, scan_file
from ulvar.simulation import Camera, CameraState


class Made(FolderCase):
    """Masters from files of a made-up camera."""

    def setUp(self) -> None:
        super().setUp()
        self.camera = Camera(220, 160, seed=3, hot_fraction=0.004, dead_column=80)
        self.rng = np.random.default_rng(21)

    def frames(self, kind: str, count: int, state: CameraState, light: float = 0.0, spread: float = 0.0) -> list[ExposureFacts]:
        """Write `count` raw frames and return their facts."""
        result = []
        for i in range(count):
            level = light * (1 + spread * self.rng.standard_normal())
            pixels = self.camera.expose(self.rng, level, state)
            result.append(
                scan_file(
                    self.write(
                        f"{kind}-{i}.fits", pixels, IMAGETYP=kind, EXPTIME=state.exposure_s, CCD_TEMP=state.temperature_c,
                    )
                )
            )  # fmt: skip
        return result

    def master(self, *arguments, **options) -> Master:
        made = build_master(*arguments, **options)
        assert isinstance(made, Master), made
        return made

    def test_bias_noise_falls_with_the_root_of_the_count(self) -> None:
        state = CameraState(100, 0.0, -15.0)
        bias = self.master(Role.BIAS, self.frames("Bias", 16, state))
        truth = self.camera.offset_adu + self.camera.bias_pattern
        single = np.sqrt((6.2 / 1.3) ** 2 + 1 / 12 + 0.35**2)
        # 35,200 pixels give a deviation to 0.4 %; level and row drifts of the frames add a little.
        residual = bias.data - truth - np.median(bias.data - truth)
        self.assertLess(abs(residual.std() / (single / 4) - 1), 0.06)
        self.assertLess(abs(bias.noise_adu / (single / 4) - 1), 0.06)
        self.assertLess(bias.rejected_fraction, 2e-3)
        kept(self, bias)

    def test_flat_is_normalised_and_right(self) -> None:
        dark_flat = self.master(Role.DARK_FLAT, self.frames("Dark Flat", 9, CameraState(100, 2.0, -15.0)))
        flats = self.frames("Flat Field", 15, CameraState(100, 2.0, -15.0), light=42000.0, spread=0.1)
        flat = self.master(Role.FLAT, flats, subtract=dark_flat.data)
        self.assertAlmostEqual(float(np.median(flat.data[flat.data > 0.3])), 1.0, places=4)
        truth = self.camera.flat / np.median(self.camera.flat)
        good = np.ones(truth.shape, bool)
        good[:, 80] = False
        # Photons of 15 flats: 1 / sqrt(15 x 42,000 e) = 0.13 %.
        self.assertLess(float((flat.data / truth - 1)[good].std()), 0.002)
        kept(self, dark_flat)

    def test_calibrated_light_is_flat_and_as_noisy_as_photons_allow(self) -> None:
        state = CameraState(100, 60.0, -15.0)
        dark = self.master(Role.DARK, self.frames("Dark", 16, state))
        dark_flat = self.master(Role.DARK_FLAT, self.frames("Dark Flat", 12, CameraState(100, 2.0, -15.0)))
        flat = self.master(Role.FLAT, self.frames("Flat", 16, CameraState(100, 2.0, -15.0), light=42000.0), subtract=dark_flat.data)
        calibrate = make_calibrator(dark=dark, flat=flat)
        sky = 900.0
        raw = self.camera.expose(self.rng, sky, state).astype(np.float32)
        raw.setflags(write=False)
        done = calibrate(Frame(raw, ExposureFacts("light.fits")))
        good = done.mask == 0
        level = float(np.median(done.data[good]))
        self.assertLess(abs(level / (sky / 1.3 * np.median(self.camera.flat)) - 1), 0.01)
        rate = self.camera.dark_rate[good] * 60
        response = (self.camera.flat / np.median(self.camera.flat))[good]
        electrons = sky * self.camera.flat[good] + rate + 6.2**2
        expected = np.sqrt(electrons) / 1.3 / response * np.sqrt(1 + 1 / 16)
        pull = (done.data[good] - level) / expected
        # Master noise is in the expectation; 1.02 is the target for what calibration may add.
        self.assertLess(1.4826 * np.median(np.abs(pull)), 1.03)
        self.assertEqual(done.steps[:2], ("dark subtracted (16 frames)", "flat divided (16 frames)"))
        self.assertRegex(done.steps[2], r"^\d+ defective pixels repaired$")
        hot = self.camera.dark_rate > 2.0
        # Hot pixels are as good as others: repaired, as they are unless that is switched off.
        self.assertGreater((np.abs(done.data[hot] - level) < 4 * float(np.median(expected))).mean(), 0.99)
        self.assertGreater(((done.mask & MaskBit.HOT) > 0)[hot].mean(), 0.99)
        self.assertTrue(((done.mask & MaskBit.COLD) > 0)[:, 80].mean() > 0.99)
        self.assertLess(((done.mask & MaskBit.HOT) > 0)[self.camera.dark_rate < 0.2].mean(), 0.001)
        kept(self, dark, dark_flat, done, raw)

    def test_a_dark_without_its_bias_leaves_no_bias_in_the_light(self) -> None:
        shape = (40, 60)

        def made(kind: Role, level: float, seconds: float) -> Master:
            plane = np.full(shape, level, np.float32)
            return Master(plane, ExposureFacts("m", kind, exposure_s=seconds), kind, 16, 1.0, 0.0, ())

        bias, bare = made(Role.BIAS, 1000.0, 0.0), made(Role.DARK, 40.0, 60.0)
        for scale, light in ((1.0, 1540.0), (2.0, 1580.0)):
            with self.subTest(scale=scale):
                calibrate = make_calibrator(dark=bare, bias=bias, scale=scale)
                done = calibrate(Frame(np.full(shape, light, np.float32), ExposureFacts("l", Role.LIGHT)))
                np.testing.assert_allclose(done.data, 500.0, atol=1e-3)
        whole = made(Role.DARK, 1040.0, 60.0)
        scaled = make_calibrator(dark=whole, bias=bias, scale=2.0)
        done = scaled(Frame(np.full(shape, 1580.0, np.float32), ExposureFacts("l", Role.LIGHT)))
        np.testing.assert_allclose(done.data, 500.0, atol=1e-3)
        kept(self, bias, bare, calibrate, done, whole)

    def test_bad_inputs_are_left_out_with_a_reason(self) -> None:
        frames = self.frames("Dark", 4, CameraState(100, 5.0, -15.0))
        other = scan_file(self.write("small.fits", np.zeros((10, 10), np.uint16), IMAGETYP="Dark"))
        cut = self.frames("Dark cut", 1, CameraState(100, 5.0, -15.0))[0]
        Path(cut.path).write_bytes(Path(cut.path).read_bytes()[:9000])
        master = self.master(Role.DARK, [*frames, other, cut])
        self.assertEqual(master.count, 4)
        self.assertEqual(len(master.left_out), 2)
        self.assertIn("size", master.left_out[0].reason)
        self.assertIn("cut short", master.left_out[1].reason)
        nothing = build_master(Role.DARK, [cut])
        self.assertIsInstance(nothing, Failed)
        dark_light = build_master(Role.FLAT, frames, subtract=np.full((160, 220), 5000, np.float32))
        self.assertIn("no light", dark_light.reason)  # type: ignore[union-attr]
        with self.assertRaises(ValueError):
            build_master(Role.LIGHT, frames)
        kept(self, other, cut, master, nothing, dark_light)

    def test_written_master_is_read_back(self) -> None:
        master = self.master(Role.DARK, self.frames("Dark", 5, CameraState(100, 5.0, -15.0)))
        path = self.folder / "out" / "m.fits"
        write_master(path, master, fingerprint="abc")
        again = read_master(str(path))
        np.testing.assert_array_equal(again.data, master.data)
        self.assertEqual((again.kind, again.count, again.facts.exposure_s, again.facts.is_master), (Role.DARK, 5, 5.0, True))
        kept(self, master, again)

    def test_defects_of_a_flat_dark_frame(self) -> None:
        self.assertFalse(find_defects(dark=np.full((20, 20), 3.0, np.float32)).any)


class Matching(unittest.TestCase):
    """What fits, what is near, what is refused and why."""

    def setUp(self) -> None:
        self.light = ExposureFacts(
            "l", Role.LIGHT, filter="V", exposure_s=240.0, gain=100, offset=30, temperature_c=-15.0, width=10, height=8,
            camera="Kvist 6M", start_utc=datetime(2027, 2, 11, 22, tzinfo=UTC),
        )  # fmt: skip

    def candidate(self, kind: Role, **changes) -> Candidate:
        facts = replace(self.light, role=kind, **changes)
        return Candidate(kind, facts, 10, f"{kind.value} {changes}")

    def test_fits(self) -> None:
        match = match_lights(
            self.light,
            [
                self.candidate(Role.DARK), self.candidate(Role.FLAT, exposure_s=2.0), self.candidate(Role.DARK_FLAT, exposure_s=2.0),
                self.candidate(Role.BIAS, exposure_s=0.0),
            ],
        )  # fmt: skip
        self.assertEqual([c.fit for c in match.choices], [Fit.NOT_NEEDED, Fit.FITS, Fit.FITS, Fit.FITS])
        self.assertTrue(match.safe)

    def test_refusals_name_the_reason(self) -> None:
        cases = {
            "gain 0, not 100": {"gain": 0}, "60 s too short": {"exposure_s": 180.0}, "5.0 °C too warm (−10 °C)": {"temperature_c": -10.0},
            "binning 2": {"binning": 2}, "size is 5 x 8": {"width": 5}, "taken with Other": {"camera": "Other"}, "offset 10": {"offset": 10},
        }  # fmt: skip
        for reason, change in cases.items():
            with self.subTest(reason=reason):
                match = match_lights(self.light, [self.candidate(Role.DARK, **change)])
                self.assertEqual(match.dark.fit, Fit.NOTHING_SAFE)
                self.assertIn(reason, match.dark.reason)
                self.assertFalse(match.safe)

    def test_near_for_age_and_unknown_gain(self) -> None:
        old = self.candidate(Role.DARK, start_utc=self.light.start_utc - timedelta(days=41))
        match = match_lights(self.light, [old])
        self.assertEqual((match.dark.fit, match.dark.reason), (Fit.NEAR, "41 d old, limit 30 d"))
        self.assertEqual(match_lights(self.light, [old], Tolerances(age_d=60)).dark.fit, Fit.FITS)
        self.assertIn("gain unknown", match_lights(self.light, [self.candidate(Role.DARK, gain=None)]).dark.reason)

    def test_best_of_several_and_the_closest_refusal(self) -> None:
        warm, right = self.candidate(Role.DARK, temperature_c=-14.3), self.candidate(Role.DARK, temperature_c=-15.1)
        match = match_lights(self.light, [warm, right])
        self.assertIs(match.dark.candidate, right)
        flat = match_lights(self.light, [self.candidate(Role.FLAT, filter="B"), self.candidate(Role.FLAT, gain=0)]).flat
        self.assertIn("gain 0", flat.reason)

    def test_kinds_nobody_took_do_not_block(self) -> None:
        match = match_lights(self.light, [self.candidate(Role.BIAS, exposure_s=0.0)])
        self.assertTrue(match.safe)
        self.assertEqual((match.bias.fit, match.dark.fit, match.flat.fit), (Fit.FITS, Fit.NONE_TAKEN, Fit.NONE_TAKEN))
        self.assertFalse(match_lights(self.light, []).safe)
        # A flat whose dark flat is missing takes a bias in its place, and says so; a flat of seconds needs no more.
        bias, dark_flat = self.candidate(Role.BIAS, exposure_s=0.0), self.candidate(Role.DARK_FLAT, exposure_s=7.0)
        for seconds, others, fit, reason in (
            (40.0, [], Fit.NEAR, "bias in its place"),
            (2.0, [], Fit.FITS, "bias: the flats are short"),
            (10.0, [], Fit.FITS, "bias: the flats are short"),
            (2.0, [dark_flat], Fit.NEAR, "bias in its place"),
        ):
            with self.subTest(seconds=seconds, dark_flats=len(others)):
                match = match_lights(self.light, [bias, self.candidate(Role.FLAT, exposure_s=seconds), *others])
                self.assertEqual((match.dark_flat.fit, match.dark_flat.reason), (fit, reason))
                self.assertIs(match.dark_flat.candidate, bias)
        old = self.candidate(Role.BIAS, exposure_s=0.0, gain=None)
        match = match_lights(self.light, [old, self.candidate(Role.FLAT, exposure_s=2.0)])
        self.assertEqual((match.dark_flat.fit, match.dark_flat.reason), (Fit.NEAR, "gain unknown"))


class Steps(unittest.TestCase):
    """The arithmetic, against plain NumPy."""

    def test_all_variants(self) -> None:
        rng = np.random.default_rng(5)
        facts = ExposureFacts("x")
        planes = {k: rng.normal(100, 1, (6, 7)).astype(np.float32) for k in ("dark", "bias")}
        flat_data = rng.uniform(0.6, 1.2, (6, 7)).astype(np.float32)
        make = lambda kind, data: Master(data, kind, facts, 5, 1.0, 0.0, ())  # noqa: E731
        dark, bias, flat = make(Role.DARK, planes["dark"]), make(Role.BIAS, planes["bias"]), make(Role.FLAT, flat_data)
        raw = rng.normal(500, 5, (6, 7)).astype(np.float32)
        for options, expected in (
            ({"dark": dark}, raw - planes["dark"]), ({"bias": bias}, raw - planes["bias"]), ({"flat": flat}, raw / flat_data),
            ({"dark": dark, "bias": bias, "flat": flat}, (raw - planes["dark"]) / flat_data), ({"bias": bias, "flat": flat}, (raw - planes["bias"]) / flat_data),
        ):  # fmt: skip
            np.testing.assert_allclose(make_calibrator(**options)(Frame(raw, facts)).data, expected, rtol=2e-6)
        with self.assertRaises(ValueError):
            make_calibrator()
        with self.assertRaises(ValueError):
            make_calibrator(dark=dark)(Frame(raw[:3], facts))
