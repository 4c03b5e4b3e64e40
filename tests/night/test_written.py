"""What a night writes, held against the truth that it was made from: times, masks, gains, places."""

import csv
import math
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
from tools.cases import FolderCase, remember_stars

from ulvar.engine import JobContext
from ulvar.flows import StackOptions, stack_exposures
from ulvar.frames import MaskBit, header_of, read_plane, scan_file, write_fits
from ulvar.night import Night
from ulvar.night.stations import curve_path, run_curve, run_intake, run_measure, run_score, run_stack, series_path
from ulvar.photometry import ListedStar
from ulvar.simulation import Psf, star_field

START = datetime(2027, 2, 11, 20, tzinfo=UTC)
EXPOSURE_S, GAIN, COUNT = 240.0, 1.6, 6


class SixExposures(FolderCase):
    """Six exposures of constant stars; each lies elsewhere, in x other than in y."""

    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)
        rng = np.random.default_rng(23)
        grid = np.array([(x, y) for x in range(40, 330, 48) for y in range(40, 220, 45)], dtype=float)
        self.x, self.y = (grid + rng.uniform(-7, 7, grid.shape)).T
        self.flux = 10 ** rng.uniform(4.5, 5.1, len(self.x))
        self.paths = []
        for i in range(COUNT):
            dx, dy = self.shift(i)
            image = star_field(
                rng, width=370, height=260, x=self.x + dx, y=self.y + dy, flux_e=self.flux, psf=Psf.with_fwhm(3.4),
                sky_e=500.0, read_noise_e=6.0, gain_e_per_adu=GAIN,
            )  # fmt: skip
            self.paths.append(
                self.write(
                    f"raw/L{i}.fits",
                    np.clip(image, 0, 65535).astype(np.float32),
                    IMAGETYP="Light",
                    EXPTIME=EXPOSURE_S,
                    FILTER="V",
                    EGAIN=GAIN,
                    RDNOISE=6.0,
                    DATE_OBS=f"{START + timedelta(minutes=5 * i):%Y-%m-%dT%H:%M:%S}",
                )  # fmt: skip
            )

    def shift(self, i: int) -> tuple[float, float]:
        """Return how far exposure `i` lies from the first."""
        return 1.7 * i, -0.9 * i

    def night(self) -> Night:
        night = Night.for_path(self.folder / "raw")
        self.addCleanup(night.close)
        run_intake(night, JobContext())
        self.assertEqual(run_score(night, JobContext()).problem, "")
        return night


class Truth(SixExposures):
    """What is written of them."""

    def test_the_series_table(self) -> None:
        night = self.night()
        context = JobContext()
        run_stack(night, context)
        reference = int(Path(next(iter(night.products_of("score").values())).values["reference"]).stem[1:])
        ox, oy = self.shift(reference)
        stars = [("t", "target", 3), ("a", "comparison", 7), ("b", "comparison", 12), ("k", "check", 15)]
        night.set_stars([ListedStar(n, r, x=self.x[k] + ox, y=self.y[k] + oy) for n, r, k in stars])
        self.assertEqual(run_measure(night, context).problem, "")
        with series_path(night, night.current_series()).open(newline="") as handle:
            rows = list(csv.DictReader(handle))
        self.assertEqual(len(rows), COUNT * len(stars))
        epoch = 2440587.5
        for row in rows:
            i = int(row["file"][1])
            (k,) = [k for n, _, k in stars if n == row["name"]]
            mid = START + timedelta(minutes=5 * i, seconds=EXPOSURE_S / 2)
            self.assertEqual(row["time_utc_mid"], f"{mid:%Y-%m-%dT%H:%M:%S.%f}")
            self.assertAlmostEqual(float(row["jd_utc"]), epoch + mid.timestamp() / 86400, places=7)
            dx, dy = self.shift(i)
            # Alignment on thirty stars: hundredths of a pixel.
            self.assertAlmostEqual(float(row["x"]), self.x[k] + dx, delta=0.1)
            self.assertAlmostEqual(float(row["y"]), self.y[k] + dy, delta=0.1)
            electrons = float(row["flux"]) * GAIN
            # 1.7 FWHM hold all but half a percent of the light; the rest is noise, five times its error.
            self.assertLess(abs(electrons / (0.9965 * self.flux[k]) - 1), 5 * float(row["flux_error"]) * GAIN / electrons + 0.005)
            self.assertAlmostEqual(float(row["sky"]), 500.0 / GAIN, delta=3.0)
            self.assertAlmostEqual(float(row["fwhm_px"]), 3.4, delta=0.15)
            self.assertEqual((row["bjd_tdb"], row["airmass"], row["flags"]), ("", "", ""))
        self.assertEqual(run_curve(night, context).problem, "")
        with curve_path(night, night.current_series()).open(newline="") as handle:
            curve = list(csv.DictReader(handle))
        wanted = self.flux[3] / (self.flux[7] + self.flux[12])
        pulls = [(float(p["relative_flux"]) - wanted) / float(p["relative_flux_error"]) for p in curve]
        self.assertLess(abs(float(np.mean(pulls))), 5 / math.sqrt(COUNT))

    def test_a_clock_that_is_off_and_a_shutter_that_rolls(self) -> None:
        night, context = self.night(), JobContext()
        run_stack(night, context)
        reference = int(Path(next(iter(night.products_of("score").values())).values["reference"]).stem[1:])
        ox, oy = self.shift(reference)
        low, high = int(np.argmin(self.y)), int(np.argmax(self.y))
        stars = [("t", "target", low), ("u", "target", high), ("a", "comparison", 7), ("b", "comparison", 12)]
        night.set_stars([ListedStar(n, r, x=self.x[k] + ox, y=self.y[k] + oy) for n, r, k in stars])
        series = night.current_series()
        self.assertEqual(run_measure(night, context).problem, "")
        run_curve(night, context)
        with curve_path(night, series).open(newline="") as handle:
            before = sorted(float(p["relative_flux"]) for p in csv.DictReader(handle))
        masters, raw = night.state("masters"), [Path(p).read_bytes() for p in self.paths]
        settings = night.settings
        settings.intake.clock_s, settings.intake.row_us = -3600.25, 900.0
        night.set_settings(settings)
        # One exposure is known to be off otherwise.
        night.correct([self.paths[2]], "clock_s", "10")
        self.assertEqual([night.state(s, series) for s in ("combine", "measure", "curve")], ["stale"] * 3)
        self.assertEqual(night.state("masters"), masters)
        self.assertEqual(run_measure(night, context).problem, "")
        with series_path(night, series).open(newline="") as handle:
            rows = list(csv.DictReader(handle))
        self.assertEqual(len(rows), COUNT * len(stars))
        for row in rows:
            i = int(row["file"][1])
            mid = START + timedelta(minutes=5 * i, seconds=EXPOSURE_S / 2 + (10.0 if i == 2 else -3600.25))
            self.assertEqual(row["time_utc_mid"], f"{mid:%Y-%m-%dT%H:%M:%S.%f}", "the first row's")
            told = 2440587.5 + (mid.timestamp() + 900e-6 * float(row["y"])) / 86400
            self.assertAlmostEqual(float(row["jd_utc"]), told, delta=1e-8)
        # Stars of one exposure stay together, whatever rows they lie on.
        self.assertEqual(run_curve(night, context).problem, "")
        with curve_path(night, series).open(newline="") as handle:
            after = sorted(float(p["relative_flux"]) for p in csv.DictReader(handle))
        self.assertEqual(after, before)
        # Read from the last row on, the first is the latest.
        settings.intake.row_us = -900.0
        night.set_settings(settings)
        self.assertEqual(run_measure(night, context).problem, "")
        with series_path(night, series).open(newline="") as handle:
            row = next(r for r in csv.DictReader(handle) if r["file"] == "L0.fits" and r["name"] == "t")
        told = 2440587.5 + (START.timestamp() + EXPOSURE_S / 2 - 3600.25 + 900e-6 * (259 - float(row["y"]))) / 86400
        self.assertAlmostEqual(float(row["jd_utc"]), told, delta=1e-8)
        self.assertEqual([Path(p).read_bytes() for p in self.paths], raw)

    def test_masked_pixels_are_not_stacked(self) -> None:
        for i, path in enumerate(self.paths):
            data = read_plane(path)
            mask = np.zeros(data.shape, np.uint16)
            if i < 4:
                # Where the same star lies in four of six exposures, a value that rejection could not take out.
                x, y = (round(v) for v in (self.x[5] + self.shift(i)[0], self.y[5] + self.shift(i)[1]))
                data[y - 2 : y + 3, x - 2 : x + 3] = 5e5
                mask[y - 2 : y + 3, x - 2 : x + 3] = MaskBit.HOT
            write_fits(Path(path), data, like=path, mask=mask, replace=True)
        night = self.night()
        self.assertEqual(run_stack(night, JobContext()).problem, "")
        stack = next(iter(night.products_of("stack").values()))
        values = read_plane(stack.output)
        self.assertLess(float(np.nanmax(values)), 3e5)

    def test_what_the_stack_s_header_says(self) -> None:
        night = self.night()
        self.assertEqual(run_stack(night, JobContext()).problem, "")
        stack = next(iter(night.products_of("stack").values()))
        header = header_of(stack.output)
        weights = np.array([p.values["weight"] for p in night.products_of("stack_frame").values()])
        # Electrons that an ADU of the weighted mean stands for: the gain times the effective number of exposures.
        effective = weights.sum() ** 2 / (weights**2).sum()
        self.assertAlmostEqual(header["EGAIN"] / GAIN, effective, delta=0.02 * effective)
        self.assertGreater(effective, 5.0)
        self.assertAlmostEqual(header["RDNOISE"] / 6.0, math.sqrt(effective), delta=0.02 * math.sqrt(effective))
        self.assertEqual(header["NCOMBINE"], COUNT)
        # Six exposures of 240 s, one every 5 minutes: when they begin and end, and where they lie on average.
        self.assertEqual(header["EXPTOTAL"], COUNT * EXPOSURE_S)
        self.assertEqual((header["DATE-BEG"], header["DATE-OBS"]), ("2027-02-11T20:00:00.000",) * 2)
        self.assertEqual(header["DATE-END"], "2027-02-11T20:29:00.000")
        self.assertEqual(header["TELAPSE"], 29 * 60)
        mean = (weights * np.arange(COUNT)).sum() / weights.sum() * 300 + EXPOSURE_S / 2
        told = datetime.fromisoformat(header["DATE-AVG"]).replace(tzinfo=UTC)
        self.assertAlmostEqual((told - START).total_seconds(), mean, delta=0.002)
        # Photons of the sky and read-out of one exposure, over the exposures that the mean is worth; resampling makes
        # neighbours alike, which takes some noise from single pixels.
        one = math.sqrt(500.0 + 36.0) / GAIN
        self.assertAlmostEqual(header["SKYNOISE"] * math.sqrt(effective) / one, 0.9, delta=0.12)

    def test_matrices_lead_from_each_exposure_onto_the_stack(self) -> None:
        exposures = [scan_file(path) for path in self.paths]
        result = stack_exposures(exposures, self.folder / "s.fits", JobContext(), options=StackOptions(reference=self.paths[0]))
        for i, frame in enumerate(result.frames):
            matrix = np.array(frame.values["matrix"])
            dx, dy = self.shift(i)
            np.testing.assert_allclose(matrix[:, :2], np.eye(2), atol=2e-3)
            np.testing.assert_allclose(matrix @ [150.0, 100.0, 1.0], [150.0 - dx, 100.0 - dy], atol=0.1)
