"""What calibration frames tell of a camera: photon transfer, planning flats, the shooting list, matching by hand."""

import math
import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from tools.same import kept

from ulvar.calibration import (
    NO_MASTER,
    Candidate,
    Fit,
    FlatPlan,
    MatchOptions,
    PairPoint,
    Transfer,
    bias_is_unsafe,
    dark_current,
    fit_transfer,
    match_flat,
    match_lights,
    measure_pair,
    plan_flat,
    shooting_list,
)
from ulvar.calibration.transfer import _tiles
from ulvar.engine import Failed
from ulvar.frames import ExposureFacts, Role, Tolerances, group_exposures
from ulvar.simulation import Camera, CameraState


class PhotonTransfer(unittest.TestCase):
    """Gain and read noise come back within 2 % of the camera's own."""

    def setUp(self) -> None:
        self.rng = np.random.default_rng(15)
        self.camera = Camera(400, 300, seed=4, dead_column=100)

    def pair(self, light: float, gain: int, seconds: float = 2.0) -> PairPoint:
        state = CameraState(gain, seconds, -15.0)
        a, b = (self.camera.expose(self.rng, light * f, state).astype(np.float32) for f in (1.0, 1.03))
        return measure_pair(a, b, zero_adu=300.0 if light else 0.0)

    def test_both_gain_settings(self) -> None:
        for gain, (truth, read) in {100: (1.3, 6.2), 0: (4.1, 9.4)}.items():
            flats = [self.pair(level, gain) for level in (5000.0, 12000.0, 25000.0, 40000.0)]
            result = fit_transfer(flats, [self.pair(0.0, gain, 0.0) for _ in range(3)], saturation_adu=65535)
            assert isinstance(result, Transfer)
            self.assertLess(abs(result.gain_e_per_adu / truth - 1), 0.02, gain)
            # Rows wander by 0.35 ADU in this camera: part of its noise, on top of what the table calls read noise.
            real = math.hypot(read, 0.35 * truth)
            self.assertLess(abs(result.read_noise_e / real - 1), 0.02, gain)
            self.assertLess(abs(result.gain_e_per_adu - truth), 5 * result.gain_error + 0.01 * truth)
        kept(self, flats, result)

    def test_one_pair_each_is_enough(self) -> None:
        result = fit_transfer([self.pair(30000.0, 100)], [self.pair(0.0, 100, 0.0)])
        assert isinstance(result, Transfer)
        self.assertLess(abs(result.gain_e_per_adu / 1.3 - 1), 0.03)

    def test_without_bias_frames_two_levels_do(self) -> None:
        flats = [self.pair(level, 100) for level in (800.0, 30000.0, 50000.0)]
        result = fit_transfer(flats)
        assert isinstance(result, Transfer)
        self.assertLess(abs(result.gain_e_per_adu / 1.3 - 1), 0.02)
        self.assertIn("one pair of flats", fit_transfer(flats[:1]).reason)  # type: ignore[union-attr]
        kept(self, flats, result)

    def test_pairs_near_the_ceiling_are_not_used(self) -> None:
        points = [PairPoint(10000, 7700, 20), PairPoint(30000, 23100, 60), PairPoint(60000, 9000, 60)]
        result = fit_transfer(points, [PairPoint(0, 22, 0.2)], saturation_adu=65535)
        assert isinstance(result, Transfer)
        self.assertEqual(result.used, (True, True, False))
        self.assertAlmostEqual(result.gain_e_per_adu, 1.302, delta=0.002)
        self.assertIsInstance(fit_transfer(points[2:], [PairPoint(0, 22, 0.2)], saturation_adu=65535), Failed)

    def test_pairs_count_by_their_errors(self) -> None:
        result = fit_transfer([PairPoint(10000, 7722.8, 20)], [PairPoint(0, 22, 0.2), PairPoint(0, 26, 0.4)])
        assert isinstance(result, Transfer)
        # 22 counts four times as much as 26; the error is that of both.
        self.assertAlmostEqual(result.read_noise_e, math.sqrt(22.8) / 0.77, places=9)
        slope = math.hypot(20, 1 / math.sqrt(25 + 6.25)) / 10000
        self.assertAlmostEqual(result.gain_error, slope / 0.77**2, places=9)

    def test_a_tile_is_one_place(self) -> None:
        tiles = np.arange(6).reshape(2, 3).repeat(50, axis=0).repeat(49, axis=1)
        self.assertEqual([sorted(set(tile)) for tile in _tiles(tiles.astype(np.float32))], [[k] for k in range(6)])

    def test_errors_are_honest(self) -> None:
        pulls = []
        for _ in range(25):
            result = fit_transfer([self.pair(20000.0, 100)], [self.pair(0.0, 100, 0.0)])
            assert isinstance(result, Transfer)
            pulls.append((result.gain_e_per_adu - 1.3) / result.gain_error)
        # 25 draws know their own scatter to 14 %; four times that on either side.
        self.assertLess(abs(float(np.std(pulls)) - 1), 0.6)

    def test_unequal_sizes(self) -> None:
        with self.assertRaises(ValueError):
            measure_pair(np.zeros((4, 4), np.float32), np.zeros((4, 5), np.float32))


class PlanningFlats(unittest.TestCase):
    """From a test flat to the exposure."""

    @given(st.floats(0.5, 30), st.floats(100, 2000), st.floats(0.2, 0.7))
    def test_linear_light_reaches_the_level(self, seconds: float, zero: float, fraction: float) -> None:
        rate = 0.3 * 65535 / seconds
        plan = plan_flat([(seconds, zero + rate * seconds)], zero_adu=zero, full_adu=65535, fraction=fraction)
        assert isinstance(plan, FlatPlan)
        self.assertAlmostEqual(zero + plan.exposure_s * rate, fraction * 65535, delta=1)
        self.assertAlmostEqual(plan.exposure_s / seconds, plan.level_factor, places=6)

    def test_warnings(self) -> None:
        def words(tests: list, **options: float) -> str:
            plan = plan_flat(tests, zero_adu=300, full_adu=options.pop("full", 65535), **options)
            assert isinstance(plan, FlatPlan)
            return " ".join(plan.warnings)

        self.assertEqual(words([(2.0, 20300.0)]), "")
        self.assertIn("not linear", words([(2.0, 20300.0), (4.0, 36000.0)]))
        self.assertIn("not linear", words([(2.0, 20300.0)], fraction=0.8))
        self.assertIn("many more flats", words([(2.0, 20300.0)], fraction=0.1))
        self.assertIn("is short", words([(0.01, 20300.0)]))
        self.assertIn("minute", words([(40.0, 6300.0)]))
        self.assertIn("saturated", plan_flat([(1.0, 65535.0)], zero_adu=300, full_adu=65535).reason)  # type: ignore[union-attr]
        low = plan_flat([(1.0, 300.0)], zero_adu=300, full_adu=300)
        self.assertIn("full range of 300 ADU lies below the 300 ADU", low.reason)  # type: ignore[union-attr]
        self.assertIn("no test saw light", plan_flat([(1.0, 301.0)], zero_adu=300, full_adu=65535).reason)  # type: ignore[union-attr]

    def test_twelve_bits_count(self) -> None:
        plan = plan_flat([(1.0, 1200.0)], zero_adu=200, full_adu=4095, fraction=0.5)
        assert isinstance(plan, FlatPlan)
        self.assertAlmostEqual(plan.exposure_s, (2047.5 - 200) / 1000, places=6)
        for wrong in ({"fraction": 0.0}, {"fraction": 1.0}):
            with self.assertRaises(ValueError):
                plan_flat([(1.0, 1200.0)], **{"zero_adu": 200, "full_adu": 4095, **wrong})  # type: ignore[arg-type]


class ByHand(unittest.TestCase):
    """Pins, tags, scaling, sensors whose darks lie below their bias."""

    def setUp(self) -> None:
        self.light = ExposureFacts(
            "l", Role.LIGHT, filter="V", exposure_s=240.0, gain=100, offset=30, temperature_c=-15.0, width=10, height=8,
            camera="Kvist 6M", start_utc=datetime(2027, 2, 11, 22, tzinfo=UTC), session="2027-02-11",
        )  # fmt: skip

    def candidate(self, kind: Role, key: str = "", level: float | None = None, **changes: object) -> Candidate:
        return Candidate(kind, replace(self.light, role=kind, **changes), 10, key or f"{kind.value} {changes}", level)  # type: ignore[arg-type]

    def test_pins(self) -> None:
        good, short = self.candidate(Role.DARK, "good"), self.candidate(Role.DARK, "short", exposure_s=180.0)
        pinned = match_lights(self.light, [good, short], options=MatchOptions(pins={"g": {"dark": "short"}}), key="g")
        self.assertTrue(pinned.dark.pinned and pinned.dark.candidate is short and pinned.safe)
        self.assertEqual((pinned.dark.fit, pinned.dark.reason), (Fit.NEAR, "180 s is 60 s too short"))
        none = match_lights(self.light, [good], options=MatchOptions(pins={"g": {"dark": NO_MASTER}}), key="g")
        self.assertEqual((none.dark.fit, none.dark.candidate), (Fit.NONE_TAKEN, None))
        other = match_lights(self.light, [good, short], options=MatchOptions(pins={"x": {"dark": "short"}}), key="g")
        self.assertIs(other.dark.candidate, good)
        gone = match_lights(self.light, [good], options=MatchOptions(pins={"g": {"dark": "lost"}}), key="g")
        self.assertIs(gone.dark.candidate, good, "a pin whose frames are gone gives way")

    def test_scaling_only_when_asked_and_only_with_a_bias(self) -> None:
        dark, bias = self.candidate(Role.DARK, exposure_s=120.0), self.candidate(Role.BIAS, exposure_s=0.0)
        self.assertEqual(match_lights(self.light, [dark, bias]).dark.fit, Fit.NOTHING_SAFE)
        scaled = match_lights(self.light, [dark, bias], options=MatchOptions(scale_darks=True))
        self.assertEqual((scaled.dark.fit, scaled.dark.scale, scaled.dark.reason), (Fit.NEAR, 2.0, "scaled × 2.00"))
        self.assertTrue(scaled.bias.usable and scaled.safe)
        alone = match_lights(self.light, [dark], options=MatchOptions(scale_darks=True))
        self.assertEqual(alone.dark.fit, Fit.NOTHING_SAFE)
        self.assertIn("needs a bias", alone.dark.reason)
        kept(self, dark, bias, scaled, alone)

    def test_the_nearest_exposure_is_scaled(self) -> None:
        darks = [self.candidate(Role.DARK, exposure_s=s) for s in (30.0, 200.0, 900.0)]
        bias = self.candidate(Role.BIAS, exposure_s=0.0)
        match = match_lights(self.light, [*darks, bias], options=MatchOptions(scale_darks=True))
        self.assertIs(match.dark.candidate, darks[1])

    def test_darks_below_the_bias(self) -> None:
        dark = self.candidate(Role.DARK, level=470.0, exposure_s=120.0)
        bias = self.candidate(Role.BIAS, level=500.0, exposure_s=0.0)
        flat = self.candidate(Role.FLAT, exposure_s=2.0)
        self.assertIn("30 ADU below", bias_is_unsafe(self.light, [dark, bias]))
        match = match_lights(self.light, [dark, bias, flat], options=MatchOptions(scale_darks=True))
        self.assertEqual(match.dark.fit, Fit.NOTHING_SAFE)
        self.assertEqual(match.bias.fit, Fit.NOT_NEEDED)
        self.assertEqual(match.dark_flat.fit, Fit.NOTHING_SAFE)
        with_own = match_flat(flat.facts, [dark, bias, self.candidate(Role.DARK_FLAT, exposure_s=2.0)])
        self.assertEqual(with_own.fit, Fit.FITS)
        self.assertEqual(bias_is_unsafe(self.light, [replace(dark, level_adu=499.0), bias]), "", "a drift of an ADU is no sign")
        kept(self, dark, bias, match, with_own)

    def test_a_dark_whose_bias_was_taken_off_takes_the_bias_with_it(self) -> None:
        dark = self.candidate(Role.DARK, level=40.0)
        bias = self.candidate(Role.BIAS, level=1000.0, exposure_s=0.0)
        self.assertEqual(bias_is_unsafe(self.light, [dark, bias]), "", "it says nothing of the sensor")
        match = match_lights(self.light, [dark, bias])
        self.assertEqual((match.dark.fit, match.bias.fit), (Fit.FITS, Fit.FITS))
        self.assertIs(match.bias.candidate, bias)
        self.assertTrue(match.safe)
        other_gain = self.candidate(Role.BIAS, level=1000.0, exposure_s=0.0, gain=0)
        self.assertEqual(match_lights(self.light, [dark, other_gain]).bias.fit, Fit.NOTHING_SAFE)
        self.assertEqual(dark_current(dark, [dark, bias]), 40.0)
        self.assertEqual(dark_current(replace(dark, level_adu=1040.0), [dark, bias]), 40.0)
        self.assertEqual(dark_current(dark, [dark]), 0.0)

    def test_a_dark_without_its_bias_is_no_dark_flat(self) -> None:
        flat = self.candidate(Role.FLAT, exposure_s=2.0)
        bare = self.candidate(Role.DARK_FLAT, level=2.0, exposure_s=2.0)
        bias = self.candidate(Role.BIAS, level=1000.0, exposure_s=0.0)
        choice = match_flat(flat.facts, [bare, bias])
        self.assertIs(choice.candidate, bias)
        self.assertIn((bare, "its bias was taken off before, a flat's is not"), choice.refused)

    def test_a_short_dark_is_not_scaled_without_bound(self) -> None:
        bias = self.candidate(Role.BIAS, exposure_s=0.0)
        short = self.candidate(Role.DARK, exposure_s=0.2)
        match = match_lights(self.light, [short, bias], options=MatchOptions(scale_darks=True))
        self.assertEqual(match.dark.fit, Fit.NOTHING_SAFE)
        self.assertIn("0.2 s would be scaled × 1200, 10 frames bear × 3.2", match.dark.reason)
        near = self.candidate(Role.DARK, exposure_s=80.0)
        self.assertEqual(match_lights(self.light, [near, bias], options=MatchOptions(scale_darks=True)).dark.scale, 3.0)

    def test_a_dark_of_the_flats_exposure_serves(self) -> None:
        flat = self.candidate(Role.FLAT, exposure_s=2.0)
        choice = match_flat(flat.facts, [self.candidate(Role.DARK, exposure_s=2.0)])
        self.assertEqual((choice.kind, choice.fit), (Role.DARK_FLAT, Fit.FITS))

    def test_tags_bind(self) -> None:
        mine, theirs = self.candidate(Role.FLAT, "mine"), self.candidate(Role.FLAT, "theirs", session="2027-02-09")
        older = replace(theirs, facts=replace(theirs.facts, start_utc=self.light.start_utc))
        free = match_lights(self.light, [older, mine])
        self.assertIs(free.flat.candidate, mine, "the same session comes first even when it does not bind")
        bound = match_lights(self.light, [theirs], options=MatchOptions(bound_tags=("session",)))
        self.assertEqual((bound.flat.fit, bound.flat.reason), (Fit.NOTHING_SAFE, "session 2027-02-09, not 2027-02-11"))
        tagged = replace(self.light, tags={"rig": "a"})
        other = self.candidate(Role.DARK, tags={"rig": "b"})
        self.assertEqual(match_lights(tagged, [other], options=MatchOptions(bound_tags=("rig",))).dark.reason, "rig b, not a")

    def test_limits_and_options_are_not_given_both(self) -> None:
        with self.assertRaises(ValueError):
            match_lights(self.light, [], Tolerances(), options=MatchOptions())

    def test_shooting_list(self) -> None:
        lights = [replace(self.light, path=f"l{i}") for i in range(7)] + [replace(self.light, path=f"b{i}", filter="B") for i in range(3)]
        flat = self.candidate(Role.FLAT, exposure_s=2.0)
        bias = self.candidate(Role.BIAS, exposure_s=0.0)
        short = self.candidate(Role.DARK, exposure_s=180.0)
        groups = group_exposures(lights)
        # Flats of seconds are content with a bias; longer ones are not.
        brief = [(g, match_lights(g.typical, [flat, bias, short])) for g in groups]
        self.assertNotIn(Role.DARK_FLAT, {s.kind for s in shooting_list(brief)})
        slow = self.candidate(Role.FLAT, exposure_s=20.0)
        matches = [(g, match_lights(g.typical, [slow, bias, short])) for g in groups]
        shots = {(s.kind, s.filter): s for s in shooting_list(matches)}
        self.assertEqual(set(shots), {(Role.DARK, ""), (Role.FLAT, "B"), (Role.DARK_FLAT, "")})
        dark = shots[Role.DARK, ""]
        self.assertEqual((dark.exposure_s, dark.gain, dark.offset, dark.temperature_c, dark.lights), (240.0, 100, 30, -15.0, 10))
        self.assertEqual(dark.why, "180 s is 60 s too short")
        self.assertAlmostEqual(dark.minutes, 20 * 245 / 60)
        self.assertEqual(shots[Role.DARK_FLAT, ""].exposure_s, 20.0)
        everything = [
            flat, bias, self.candidate(Role.DARK), self.candidate(Role.DARK_FLAT, exposure_s=2.0),
            self.candidate(Role.FLAT, filter="B", exposure_s=2.0),
        ]  # fmt: skip
        fitting = [(g, match_lights(g.typical, everything)) for g in groups]
        self.assertEqual(shooting_list(fitting), [])
        old = [replace(c, facts=replace(c.facts, start_utc=self.light.start_utc - timedelta(days=60))) for c in everything]  # type: ignore[operator]
        self.assertEqual({s.kind for s in shooting_list([(g, match_lights(g.typical, old)) for g in groups])}, {Role.DARK, Role.FLAT})
        kept(self, shots, bias, everything)
