"""A moving body's light past stars: unbiased wherever it is not flagged, flagged wherever a star lends it light."""

import math
from datetime import UTC, datetime, timedelta

import numpy as np
from tools.cases import FolderCase

from ulvar.astrometry import Wcs, offset_position
from ulvar.engine import JobContext
from ulvar.flows import MeasureOptions, make_reference, measure_series
from ulvar.frames import scan_file
from ulvar.photometry import ApertureOptions, ListedStar
from ulvar.simulation import Psf, star_field
from ulvar.stars import StarFlag

START = datetime(2027, 2, 11, 20, 0, tzinfo=UTC)
RA, DEC, SCALE, COUNT, LIGHT = 110.0, 24.0, 2.0, 36, 9000.0
RADIUS = 5.0


class Crossings(FolderCase):
    """Thirty-six exposures; the body goes right over a bright star, closely by a fainter one, and over faint ones."""

    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(3)
        self.solutions, paths = {}, []
        # The body moves by 6 px an exposure along x.
        stars = [(60.0 + 6 * 9.0, 100.0, 30000.0), (60.0 + 6 * 20.4, 106.0, 6000.0), (60.0 + 6 * 28.0, 98.0, 700.0)]
        x0 = np.r_[[s[0] for s in stars], rng.uniform(10, 290, 60)]
        y0 = np.r_[[s[1] for s in stars], np.where(rng.random(60) < 0.5, rng.uniform(8, 75, 60), rng.uniform(125, 190, 60))]
        flux = np.r_[[s[2] for s in stars], 10 ** rng.uniform(3.6, 5.0, 60)]
        self.near = []
        track = []
        for k in range(COUNT):
            when = START + timedelta(minutes=2 * k)
            cd = np.array([[-1.0, 0.0], [0.0, 1.0]]) * SCALE / 3600
            shift = rng.uniform(-2, 2, 2)
            wcs = Wcs(RA, DEC, 150.0 + shift[0], 100.0 + shift[1], cd)
            body = 60.0 + 6 * k, 100.0
            image = star_field(
                rng, width=300, height=200, x=np.r_[x0, body[0]] + shift[0], y=np.r_[y0, body[1]] + shift[1],
                flux_e=np.r_[flux, LIGHT], psf=Psf.with_fwhm(2.8), sky_e=200, read_noise_e=5,
            )  # fmt: skip
            path = self.write(
                f"m{k:02d}.fits", image, IMAGETYP="light", EXPTIME=30.0, EGAIN=1.0, DATE_OBS=when.strftime("%Y-%m-%dT%H:%M:%S"),
            )  # fmt: skip
            paths.append(path)
            self.solutions[path] = wcs
            self.near.append(float(np.hypot(x0 - body[0], y0 - body[1])[:2].min()))
            ra, dec = offset_position(RA, DEC, -(body[0] - 150.0) * SCALE / 3600, (body[1] - 100.0) * SCALE / 3600)
            track.append(((when + timedelta(seconds=15)).timestamp(), float(ra), float(dec)))
        self.exposures = [scan_file(path) for path in paths]
        self.body = ListedStar("body", "target", track=tuple(track))
        self.steady = ListedStar("c", "comparison", *self.solutions[paths[0]].sky(x0[5], y0[5]))

    def test_light_is_unbiased_where_it_is_not_flagged(self) -> None:
        reference = make_reference(self.exposures[0])
        rows, outcomes = measure_series(
            self.exposures, [self.body], JobContext(), options=MeasureOptions(ApertureOptions(RADIUS, False)),
            reference=reference, solutions=self.solutions,
        )  # fmt: skip
        self.assertEqual([o.reason for o in outcomes], [""] * COUNT)
        flagged = np.array([bool(row.flags & StarFlag.NEIGHBOUR) for row in rows])
        # Every exposure in which one of the two brighter stars shines into the aperture, the one in which they coincide among them.
        for k, near in enumerate(self.near):
            if near < RADIUS + 1:
                self.assertTrue(flagged[k], f"{k}: a star {near:.1f} px away")
        self.assertTrue(flagged[9])
        self.assertLess(flagged.sum(), 14)
        clean = ~flagged
        pulls = np.array([(row.flux - 0.985 * LIGHT) / row.flux_error for row in rows])
        self.assertLess(abs(pulls[clean].mean()), 3 / math.sqrt(clean.sum()) + 0.5)
        self.assertLess(np.abs(pulls[clean]).max(), 5)
        self.assertGreater(pulls[9], 20)
        self.assertFalse(any(row.flags & StarFlag.LOST for row in rows))

    def test_the_body_itself_in_the_reference_is_no_star(self) -> None:
        """Where it stands still against its place in the reference nothing is in its way."""
        reference = make_reference(self.exposures[3])
        rows, _ = measure_series(
            self.exposures[2:5], [self.body], JobContext(), options=MeasureOptions(ApertureOptions(RADIUS, False)),
            reference=reference, solutions=self.solutions,
        )  # fmt: skip
        self.assertEqual([row.flags for row in rows], [0, 0, 0])
