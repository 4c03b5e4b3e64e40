"""The flat check finds planted over- and under-correction, its size and its likely cause."""

import math
import unittest

import numpy as np
from tools.same import kept

from ulvar.engine import Failed
from ulvar.inspection import FlatCheck, check_flat, flat_findings
from ulvar.simulation import Camera, Psf, star_field


class Checking(unittest.TestCase):
    """Skies over a made-up camera's own response."""

    def setUp(self) -> None:
        self.rng = np.random.default_rng(21)
        camera = Camera(600, 450, seed=4)
        self.response = camera.flat / np.median(camera.flat)

    def lights(self, used: np.ndarray, *, sky: float = 400.0, left: float = 0.0, stray: np.ndarray | float = 0.0, n: int = 5) -> list:
        """Return calibrated lights: the true sky through the true response, divided by the flat that was used."""
        result = []
        for _ in range(n):
            count = 80
            stars = star_field(
                self.rng, width=600, height=450, x=self.rng.uniform(0, 600, count), y=self.rng.uniform(0, 450, count),
                flux_e=10 ** self.rng.uniform(3, 5, count), psf=Psf.with_fwhm(3.0), sky_e=0.0, read_noise_e=0.1,
            )  # fmt: skip
            gradient = 1 + self.rng.normal(0, 0.02) * np.linspace(-1, 1, 600)[None, :]
            light = sky * gradient * (1 + stray) * self.response + np.maximum(stars, 0)
            raw = light + self.rng.normal(0, 1, light.shape) * np.sqrt(light) + left
            result.append(((raw / used).astype(np.float32), None))
        return result

    def check(self, used: np.ndarray, **options: object) -> FlatCheck:
        done = check_flat(self.lights(used, **options), used.astype(np.float32))  # type: ignore[arg-type]
        assert isinstance(done, FlatCheck), done
        return done

    def test_the_right_flat_fits(self) -> None:
        raised = [self.check(self.response).verdict for _ in range(6)]
        self.assertEqual(raised, ["fits"] * 6)
        self.assertEqual(flat_findings("V", self.check(self.response), ("a",)), [])

    def test_a_level_left_in_the_lights_over_corrects(self) -> None:
        check = self.check(self.response, left=40.0)
        self.assertEqual(check.verdict, "over")
        # The sky is 400 R + 40 over R: its logarithm falls with that of R by 40 / 440.
        self.assertAlmostEqual(check.slope, -40 / 440, delta=0.01)
        self.assertIn("left in the lights", check.causes[0])
        # Told of the darkest fiftieth of the flat, beside the brightest.
        darkest, brightest = np.percentile(check.flat_log, [2, 98])
        self.assertAlmostEqual(check.corner_percent, 100 * (math.exp(check.slope * (darkest - brightest)) - 1), places=9)
        (finding,) = flat_findings("V", check, ("a",))
        self.assertEqual((finding.code, finding.station), ("flat_over", "calibrate"))
        kept(self, check, finding)

    def test_a_level_left_in_the_flats_under_corrects(self) -> None:
        used = (self.response + 0.1) / 1.1
        check = self.check(used)
        self.assertEqual(check.verdict, "under")
        self.assertGreater(check.slope, 0.07)
        self.assertIn("left in the flats", check.causes[0])
        kept(self, check)

    def test_stray_light_is_told_from_a_wrong_level(self) -> None:
        y, x = np.mgrid[-1:1:450j, -1:1:600j]
        check = self.check(self.response, stray=-0.12 * (x**2 + y**2))
        self.assertNotEqual(check.verdict, "fits")
        self.assertIn("stray light", check.causes[0])

    def test_what_cannot_be_judged(self) -> None:
        flat = self.response.astype(np.float32)
        for lights, plane, word in (
            ([], flat, "no calibrated light"), (self.lights(self.response, n=1), np.ones((450, 600), np.float32), "so even"),
            ([(np.full((450, 600), -5, np.float32), None)], flat, "not above zero"), (self.lights(self.response, n=1), flat[:40], "size"),
        ):  # fmt: skip
            result = check_flat(lights, plane)
            assert isinstance(result, Failed)
            self.assertIn(word, result.reason)
