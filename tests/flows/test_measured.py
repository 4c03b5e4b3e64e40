"""What a measured exposure says of each of its stars: place, times, airmass, and what the air adds to the errors."""

import math
from dataclasses import replace
from datetime import timedelta
from typing import ClassVar

import numpy as np
from tools.cases import FolderCase

from ulvar.astrometry import Wcs
from ulvar.flows import MeasureOptions, MeasureTask, Reference
from ulvar.flows.measure import Measured, measure_item
from ulvar.frames import ExposureFacts, scan_file
from ulvar.lightcurves import airmass_at, barycentric_jd, jd_from_utc
from ulvar.photometry import ApertureOptions, ListedStar, scintillation
from ulvar.registration import Transform
from ulvar.stars import StarFlag, StarTable

# A star of every corner and one in the middle; so wide a field that light comes to them at different times.
X, Y = np.array([20.0, 130.0, 25.0, 128.0, 75.0]), np.array([15.0, 18.0, 90.0, 95.0, 50.0])
SKY = Wcs(110.0, 40.0, 75.0, 55.0, np.array([[-0.08, 0.01], [0.01, 0.08]]))
SITE = (61.2, 9.7, 640.0)


class OfEachStar(FolderCase):
    """Five stars 3 to 12 degrees from each other; every column against what the sky says of that star alone."""

    made: ClassVar[np.ndarray]

    @classmethod
    def setUpClass(cls) -> None:
        """Draw them."""
        rows, columns = np.mgrid[0:110, 0:150]
        picture = np.random.default_rng(5).normal(400, 3, rows.shape)
        for n, (x, y) in enumerate(zip(X, Y)):
            picture += 900 * (n + 1) * np.exp(-((columns - x - 0.4) ** 2 + (rows - y + 0.3) ** 2) / (2 * 1.3**2))
        cls.made = picture.astype(np.float32)

    def facts(self, **more: float) -> ExposureFacts:
        path = self.write(
            "light.fits", self.made, IMAGETYP="light", EXPTIME=10.0, EGAIN=1.5, DATE_OBS="2027-02-11T20:00:00",
            SITELAT=SITE[0], SITELONG=SITE[1], SITEELEV=SITE[2], APTDIA=250.0,
        )  # fmt: skip
        return replace(scan_file(path), **more)  # type: ignore[arg-type]

    def measured(self, facts: ExposureFacts, wcs: Wcs | None = SKY, **options: object) -> Measured:
        n = len(X)
        columns = {name: np.zeros(n) for name in StarTable.__dataclass_fields__}
        columns |= {
            # What was found lies beside what was marked; the fifth star was not found.
            "x": np.where(np.arange(n) < 4, X + 0.4, 5.0), "y": np.where(np.arange(n) < 4, Y - 0.3, 100.0),
            "flux": np.full(n, 1e4), "snr": np.full(n, 50.0), "fwhm_px": np.full(n, 3.0), "flags": np.zeros(n, dtype=np.int64),
        }  # fmt: skip
        stars = StarTable(**columns)
        listed = tuple(ListedStar(f"s{k}", "check", x=float(X[k]), y=float(Y[k])) for k in range(n))
        task = MeasureTask(
            facts, listed, MeasureOptions(**options), Reference(facts.path, stars, wcs), None, Transform.identity(), 3.0, stars,
        )  # fmt: skip
        done = measure_item(task)
        assert isinstance(done, Measured), done
        gone = measure_item(replace(task, facts=replace(facts, path=f"{facts.path}.gone"), wcs=None))
        self.assertEqual((gone.file, gone.reason), (f"{facts.path}.gone", "there is no such file"))
        return done

    def test_times_airmass_and_the_air_in_the_errors(self) -> None:
        facts = self.facts()
        two = ApertureOptions(1.5, others=(2.0,))
        rows = self.measured(facts, aperture=two).rows
        self.assertEqual(len(rows), 10)
        ra, dec = SKY.sky(X, Y)
        self.assertGreater(np.ptp(barycentric_jd([facts.mid_utc] * 5, ra, dec, SITE)) * 86400, 20.0)
        for k, row in enumerate(rows):
            with self.subTest(row=k):
                one = k % 5
                self.assertAlmostEqual(row.ra, ra[one], places=9)
                self.assertAlmostEqual(row.dec, dec[one], places=9)
                self.assertAlmostEqual(row.jd_utc, jd_from_utc([facts.mid_utc])[0], places=9)
                bjd = barycentric_jd([facts.mid_utc], float(ra[one]), float(dec[one]), SITE)[0]
                self.assertAlmostEqual((row.bjd_tdb - bjd) * 86400, 0.0, delta=1e-4)
                mass = airmass_at([facts.mid_utc], float(ra[one]), float(dec[one]), SITE)[0]
                self.assertAlmostEqual(row.airmass, mass, places=9)
                air = row.flux * scintillation(mass, 10.0, 250.0, 640.0)
                self.assertAlmostEqual(row.noise_scintillation, air, delta=1e-9 * air)
                # The read noise is not known apart: it is in that of the sky.
                terms = row.noise_source, row.noise_sky, row.noise_level, row.noise_flat, air
                self.assertAlmostEqual(row.flux_error, math.hypot(*terms), delta=1e-6 * air)
        self.assertEqual([row.radius_px for row in rows], [4.5] * 5 + [6.0] * 5)

    def test_rows_of_a_rolling_shutter_have_their_own_times(self) -> None:
        for us in (3e4, -3e4):
            facts = self.facts(row_us=us)
            rows = self.measured(facts).rows
            for row in rows:
                wanted = facts.mid_utc + timedelta(microseconds=(row.y if us > 0 else row.y - 109) * us)
                self.assertAlmostEqual(row.jd_utc, jd_from_utc([wanted])[0], places=10)
                self.assertAlmostEqual((row.bjd_tdb - barycentric_jd([wanted], row.ra, row.dec, SITE)[0]) * 86400, 0.0, delta=1e-4)
                self.assertAlmostEqual(row.airmass, airmass_at([wanted], row.ra, row.dec, SITE)[0], places=9)

    def test_without_coordinates_the_pointing_stands_in_or_nothing(self) -> None:
        alone = self.measured(self.facts(ra_deg=111.0, dec_deg=41.0), None).rows
        self.assertEqual({row.bjd_tdb for row in alone}, {barycentric_jd([self.facts().mid_utc], 111.0, 41.0, SITE)[0]})
        self.assertTrue(all(math.isnan(row.ra) for row in alone))
        unknown = self.measured(self.facts(), None).rows
        self.assertTrue(all(math.isnan(row.bjd_tdb) and math.isnan(row.airmass) for row in unknown))
        self.assertTrue(all(row.flux_error > 0 and row.jd_utc > 0 for row in unknown))
        timeless = self.measured(self.facts(mid_utc=None), SKY).rows
        self.assertTrue(all(math.isnan(row.jd_utc) and row.flux > 0 for row in timeless))
        self.assertAlmostEqual(timeless[3].dec, SKY.sky(X, Y)[1][3], places=9)

    def test_apertures_move_to_what_was_found_beside_them(self) -> None:
        rows = self.measured(self.facts(), centre="refined").rows
        for k, row in enumerate(rows[:4]):
            self.assertAlmostEqual(row.x, X[k] + 0.4)
            self.assertAlmostEqual(row.y, Y[k] - 0.3)
            self.assertFalse(row.flags & StarFlag.LOST)
        self.assertEqual((rows[4].x, rows[4].y), (75.0, 50.0))
        self.assertTrue(rows[4].flags & StarFlag.LOST)
