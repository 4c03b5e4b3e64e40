"""Fluxes by the exposure's own profile: alone, in a crowd, unseen."""

import math
import unittest

import numpy as np
from tools.same import kept

from ulvar.frames import MaskBit
from ulvar.photometry import measure_apertures, measure_profiles
from ulvar.simulation import Psf, star_field
from ulvar.stars import Detection, FieldProfiles, find_stars

GAIN = 1.5


def crowd(seed: int, size: int = 150) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Return a picture with one star in 60 pixels, and x, y, flux [ADU] of all."""
    rng = np.random.default_rng(seed)
    n = size * size // 60
    x, y = rng.uniform(2, size - 3, n), rng.uniform(2, size - 3, n)
    flux = 10 ** rng.uniform(2.3, 4.8, n)
    image = star_field(
        rng, width=size, height=size, x=x, y=y, flux_e=flux * GAIN, psf=Psf.with_fwhm(2.6), sky_e=200, read_noise_e=6, gain_e_per_adu=GAIN,
    )  # fmt: skip
    return image.astype(np.float32), x, y, flux


class Crowded(unittest.TestCase):
    """One star in 60 pixels, places known."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.fields = []
        for seed in (1, 2):
            image, x, y, flux = crowd(seed)
            found = find_stars(image, gain_e_per_adu=GAIN)
            inside = (x > 12) & (y > 12) & (x < 137) & (y < 137)
            cls.fields.append((image, x, y, flux, found, inside))

    def test_scatter_is_that_of_the_joint_fit(self) -> None:
        """The errors are those of the least squares of all fluxes: the Cramer-Rao bound at the fitted profile."""
        groups: dict[int, list[float]] = {0: [], 1: [], 2: []}
        for image, x, y, flux, found, inside in self.fields:
            result = measure_profiles(image, x, y, found, inner_px=8, outer_px=16, gain_e_per_adu=GAIN)
            ratio = result.flux / flux
            bright = inside & (flux > 2e4)
            # All stars of an exposure share what its profile's sum is off by; no difference of two has it.
            scale = float(np.median(ratio[bright]))
            self.assertLess(abs(scale - 1), 0.02)
            pull = (result.flux / scale - flux) / result.flux_error
            for k, (low, high) in enumerate(((300, 3e3), (3e3, 2e4), (2e4, 1e5))):
                groups[k] += list(pull[inside & (flux > low) & (flux < high)])
        for k, pulls in groups.items():
            found_spread = 1.4826 * float(np.median(np.abs(pulls)))
            # Known to some 6 %: 1.2 is asked of the scatter over the bound.
            self.assertLess(found_spread, 1.2, k)
            self.assertGreater(found_spread, 0.8, k)
            self.assertLess(abs(float(np.median(pulls))), 0.35, k)

    def test_apertures_alone_take_the_neighbours_along(self) -> None:
        image, x, y, flux, found, inside = self.fields[0]
        bright = inside & (flux > 1e4)
        fitted = measure_profiles(image, x, y, found, inner_px=8, outer_px=16, gain_e_per_adu=GAIN)
        summed = measure_apertures(image, x, y, radius_px=4, inner_px=8, outer_px=16)
        self.assertGreater(float(np.median((summed.flux / flux)[bright])), 1.05)
        self.assertLess(abs(float(np.median((fitted.flux / flux)[bright])) - 1), 0.02)


class Alone(unittest.TestCase):
    """A sparse field with one star too faint to be found."""

    @classmethod
    def setUpClass(cls) -> None:
        rng = np.random.default_rng(7)
        gx, gy = np.meshgrid(np.arange(25, 280, 36.0), np.arange(25, 180, 36.0))
        cls.x, cls.y = gx.ravel() + rng.uniform(-0.5, 0.5, gx.size), gy.ravel() + rng.uniform(-0.5, 0.5, gx.size)
        cls.flux = 10 ** rng.uniform(3.7, 4.6, gx.size)
        cls.flux[3] = 60.0
        cls.image = star_field(
            rng, width=300, height=200, x=cls.x, y=cls.y, flux_e=cls.flux * GAIN, psf=Psf.with_fwhm(3.0), sky_e=150, read_noise_e=5,
            gain_e_per_adu=GAIN,
        ).astype(np.float32)  # fmt: skip
        cls.found = find_stars(cls.image, gain_e_per_adu=GAIN)

    def measured(self, image: np.ndarray | None = None, found: Detection | None = None, **more: object):  # type: ignore[no-untyped-def]
        arguments = {"inner_px": 9, "outer_px": 18, "gain_e_per_adu": GAIN, **more}
        return measure_profiles(self.image if image is None else image, self.x, self.y, found or self.found, **arguments)  # type: ignore[arg-type]

    def test_light_error_and_sky(self) -> None:
        result = self.measured()
        bright = self.flux > 1000
        ratio = (result.flux / self.flux)[bright]
        self.assertLess(abs(float(np.median(ratio)) - 1), 0.01)
        pull = ((result.flux / np.median(ratio) - self.flux) / result.flux_error)[bright]
        self.assertLess(abs(float(pull.std()) - 1), 0.35)
        self.assertLess(np.abs(result.sky - 100).max(), 1.0)
        # The one that nobody found: forced, with an error.
        self.assertFalse((np.hypot(self.found.stars.x - self.x[3], self.found.stars.y - self.y[3]) < 2).any())
        self.assertLess(abs(result.flux[3] - 60.0), 4 * result.flux_error[3])
        self.assertGreater(float(result.flux_error[3]), 20.0)

    def test_less_noise_than_an_aperture(self) -> None:
        summed = measure_apertures(self.image, self.x, self.y, radius_px=5, inner_px=9, outer_px=18, gain_e_per_adu=GAIN)
        self.assertLess(float(self.measured().flux_error[3]), 0.8 * float(summed.flux_error[3]))

    def test_masked_pixels_do_not_count(self) -> None:
        image, mask = self.image.copy(), np.zeros(self.image.shape, np.uint16)
        column, row = round(self.x[8]), round(self.y[8])
        image[row, column] = 60_000
        mask[row, column] = int(MaskBit.HOT)
        spoilt, clean = self.measured(image), self.measured()
        masked = self.measured(image, mask=mask)
        self.assertGreater(abs(spoilt.flux[8] / clean.flux[8] - 1), 0.2)
        self.assertLess(abs(masked.flux[8] - clean.flux[8]), 4 * masked.flux_error[8])
        self.assertGreater(masked.flux_error[8], clean.flux_error[8])
        # Nearly all of it hidden: nothing is told, and the others are as before.
        mask[row - 6 : row + 7, column - 6 : column + 7] = int(MaskBit.NO_DATA)
        hidden = self.measured(image, mask=mask)
        self.assertTrue(math.isnan(hidden.flux[8]))
        np.testing.assert_allclose(np.delete(hidden.flux, 8), np.delete(clean.flux, 8), rtol=1e-3, atol=5)
        kept(self, spoilt, masked, hidden)

    def test_what_cannot_be(self) -> None:
        self.assertTrue(np.isnan(self.measured(gain_e_per_adu=None).flux_error).all())
        self.assertTrue(np.isfinite(self.measured(gain_e_per_adu=None).flux).all())
        out = measure_profiles(
            self.image, np.array([np.nan, -20.0, self.x[0]]), np.array([50.0, 50.0, self.y[0]]), self.found, inner_px=9, outer_px=18,
            gain_e_per_adu=GAIN,
        )  # fmt: skip
        self.assertEqual(np.isnan(out.flux).tolist(), [True, True, False])
        bare = Detection(self.found.stars, self.found.background, 3.0, 0.0)
        with self.assertRaisesRegex(ValueError, "no profile"):
            self.measured(found=bare)

    def test_the_profile_of_each_part_of_the_field(self) -> None:
        rng = np.random.default_rng(9)
        gx, gy = (v.ravel() for v in np.meshgrid(np.arange(15, 590, 24.0), np.arange(15, 190, 24.0)))
        image = np.zeros((200, 600))
        for x, y in zip(gx, gy):
            # From 2.8 px at the left to 3.3 px at the right.
            width = 2.8 + 0.5 * x / 600
            stamp_y, stamp_x = np.mgrid[max(0, int(y) - 14) : int(y) + 15, max(0, int(x) - 14) : int(x) + 15]
            sigma = width / 2.3548
            inside = (stamp_y < 200) & (stamp_x < 600)
            light = 3e4 / (2 * math.pi * sigma**2) * np.exp(-0.5 * ((stamp_x - x) ** 2 + (stamp_y - y) ** 2) / sigma**2)
            image[stamp_y[inside], stamp_x[inside]] += light[inside]
        image = (image + 100 + rng.normal(0, 5, image.shape)).astype(np.float32)
        found = find_stars(image, gain_e_per_adu=GAIN)
        # What too narrow a profile leaves of the wide ones is no star.
        self.assertEqual(len(found.stars), len(gx))
        profiles = FieldProfiles(found)
        left, right = profiles.at(60, 100), profiles.at(560, 100)
        self.assertLess(left.fwhm_px, right.fwhm_px - 0.25)
        result = measure_profiles(image, gx, gy, found, inner_px=10, outer_px=18, gain_e_per_adu=GAIN)
        inner = (gx > 30) & (gx < 570)
        # One profile for all would be off by some per cent at both ends.
        slope = np.polyfit(gx[inner], result.flux[inner] / 3e4, 1)[0]
        self.assertLess(abs(slope * 500), 0.025)
        kept(self, found, left, right, result)
