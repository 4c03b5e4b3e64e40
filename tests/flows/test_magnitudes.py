"""Zero point and limit of a picture by catalogue stars, and white by their colours, against simulated truth."""

import math

import numpy as np

from tests.cli.support import Command
from ulvar.astrometry import StarCatalogue, Wcs, load_catalogue
from ulvar.flows import depth_cards, depth_of
from ulvar.flows.magnitudes import band_of, colour_index, light_of, stars_alone, white_by_colours
from ulvar.frames import ExposureFacts, header_of, scan_file, write_fits
from ulvar.photometry import measure_apertures, zero_point
from ulvar.simulation import Psf, add_stars

WIDTH, HEIGHT, SKY, NOISE, ZERO, FWHM = 420, 320, 120.0, 3.0, 22.4, 3.0
WCS = Wcs(200.0, -12.0, 205.0, 150.0, 1.2 / 3600 * np.array([[-1.0, 0.05], [0.05, 1.0]]))
# Light of a star of no colour in each channel, and how its logarithm goes with B - V.
CHANNELS = {"red": (0.55, 0.9), "green": (1.0, 0.0), "blue": (0.35, -1.1)}
SUN = 0.65


class FieldOfStars(Command):
    def setUp(self) -> None:
        super().setUp()
        self.rng = np.random.default_rng(31)
        x, y = np.meshgrid(np.linspace(30, WIDTH - 30, 10), np.linspace(30, HEIGHT - 30, 8))
        self.x, self.y = (v.ravel() + self.rng.uniform(-7, 7, v.size) for v in (x, y))
        self.v = self.rng.uniform(11.5, 14.0, self.x.size)
        # Most stars of a field are redder than the Sun.
        self.index = self.rng.uniform(0.3, 1.6, self.x.size)
        self.ra, self.dec = WCS.sky(self.x, self.y)

    def catalogue(self, **changes: np.ndarray) -> StarCatalogue:
        n = len(self.ra)
        values = {
            "ra": self.ra, "dec": self.dec, "epoch": np.full(n, 2016.0), "pmra": np.zeros(n), "pmdec": np.zeros(n), "mag": self.v - 0.4,
            "bands": {"V": self.v, "B": self.v + self.index},
        } | changes  # fmt: skip
        return StarCatalogue(**values)

    def picture(self, flux: np.ndarray, seed: int = 1) -> np.ndarray:
        image = np.full((HEIGHT, WIDTH), SKY)
        add_stars(image, self.x, self.y, flux, Psf.with_fwhm(FWHM))
        return (image + np.random.default_rng(seed).normal(0, NOISE, image.shape)).astype(np.float32)

    def facts(self, **more: object) -> ExposureFacts:
        return ExposureFacts("s.fits", width=WIDTH, height=HEIGHT, filter="V", **more)  # type: ignore[arg-type]

    def light(self) -> np.ndarray:
        return 10 ** (-0.4 * (self.v - ZERO))


class Zero(FieldOfStars):
    def test_the_middle_of_those_that_agree(self) -> None:
        rng = np.random.default_rng(2)
        mag = rng.uniform(10, 15, 60)
        flux = 10 ** (-0.4 * (mag - ZERO)) * 10 ** rng.normal(0, 0.4 * 0.02, 60)
        # Variables, blends, wrong pairs, and one without light.
        flux[:7] *= [3, 0.2, 5, 1.5, 0.5, 8, -1]
        mag[8] = math.nan
        found = zero_point(flux, mag)
        assert found is not None
        self.assertAlmostEqual(found.magnitude, ZERO, delta=4 * 0.02 * 1.25 / math.sqrt(52))
        self.assertAlmostEqual(found.error, 0.02 * 1.25 / math.sqrt(52), delta=0.0005)
        self.assertTrue(48 <= found.stars <= 52, found.stars)
        self.assertIsNone(zero_point(flux[9:13], mag[9:13]))
        self.assertIsNone(zero_point(np.array([]), np.array([])))

    def test_bands(self) -> None:
        known = self.catalogue()
        self.assertEqual([band_of(f, known) for f in ("V", "green", "B", "Luminance", "R", "H-alpha")], ["V", "V", "B", "V", "V", ""])
        gaia = self.catalogue(bands={"BP": self.v, "RP": self.v, "G": self.v})
        self.assertEqual([band_of(f, gaia) for f in ("B", "R", "V", "g'")], ["BP", "RP", "G", "G"])

    def test_a_pictures_zero_point_and_limit(self) -> None:
        data, faintest = self.picture(self.light()), 55.0
        found = depth_of(data, self.facts(), WCS, self.catalogue(), fwhm_px=FWHM, faintest_adu=faintest)
        assert found is not None
        # 80 stars of 1 % and better; an aperture of 2.5 FWHM holds all but some 0.2 % of the light.
        self.assertAlmostEqual(found.zero.magnitude, ZERO, delta=0.01)
        self.assertEqual(found.band, "V")
        self.assertAlmostEqual(found.limit_mag, found.zero.magnitude - 2.5 * math.log10(faintest), places=9)
        # The catalogue's other magnitudes are 0.4 brighter.
        plain = depth_of(data, self.facts(), WCS, self.catalogue(bands={}), fwhm_px=FWHM, faintest_adu=faintest)
        assert plain is not None
        self.assertAlmostEqual(plain.zero.magnitude, ZERO - 0.4, delta=0.01)
        self.assertEqual(plain.band, "mag")
        told = {name: value for name, value, _ in depth_cards(found)}
        self.assertAlmostEqual(told["MAGLIM"], found.limit_mag, places=3)
        self.assertEqual({v for _, v, _ in depth_cards(None)}, {None})

    def test_what_is_saturated_blended_or_moved_counts_for_nothing(self) -> None:
        flux = self.light()
        data = self.picture(flux)
        top = float(np.percentile(data, 99.9))
        clipped = np.minimum(data, top)
        found = depth_of(clipped, self.facts(saturation_adu=top), WCS, self.catalogue(), fwhm_px=FWHM, faintest_adu=50.0)
        assert found is not None
        self.assertAlmostEqual(found.zero.magnitude, ZERO, delta=0.012)
        brightest = stars_alone(self.facts(), WCS, self.catalogue(), FWHM)
        lights = [light_of(clipped, brightest, FWHM, saturation) for saturation in (top, None)]
        self.assertEqual([bool(np.isnan(one[0])) for one in lights], [True, False])
        # Half of the stars have a companion as bright, 4 px away, of which the catalogue knows.
        near = self.catalogue()
        some = np.arange(0, len(self.x), 2)
        ra, dec = WCS.sky(self.x[some] + 4, self.y[some])
        both = StarCatalogue(
            *(np.append(a, b) for a, b in ((near.ra, ra), (near.dec, dec))), np.append(near.epoch, near.epoch[some]),
            np.zeros(len(self.x) + len(some)), np.zeros(len(self.x) + len(some)), np.append(near.mag, near.mag[some]), {},
        )  # fmt: skip
        alone = stars_alone(self.facts(), WCS, both, FWHM)
        self.assertEqual(len(alone.x), len(self.x) - len(some))
        # Five magnitudes fainter it does not matter.
        faint = StarCatalogue(both.ra, both.dec, both.epoch, both.pmra, both.pmdec, np.append(near.mag, near.mag[some] + 5), {})
        self.assertEqual(len(stars_alone(self.facts(), WCS, faint, FWHM).x), len(self.x))
        self.assertTrue(np.isnan(light_of(np.full_like(data, SKY), stars_alone(self.facts(), WCS, near, FWHM), FWHM)).all())

    def test_proper_motion_is_followed(self) -> None:
        from datetime import UTC, datetime

        # 100 years of 60 mas a year are 5 px.
        moved = self.catalogue(pmra=np.full(len(self.ra), 60.0), epoch=np.full(len(self.ra), 1927.0))
        there = stars_alone(self.facts(mid_utc=datetime(2027, 1, 1, tzinfo=UTC)), WCS, moved, FWHM)
        known = stars_alone(self.facts(), WCS, moved, FWHM)
        # One that moves to the edge is none any more.
        _, mine, theirs = np.intersect1d(there.catalogue.mag, known.catalogue.mag, return_indices=True)
        self.assertGreater(len(mine), 70)
        apart = np.hypot(there.x[mine] - known.x[theirs], there.y[mine] - known.y[theirs])
        np.testing.assert_allclose(apart, 6.0 / 1.2015, rtol=0.02)


class White(FieldOfStars):
    def channels(self) -> dict[str, np.ndarray]:
        return {name: self.light() * share * np.exp(slope * (self.index - SUN)) for name, (share, slope) in CHANNELS.items()}

    def test_a_star_like_the_sun_is_white_though_most_are_redder(self) -> None:
        light = self.channels()
        rng = np.random.default_rng(5)
        noisy = {name: flux * (1 + rng.normal(0, 0.01, len(flux))) for name, flux in light.items()}
        noisy["red"][3:6] *= 4
        noisy["blue"][9] = math.nan
        factors, count = white_by_colours(noisy, self.index, SUN)
        expected = [1 / CHANNELS[name][0] for name in ("red", "green", "blue")]
        np.testing.assert_allclose(factors, expected, rtol=0.01)
        self.assertGreater(count, 60)
        # Another white: that of a bluer star.
        bluer, _ = white_by_colours(noisy, self.index, 0.3)
        np.testing.assert_allclose(bluer[0] / factors[0], math.exp(-CHANNELS["red"][1] * (0.3 - SUN)), rtol=0.02)
        np.testing.assert_allclose(white_by_colours({n: f[:4] for n, f in light.items()}, self.index[:4], SUN)[0], 1)

    def test_colours_that_a_catalogue_tells(self) -> None:
        values, sun, name = colour_index(self.catalogue()) or (None, None, None)
        np.testing.assert_allclose(values, self.index)
        self.assertEqual((sun, name), (0.65, "B - V"))
        self.assertIsNone(colour_index(self.catalogue(bands={"V": self.v})))
        # Five stars of a colour are enough, four are not.
        for count in (5, 4):
            few = np.where(np.arange(self.v.size) < count, self.v, np.nan)
            self.assertEqual(colour_index(self.catalogue(bands={"V": few, "B": self.v})) is None, count < 5)

    def test_from_files_to_a_picture(self) -> None:
        paths = {}
        for k, (name, flux) in enumerate(self.channels().items()):
            cards: dict[str, object] = {"IMAGETYP": "light", "EXPTIME": 60.0, "FILTER": name[0].upper()}
            if name == "green":
                cards |= {n: v for n, v, _ in WCS.cards()}
            paths[name] = self.folder / f"{name}.fits"
            write_fits(paths[name], self.picture(flux, 40 + k), cards=cards, replace=True)
        table = self.folder / "catalogue.csv"
        rows = [f"{r:.7f},{d:.7f},{v:.3f},{v:.3f},{v + i:.3f}" for r, d, v, i in zip(self.ra, self.dec, self.v, self.index)]
        table.write_text("\n".join(["ra,dec,mag,V,B", *rows]), encoding="utf-8")
        out = self.folder / "c.fits"
        given = [f"--{name}={path}" for name, path in paths.items()]
        code, told = self.json("colour", *given, "--out", out, "--balance", "catalogue", "--catalogue", table)
        self.assertEqual((code, told["white_in"]), (0, "B - V"))
        import fitsio

        cube = fitsio.read(str(out))
        # The star whose colour is nearest to the Sun's, as its model has it at exactly that.
        sunny = np.flatnonzero(np.abs(self.index - SUN) < 0.25)
        measured = np.array(
            [
                measure_apertures(
                    np.ascontiguousarray(plane), self.x[sunny], self.y[sunny], radius_px=7.0, inner_px=10.0, outer_px=15.0,
                ).flux
                for plane in cube
            ]
        )  # fmt: skip
        for k, name in ((0, "red"), (2, "blue")):
            ratio = measured[k] / measured[1] / np.exp(CHANNELS[name][1] * (self.index[sunny] - SUN))
            self.assertAlmostEqual(float(np.median(ratio)), 1.0, delta=0.01)
        # By the average star white is redder than the Sun.
        code, plain = self.json("colour", *given, "--out", self.folder / "p.fits")
        red = {c["channel"]: c["factor"] for c in plain["channels"]}["red"]
        self.assertLess(red, 0.9 / CHANNELS["red"][0])
        # Another white.
        code, bluer = self.json(
            "colour", *given, "--out", self.folder / "b.fits", "--balance=catalogue", "--catalogue", table, "--white=0.3",
        )  # fmt: skip
        reds = [{c["channel"]: c["factor"] for c in one["channels"]}["red"] for one in (bluer, told)]
        self.assertAlmostEqual(reds[0] / reds[1], math.exp(-CHANNELS["red"][1] * (0.3 - SUN)), delta=0.03)
        # What is missing is told.
        for options, why in (
            (["--balance", "catalogue"], "go together"), (["--catalogue", table], "go together"),
            (["--balance", "catalogue", "--catalogue", self.folder / "none.csv"], "there is no such file"),
        ):  # fmt: skip
            code, _, problem = self.ulvar("colour", *given, "--out", self.folder / "w.fits", *options)
            self.assertEqual(code, 2)
            self.assertIn(why, problem)
        bare = [given[0], f"--green={paths['red']}", given[2]]
        code, told = self.json("colour", *bare, "--out", self.folder / "w.fits", "--balance", "catalogue", "--catalogue", table)
        self.assertIn("solve the plate of red.fits first", told["reason"])
        lone = self.folder / "lone.csv"
        lone.write_text("ra,dec,mag\n200,-12,12\n", encoding="utf-8")
        code, told = self.json("colour", *given, "--out", self.folder / "w.fits", "--balance", "catalogue", "--catalogue", lone)
        self.assertIn("two bands", told["reason"])
        self.assertFalse((self.folder / "w.fits").exists())
        self.assertEqual(len(load_catalogue(table)), len(self.ra))
        self.assertNotIn("MAGZERO", header_of(scan_file(str(out)).path))
