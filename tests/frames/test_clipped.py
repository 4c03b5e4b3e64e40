"""Where pixels are clipped, by the pixels themselves, and what it does to stars of exposures whose header does not tell."""

import csv
import unittest
from typing import Any

import numpy as np

from tests.cli.support import Command
from ulvar.frames import MaskBit, clipped_at, read_frame, scan_file
from ulvar.simulation import Psf, star_field


def exposure(rng: np.random.Generator, top: float, bright: float = 3e6) -> np.ndarray:
    x, y = np.r_[60.0, rng.uniform(20, 180, 20)], np.r_[60.0, rng.uniform(20, 130, 20)]
    flux = np.r_[bright, 10 ** rng.uniform(4, 5, 20)]
    image = star_field(rng, width=200, height=150, x=x, y=y, flux_e=flux, psf=Psf.with_fwhm(3.0))
    return np.clip(image, 0, top).round().astype(np.float32)


class Levels(unittest.TestCase):
    def setUp(self) -> None:
        self.rng = np.random.default_rng(4)

    def test_at_the_end_of_the_files_numbers(self) -> None:
        self.assertEqual(clipped_at(exposure(self.rng, 65535), 20), 65535)
        self.assertEqual(clipped_at(exposure(self.rng, 32767), 16), 32767)
        self.assertEqual(clipped_at(exposure(self.rng, 65535), 16), 65535, "a TIFF file counts without a sign")
        self.assertEqual(clipped_at(exposure(self.rng, 255), 8), 255)
        one = np.full((50, 50), 100, dtype=np.float32)
        one[3, 4] = 65535
        self.assertEqual(clipped_at(one, 20), 65535, "a single pixel is enough there")

    def test_where_pixels_pile_up(self) -> None:
        self.assertEqual(clipped_at(exposure(self.rng, 16383), 20), 16383)
        self.assertEqual(clipped_at(exposure(self.rng, 4095), 20), 4095)

    def test_what_is_not_clipped(self) -> None:
        self.assertIsNone(clipped_at(exposure(self.rng, 65535, 1e5), 20))
        # Noise in whole numbers has many pixels at its highest value: it is none of a star.
        bias = self.rng.normal(300, 0.7, (400, 400)).round().astype(np.float32)
        self.assertIsNone(clipped_at(bias, 20))
        self.assertIsNone(clipped_at(np.full((20, 20), 500, dtype=np.float32), 20))
        self.assertIsNone(clipped_at(exposure(self.rng, 16383), -32), "floating point numbers have no such end")
        self.assertIsNone(clipped_at(np.full((20, 20), np.nan, dtype=np.float32), 20))
        holes = exposure(self.rng, 16383)
        holes[:30] = np.nan
        self.assertEqual(clipped_at(holes, 20), 16383)


class Flagged(Command):
    def frames(self, top: float, **cards: Any) -> list[str]:
        paths = []
        for i in range(3):
            # The same stars each time.
            data = exposure(np.random.default_rng(9), top) + np.random.default_rng(i).integers(0, 3)
            paths.append(
                self.write(f"f{top:.0f}-{i}.fits", np.minimum(data, top).astype(np.uint16), IMAGETYP="light", EXPTIME=10.0,
                           DATE_OBS=f"2027-02-11T20:0{i}:00", **cards)
            )  # fmt: skip
        return paths

    def test_a_clipped_star_is_flagged_whatever_the_header_says(self) -> None:
        listed = self.folder / "stars.csv"
        listed.write_text("name,role,x,y\nT,target,60,60\n")
        for top in (65535.0, 16383.0):
            out = self.folder / f"{top:.0f}.csv"
            code, body = self.json("measure", *self.frames(top), "--stars", listed, "--out", out)
            # Stars that are clipped unknown would be taken for the profile of all, and nothing would align.
            self.assertEqual((code, body["rows"]), (0, 3), body)
            with out.open(newline="") as handle:
                flags = [row["flags"].split("|") for row in csv.DictReader(handle)]
            self.assertEqual(["saturated" in one for one in flags], [True] * 3)

    def test_a_level_that_is_told_is_believed(self) -> None:
        path = self.frames(16383.0, SATURATE=12000)[0]
        mask = read_frame(scan_file(path)).mask
        data = read_frame(scan_file(path)).data
        assert mask is not None
        np.testing.assert_array_equal((mask & MaskBit.SATURATED) != 0, data >= 12000)
        high = read_frame(scan_file(self.frames(16383.0, SATURATE=60000)[1]))
        self.assertTrue(high.mask is None or not (high.mask & MaskBit.SATURATED).any())
