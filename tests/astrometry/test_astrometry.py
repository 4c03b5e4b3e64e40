"""World coordinates, catalogues and the solver against an independent projection."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from tools.cases import FolderCase
from tools.same import kept

from ulvar.astrometry import (
    CatalogueError,
    PlateSolution,
    SolveHints,
    StarCatalogue,
    Wcs,
    fit_wcs,
    load_catalogue,
    separation_deg,
    solve_plate,
    wcs_from_header,
    write_tiles,
)
from ulvar.engine import Failed
from ulvar.simulation import Pointing, make_sky


def catalogue_of(sky) -> StarCatalogue:  # type: ignore[no-untyped-def]
    """Return a made-up sky as a catalogue of epoch 2016."""
    n = len(sky.ra)
    return StarCatalogue(sky.ra, sky.dec, np.full(n, 2016.0), sky.pmra, sky.pmdec, sky.V)


class Coordinates(FolderCase):
    """Round trips, headers, separations."""

    def wcs(self) -> Wcs:
        cd = np.array([[-3.4e-4, 7e-5], [7e-5, 3.4e-4]])
        return Wcs(115.53, 41.3, 511.5, 383.5, cd, {(2, 0): 1e-6, (1, 1): -3e-7, (3, 0): 2e-9}, {(0, 2): -8e-7, (2, 1): 1e-9})

    def test_north_up(self) -> None:
        """Turned and mirrored as it says, a step east goes left and a step north up; close to a pole too."""
        for dec in (-62.0, 5.0, 81.0, 89.999):
            for angle in (0.0, 33.0, 171.0, 268.0):
                for mirror in (1, -1):
                    c, s = math.cos(math.radians(angle)), math.sin(math.radians(angle))
                    cd = np.array([[-c * mirror, s], [s * mirror, c]]) / 3600
                    wcs = Wcs(120.0, dec, 500.0, 400.0, cd)
                    turn, mirrored = wcs.north_up(500.0, 400.0)
                    self.assertEqual(mirrored, wcs.flipped)
                    places = wcs.pixel(np.array([120.0, 120.0 + 1e-4 / math.cos(math.radians(dec))]), np.array([dec + 1e-4, dec]))
                    a = math.radians(turn)
                    for (dx, dy), wanted in zip(zip(places[0] - 500, places[1] - 400), ((0.0, 1.0), (-1.0, 0.0))):
                        dx = -dx if mirrored else dx
                        # Clockwise, rows counted upwards.
                        seen = np.array([dx * math.cos(a) + dy * math.sin(a), -dx * math.sin(a) + dy * math.cos(a)])
                        np.testing.assert_allclose(seen / np.hypot(*seen), wanted, atol=0.06 if dec > 89 else 2e-3)

    @given(st.floats(0, 1023), st.floats(0, 767))
    @settings(max_examples=60, deadline=None)
    def test_round_trip(self, x: float, y: float) -> None:
        wcs = self.wcs()
        px, py = wcs.pixel(*wcs.sky(x, y))
        self.assertLess(math.hypot(float(px) - x, float(py) - y), 1e-8)

    def test_header_round_trip_and_forms(self) -> None:
        wcs = self.wcs()
        cards = {name: value for name, value, _ in wcs.cards()}
        for name in ("CRVAL1", "CRVAL2", "CRPIX1", "CD1_2"):
            for value in (math.nan, math.inf, 1e308 if name != "CRVAL1" else math.nan, "x", None):
                with self.subTest(name, value=value):
                    found = wcs_from_header({**cards, name: value})
                    # A picture of a pixel's place far out is a picture still; anything else is no solution.
                    self.assertTrue(found is None or (name == "CRPIX1" and value == 1e308))
        for odd in ({"A_ORDER": 10}, {"A_ORDER": -1}, {"A_ORDER": "x"}, {"A_ORDER": 2, "A_2_0": math.nan}, {"CD1_1": 500.0}):
            self.assertIsNone(wcs_from_header({**cards, **odd}))
        again = wcs_from_header(cards)
        assert again is not None
        np.testing.assert_allclose(again.sky(10.0, 700.0), wcs.sky(10.0, 700.0), atol=1e-12)
        base = {
            "CTYPE1": "RA---TAN", "CTYPE2": "DEC--TAN", "CRVAL1": 10.0, "CRVAL2": 20.0, "CRPIX1": 5.0, "CRPIX2": 6.0,
        }  # fmt: skip
        rotated = wcs_from_header({**base, "CDELT1": -1e-3, "CDELT2": 1e-3, "CROTA2": 30.0})
        pc = wcs_from_header(
            {
                **base,
                "CDELT1": -1e-3,
                "CDELT2": 1e-3,
                "PC1_1": math.cos(math.pi / 6),
                "PC1_2": -math.sin(math.pi / 6),
                "PC2_1": math.sin(math.pi / 6),
                "PC2_2": math.cos(math.pi / 6),
            }
        )
        assert rotated is not None and pc is not None
        self.assertIsNone(wcs_from_header(base))
        self.assertIsNone(wcs_from_header({"CTYPE1": "LINEAR"}))
        ra, dec = rotated.sky(4.0, 5.0)
        self.assertAlmostEqual(float(ra), 10.0)
        self.assertAlmostEqual(float(dec), 20.0)

    def test_against_the_independent_projection(self) -> None:
        pointing = Pointing(115.53, 61.3, 1.2, 33.0, 1000, 800)
        rng = np.random.default_rng(1)
        ra, dec = 115.53 + rng.uniform(-0.3, 0.3, 40), 61.3 + rng.uniform(-0.15, 0.15, 40)
        x, y = pointing.pixels(ra, dec)
        wcs = fit_wcs(x, y, ra, dec, centre=(499.5, 399.5), start=(115.5, 61.29))
        px, py = wcs.pixel(ra, dec)
        self.assertLess(np.hypot(px - x, py - y).max(), 1e-7)
        self.assertAlmostEqual(wcs.scale_arcsec_px, 1.2, places=9)
        self.assertAlmostEqual(wcs.rotation_deg, 33.0, places=7)
        self.assertFalse(wcs.flipped)
        self.assertAlmostEqual(wcs.ra0, 115.53, places=9)

    def test_separation(self) -> None:
        self.assertAlmostEqual(float(separation_deg(0.0, 0.0, 90.0, 0.0)), 90.0)
        self.assertAlmostEqual(float(separation_deg(10.0, 89.999999, 190.0, 89.999999)) * 3600, 0.0072, places=6)
        self.assertAlmostEqual(float(separation_deg(0.0, 0.0, 180.0, 0.0)), 180.0)


class Catalogues(FolderCase):
    """CSV, tiles, proper motion."""

    def test_csv_and_tiles(self) -> None:
        path = self.folder / "c.csv"
        path.write_text("RA,Dec,mag,B,note\n10.0,5.0,12.0,12.5,x\n10.1,5.1,11.0,,y\nbad,5,1,1,z\n359.99,-5,9,9,w\n")
        catalogue = load_catalogue(path)
        self.assertEqual((len(catalogue), catalogue.epoch[0], sorted(catalogue.bands)), (3, 2016.0, ["B"]))
        self.assertEqual(list(catalogue.cone(10.05, 5.05, 1).mag), [11.0, 12.0])
        self.assertEqual(write_tiles([catalogue], self.folder / "tiles")[0], 3)
        write_tiles([catalogue], self.folder / "tiles")
        again = load_catalogue(self.folder / "tiles")
        self.assertEqual(len(again), 3, "nothing is doubled")
        self.assertEqual(sorted(again.ra), sorted(catalogue.ra))

    def test_only_tiles_near_are_read(self) -> None:
        rng = np.random.default_rng(12)
        ra, dec = rng.uniform(0, 360, 4000), np.degrees(np.arcsin(rng.uniform(-1, 1, 4000)))
        none = np.zeros(4000)
        write_tiles([StarCatalogue(ra, dec, none + 2016, none, none, rng.uniform(8, 15, 4000))], self.folder / "t")
        whole = load_catalogue(self.folder / "t")
        for at in ((115.0, 41.3, 3.0), (359.5, -20.0, 4.0), (0.2, 12.0, 4.0), (77.0, 88.0, 5.0), (10.0, -89.9, 3.0)):
            with self.subTest(at=at):
                part = load_catalogue(self.folder / "t", near=[at])
                self.assertLess(len(part), 0.15 * len(whole))
                inside = whole.cone(*at)
                self.assertGreater(len(inside), 0)
                np.testing.assert_array_equal(part.cone(*at).ra, inside.ra)
        both = load_catalogue(self.folder / "t", near=[(115.0, 41.3, 3.0), (10.0, -60.0, 3.0)])
        self.assertEqual(len(both.cone(10.0, -60.0, 3.0)), len(whole.cone(10.0, -60.0, 3.0)))
        (self.folder / "one").mkdir()
        write_tiles([whole.cone(115.0, 41.3, 3.0)], self.folder / "one")
        with self.assertRaisesRegex(CatalogueError, "does not cover"):
            load_catalogue(self.folder / "one", near=[(300.0, -50.0, 3.0)])
        kept(self, whole, part, inside, both)

    def test_bad_catalogues(self) -> None:
        for name, text, reason in (
            ("a.csv", "x,y\n1,2\n", "no ra and dec"),
            ("b.csv", "ra,dec\na,b\n", "no row"),
            ("c.csv", "", "no ra and dec"),
        ):
            (self.folder / name).write_text(text)
            with self.assertRaisesRegex(CatalogueError, reason):
                load_catalogue(self.folder / name)
        with self.assertRaisesRegex(CatalogueError, "no such file"):
            load_catalogue(self.folder / "none.csv")
        (self.folder / "empty").mkdir()
        with self.assertRaisesRegex(CatalogueError, "no catalogue tiles"):
            load_catalogue(self.folder / "empty")

    def test_proper_motion(self) -> None:
        star = StarCatalogue(*(np.array([v]) for v in (100.0, 60.0, 2016.0, 1000.0, -500.0, 10.0)))
        moved = star.at_epoch(2026.0)
        self.assertAlmostEqual(float(moved.dec[0]) - 60.0, -5.0 / 3600, delta=2e-7)
        self.assertAlmostEqual((float(moved.ra[0]) - 100.0) * math.cos(math.radians(60)), 10.0 / 3600, delta=2e-7)


class Solver(unittest.TestCase):
    """Fields of a made-up sky at any rotation; strange fields never solve."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.sky = make_sky(np.random.default_rng(41))
        cls.catalogue = catalogue_of(cls.sky)

    def field(self, rng: np.random.Generator, pointing: Pointing, faintest: float = 17.0):  # type: ignore[no-untyped-def]
        x, y = pointing.pixels(self.sky.ra, self.sky.dec)
        seen = (x > 0) & (y > 0) & (x < pointing.width) & (y < pointing.height) & (faintest > self.sky.V)
        seen &= rng.random(len(x)) > 0.1
        order = np.argsort(self.sky.V[seen] + rng.normal(0, 0.1, seen.sum()))
        snr = 10 ** (-0.4 * (self.sky.V[seen][order] - 18.0)) * 5
        noise = 0.5 / np.maximum(snr, 5)
        return x[seen][order] + rng.normal(0, noise), y[seen][order] + rng.normal(0, noise), snr

    def test_hinted_fields(self) -> None:
        rng = np.random.default_rng(42)
        for trial in range(10):
            pointing = Pointing(
                115.53 + rng.uniform(-0.3, 0.3), 41.3 + rng.uniform(-0.25, 0.25), rng.uniform(0.9, 1.6), rng.uniform(0, 360),
                1000, 750, mirrored=trial % 4 == 0, distortion_px=1.2,
            )  # fmt: skip
            x, y, snr = self.field(rng, pointing)
            hints = SolveHints(115.53, 41.3, 0.5, 0.8, 1.8, 2016.0)
            solved = solve_plate(x, y, snr, (750, 1000), self.catalogue, hints)
            self.assertIsInstance(solved, PlateSolution, f"trial {trial}: {solved}")
            ra, dec = solved.wcs.sky(499.5, 374.5)
            off = separation_deg(ra, dec, pointing.ra_deg, pointing.dec_deg) * 3600
            # A hundred stars of about 0.05 px: the centre is known to a hundredth of a pixel.
            self.assertLess(float(off), 0.1 * pointing.scale_arcsec_px)
            # Distortion of 1.2 px in 625 may stand in the linear part where stars are too few for SIP terms.
            self.assertLess(abs(solved.wcs.scale_arcsec_px / pointing.scale_arcsec_px - 1), 2e-3)
            self.assertEqual(solved.wcs.flipped, pointing.mirrored)
            turned = (solved.wcs.rotation_deg - pointing.rotation_deg + 180) % 360 - 180
            self.assertLess(abs(turned), 0.02)
            self.assertLess(solved.rms_arcsec / pointing.scale_arcsec_px, 0.1)

    def test_wrong_hint_still_finds_the_right_place(self) -> None:
        rng = np.random.default_rng(43)
        pointing = Pointing(115.4, 41.2, 1.24, 77.0, 1000, 750)
        x, y, snr = self.field(rng, pointing)
        solved = solve_plate(x, y, snr, (750, 1000), self.catalogue, SolveHints(30.0, -10.0, 1.0, 1.1, 1.4))
        self.assertIsInstance(solved, PlateSolution)
        self.assertLess(float(separation_deg(solved.wcs.ra0, solved.wcs.dec0, 115.4, 41.2)), 1 / 3600)
        kept(self, pointing, solved, snr)

    def test_no_false_solution(self) -> None:
        rng = np.random.default_rng(44)
        for _ in range(2):
            x, y = rng.uniform(0, 1000, 120), rng.uniform(0, 750, 120)
            result = solve_plate(x, y, np.full(120, 50.0), (750, 1000), self.catalogue, SolveHints(115.53, 41.3, 0.3, 1.1, 1.4))
            self.assertIsInstance(result, Failed)
            self.assertIn("no match", result.reason)

    def test_reasons(self) -> None:
        few = solve_plate(np.arange(3.0), np.arange(3.0), np.ones(3), (100, 100), self.catalogue, SolveHints(None, None, 1, 1, 2))
        self.assertIn("too few stars: 3", few.reason)  # type: ignore[union-attr]
