"""Stacks of a colour sensor: the errors that their headers stand for."""

from __future__ import annotations

import math

import numpy as np

from tests.mosaics import CELL, SENSITIVITY, colour_frame
from tests.support import FolderCase
from ulvar.engine import JobContext
from ulvar.flows import StackOptions, stack_exposures
from ulvar.frames import header_of, read_plane, scan_file, write_fits
from ulvar.photometry import measure_apertures
from ulvar.stacking import Weighting

COUNT, GAIN, READ = 3, 0.8, 9.0


class Errors(FolderCase):
    def test_gain_and_read_noise_foretell_by_what_two_stacks_differ(self) -> None:
        rng = np.random.default_rng(31)
        stars = 240
        x, y, flux = rng.uniform(20, 580, stars), rng.uniform(20, 380, stars), 10 ** rng.uniform(5.2, 5.7, stars)
        measured = []
        for night in range(2):
            exposures = []
            for k in range(COUNT):
                mosaic = colour_frame(rng, stars=stars, at=(x + 0.3 * k, y, flux))["mosaic"]
                path = self.folder / f"{night}-{k}.fits"
                cards = {"IMAGETYP": "light", "EXPTIME": 60.0, "BAYERPAT": CELL, "EGAIN": GAIN, "RDNOISE": READ}
                data = ((mosaic + rng.normal(0, READ, mosaic.shape)) / GAIN).astype(np.float32)
                write_fits(path, data, cards=cards)
                exposures.append(scan_file(str(path)))
            options = StackOptions(weighting=Weighting.EQUAL, reference=exposures[0].path)
            result = stack_exposures(exposures, self.folder / f"stack-{night}.fits", JobContext(), options=options)
            header = header_of(result.output)
            # White stars: what each band is multiplied with, on the average of the cell.
            mixed = 4 / sum(1 / SENSITIVITY[band] for band in CELL)
            self.assertAlmostEqual(header["EGAIN"] / (GAIN * mixed * COUNT), 1.0, delta=0.04)
            self.assertAlmostEqual(header["RDNOISE"], READ * math.sqrt(COUNT), places=6)
            self.assertEqual(header["EXPTIME"], 60.0)
            measured.append(
                measure_apertures(
                    read_plane(result.output), x, y, radius_px=6, inner_px=12, outer_px=20, gain_e_per_adu=header["EGAIN"]
                )
            )  # fmt: skip
        first, second = measured
        apart = (first.flux - second.flux) / np.hypot(first.flux_error, second.flux_error)
        good = np.isfinite(apart)
        self.assertGreater(good.sum(), 200)
        # Transparency is brought to that of the reference: a common factor is no noise of a star.
        apart -= np.median(apart[good])
        self.assertAlmostEqual(1.4826 * np.median(np.abs(apart[good])), 1.0, delta=4 / math.sqrt(2 * good.sum()))
