"""Plates of unknown place on a whole made-up sky: the index, what is looked up in it, how it is weighed, and what comes of it."""

import itertools
import json
import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from tools.cases import FolderCase
from tools.same import kept

from ulvar.astrometry import (
    ANY_SCALE,
    PlateSolution,
    Sky,
    SolveHints,
    StarCatalogue,
    Wcs,
    WholeSky,
    _kernels,
    _kernels_search,
    build_index,
    has_index,
    index_catalogue,
    load_catalogue,
    separation_deg,
    solve_plate,
    tangent_plane,
    write_tiles,
)
from ulvar.astrometry.fitting import _MODELS, _PLAIN, _best_model
from ulvar.astrometry.index import open_index, write_index
from ulvar.astrometry.search import Limits
from ulvar.astrometry.sphere import unit_vectors
from ulvar.astrometry.wcsfit import fit_radial_wcs
from ulvar.engine import Failed

SIZES = (0.66666, 1.33333, 2.66666, 5.33333)


def made_sky(count: int = 30_000, seed: int = 5) -> StarCatalogue:
    """Return stars all over the sky, fainter ones in greater numbers."""
    rng = np.random.default_rng(seed)
    none = np.zeros(count)
    return StarCatalogue(
        rng.uniform(0, 360, count), np.degrees(np.arcsin(rng.uniform(-1, 1, count))), none + 2016.0, none, none,
        10 + 2 * np.log10(rng.uniform(1e-4, 1, count)),
    )  # fmt: skip


class WholeSkyCase(FolderCase):
    """A sky that is indexed once."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.catalogue = made_sky()
        cls.index = build_index(cls.catalogue, sizes_deg=SIZES, threads=2)
        cls.sky = Sky(cls.catalogue.cone, cls.index)

    def frame(self, rng: np.random.Generator, wcs: Wcs, shape: tuple[int, int]) -> tuple[np.ndarray, np.ndarray]:
        """Return stars that a frame shows, the brightest first: with errors, some missing, some false."""
        height, width = shape
        radius = math.degrees(math.atan(math.radians(0.6 * math.hypot(*shape) * wcs.scale_arcsec_px / 3600)))
        near = self.catalogue.cone(*(float(v) for v in wcs.sky((width - 1) / 2, (height - 1) / 2)), radius)
        x, y = wcs.pixel(near.ra, near.dec)
        seen = (x > 0) & (y > 0) & (x < width - 1) & (y < height - 1) & (rng.random(len(x)) > 0.1)
        x, y, mag = x[seen], y[seen], near.mag[seen]
        extra = len(x) // 4
        x = np.append(x + rng.normal(0, 0.3, len(x)), rng.uniform(0, width, extra))
        y = np.append(y + rng.normal(0, 0.3, len(y)), rng.uniform(0, height, extra))
        order = np.argsort(np.append(mag, rng.choice(mag, extra)) + rng.normal(0, 0.2, len(x)))
        return x[order], y[order]

    def solved(self, x: np.ndarray, y: np.ndarray, shape: tuple[int, int], **hints: object) -> PlateSolution | Failed:
        told = {
            "ra": None, "dec": None, "radius_deg": 1.0, "scale_low": ANY_SCALE[0], "scale_high": ANY_SCALE[1],
        } | hints  # fmt: skip
        return solve_plate(x, y, np.full(len(x), 40.0), shape, self.sky, SolveHints(**told))  # type: ignore[arg-type]


def turned(scale_arcsec: float, angle_deg: float, mirror: int) -> np.ndarray:
    """Return the matrix of a frame that is turned, and as the sky is seen (-1) or mirrored (1)."""
    c, s = math.cos(math.radians(angle_deg)), math.sin(math.radians(angle_deg))
    return np.array([[mirror * c, -s], [mirror * s, c]]) * scale_arcsec / 3600


class Fields(WholeSkyCase):
    def test_anywhere_at_any_turn_and_parity(self) -> None:
        rng = np.random.default_rng(6)
        places = (
            (0.02, 3.0), (359.99, -41.0), (120.0, 89.7), (77.0, -88.9), (200.0, 55.0), (31.0, -12.0), (275.0, 20.0), (90.0, -66.0),
        )  # fmt: skip
        for k, (ra, dec) in enumerate(places):
            width, height = ((1500, 1000), (1000, 1000), (900, 1300))[k % 3]
            scale, mirror = (12.0, 17.0, 40.0, 25.0)[k % 4], (-1, 1)[k // 2 % 2]
            wcs = Wcs(ra, dec, (width - 1) / 2, (height - 1) / 2, turned(scale, 47.0 * k, mirror))
            x, y = self.frame(rng, wcs, (height, width))
            with self.subTest(ra=ra, dec=dec, stars=len(x)):
                found = self.solved(x, y, (height, width))
                assert isinstance(found, PlateSolution), found
                px, py = np.array([0.0, width - 1, 0.5 * width]), np.array([0.0, 0.0, 0.5 * height])
                off = separation_deg(*found.wcs.sky(px, py), *wcs.sky(px, py)) * 3600 / scale
                # At a corner of a linear fit both axes are off by 3.7 times the error of a star over the root of their number.
                self.assertLess(float(off.max()), 12 * 0.3 / math.sqrt(found.matched))
                self.assertEqual(found.wcs.flipped, wcs.flipped)
                self.assertLess(abs(found.rms_arcsec / scale / 0.3 - 1), 0.35)
                self.assertGreater(found.log_odds, math.log(1e11))
        kept(self, found)

    def test_a_bent_field_is_right_in_its_corners(self) -> None:
        rng = np.random.default_rng(7)
        bent = 8.0 / 900**2 / 900
        wcs = Wcs(
            150.0, 30.0, 749.5, 499.5, turned(60.0, 20.0, -1), {(3, 0): bent, (1, 2): bent}, {(2, 1): bent, (0, 3): bent}
        )  # fmt: skip
        x, y = self.frame(rng, wcs, (1000, 1500))
        found = self.solved(x, y, (1000, 1500))
        assert isinstance(found, PlateSolution), found
        self.assertGreaterEqual(found.order, 2)
        px, py = np.array([0.0, 1499, 0, 1499, 749]), np.array([0.0, 0, 999, 999, 499])
        off = separation_deg(*found.wcs.sky(px, py), *wcs.sky(px, py)) * 60
        self.assertLess(float(off.max()), 0.5)
        kept(self, found)

    def test_what_is_known_is_kept_to(self) -> None:
        rng = np.random.default_rng(8)
        wcs = Wcs(150.0, 30.0, 749.5, 499.5, turned(15.0, 20.0, -1))
        x, y = self.frame(rng, wcs, (1000, 1500))
        shape = (1000, 1500)
        near = self.solved(x, y, shape, ra=150.5, dec=30.0, scale_low=12.0, scale_high=18.0)
        assert isinstance(near, PlateSolution)
        # A wrong place is left, a firm scale is not.
        self.assertIsInstance(self.solved(x, y, shape, ra=20.0, dec=-60.0), PlateSolution)
        wrong = self.solved(x, y, shape, scale_low=3.0, scale_high=5.0)
        assert isinstance(wrong, Failed)
        self.assertIn("its scale is 15 arcsec/px", wrong.reason)
        self.assertIn("outside of the 3 to 5 asked for", wrong.reason)
        soft = self.solved(x, y, shape, scale_low=3.0, scale_high=5.0, firm_scale=False)
        assert isinstance(soft, PlateSolution)
        self.assertAlmostEqual(soft.wcs.scale_arcsec_px, 15.0, delta=0.02)
        kept(self, near, wrong, soft)

    def test_time_is_kept_to_and_told(self) -> None:
        rng = np.random.default_rng(9)
        x, y = rng.uniform(0, 1500, 80), rng.uniform(0, 1000, 80)
        found = self.solved(x, y, (1000, 1500), seconds=1e-6)
        assert isinstance(found, Failed)
        self.assertRegex(found.reason, r"no match in 1e-06 s: patterns of the 0 brightest of 80 stars")

    def test_what_is_of_no_place_stays_unsolved(self) -> None:
        rng = np.random.default_rng(10)
        wcs = Wcs(100.0, 10.0, 749.5, 499.5, turned(30.0, 20.0, -1))
        x, y = self.frame(rng, wcs, (1000, 1500))
        for kind, (px, py) in (
            ("noise", (rng.uniform(0, 1500, 90), rng.uniform(0, 1000, 90))),
            ("sheared", ((x + 0.25 * y) / 1.2, y)),
            ("columns", (rng.choice([100.0, 400.0, 1100.0], 90), rng.uniform(0, 1000, 90))),
        ):
            with self.subTest(kind):
                found = self.solved(px, py, (1000, 1500), seconds=1.0)
                self.assertIsInstance(found, Failed, found)

    def test_what_is_burnt_into_a_corner_does_not_hide_the_sky(self) -> None:
        rng = np.random.default_rng(15)
        wcs = Wcs(220.0, -35.0, 749.5, 499.5, turned(20.0, 130.0, -1))
        x, y = self.frame(rng, wcs, (1000, 1500))
        # Words are brighter than any star, and many.
        x, y = np.append(rng.uniform(20, 400, 200), x), np.append(rng.uniform(10, 60, 200), y)
        found = self.solved(x, y, (1000, 1500))
        assert isinstance(found, PlateSolution), found
        self.assertLess(float(separation_deg(*found.wcs.sky(749.5, 499.5), 220.0, -35.0)) * 3600, 10.0)
        kept(self, found)

    def test_two_stars_beside_the_pattern_are_an_accident(self) -> None:
        """A pattern and two more stars where the catalogue has them weigh 10^9 to 1 in a narrow field, and are no hypothesis yet."""
        rng = np.random.default_rng(16)
        index = self.index
        narrow = np.flatnonzero(index.lengths < math.radians(1.0))
        done = set()
        for q, wanted in itertools.product(narrow, (2, 4)):
            if len(done) == 2:
                break
            four = index.stars[q]
            ra, dec = float(index.ra[four[0]]), float(index.dec[four[0]])
            wcs = Wcs(ra, dec, 0.0, 0.0, turned(3600 * math.degrees(index.lengths[q]) / 1600, 25.0, -1))
            near = np.argsort(separation_deg(index.ra, index.dec, ra, dec))
            px, py = wcs.pixel(index.ra[near[:400]], index.dec[near[:400]])
            inside = near[:400][(np.abs(px) < 1990) & (np.abs(py) < 1490)]
            rest = [s for s in inside if s not in four][:wanted]
            if len([s for s in inside if s not in four]) < 4:
                continue
            done.add(wanted)
            x, y = wcs.pixel(index.ra[[*four, *rest]], index.dec[[*four, *rest]])
            x, y = np.append(x, rng.uniform(-2000, 2000, 60)), np.append(y, rng.uniform(-1500, 1500, 60))
            scale = wcs.scale_arcsec_px
            limits = Limits(0.9 * scale, 1.1 * scale, (ra, dec, 0.5))
            told = [h for newest in (3, 4, 5) for h in self.sky.packed.look_up(x, y, (3000, 4000), newest, (0, newest), 0.003, limits)]
            self.assertEqual(bool(told), wanted > 2)
        self.assertEqual(done, {2, 4})

    def test_a_sparse_catalogue_says_so(self) -> None:
        rng = np.random.default_rng(11)
        wcs = Wcs(150.0, 30.0, 749.5, 499.5, turned(15.0, 20.0, -1))
        x, y = self.frame(rng, wcs, (1000, 1500))
        thin = self.catalogue.select(np.arange(0, len(self.catalogue), 60))
        hints = SolveHints(150.0, 30.0, 0.5, 12.0, 18.0, seconds=1.0)
        found = solve_plate(x, y, np.full(len(x), 40.0), (1000, 1500), thin, hints)
        assert isinstance(found, Failed)
        self.assertRegex(found.reason, "not deep enough|does not cover|no pattern")
        kept(self, thin, found)


class Index(WholeSkyCase):
    def test_patterns_are_what_they_are_filed_as(self) -> None:
        """Each code and length, worked out anew the plain way, and each in its own bin."""
        rng = np.random.default_rng(12)
        index = self.index
        self.assertGreater(len(index.stars), 20_000)
        bins = index.bins
        for q in rng.integers(0, len(index.stars), 300):
            a, b, c, d = index.stars[q]
            toward = index.vec[a] + index.vec[b]
            ra0, dec0 = (
                math.degrees(math.atan2(toward[1], toward[0])),
                math.degrees(math.atan2(toward[2], math.hypot(toward[0], toward[1]))),
            )
            xi, eta = tangent_plane(index.ra[[a, b, c, d]], index.dec[[a, b, c, d]], ra0, dec0)
            z = xi + 1j * eta
            inner = [(z[2] - z[0]) / (z[1] - z[0]), (z[3] - z[0]) / (z[1] - z[0])]
            code = np.array([inner[0].real, inner[0].imag + 0.5, inner[1].real, inner[1].imag + 0.5])
            np.testing.assert_allclose(index.codes[q] / 65535, np.clip(code, 0, 1), atol=2e-5)
            self.assertLessEqual(inner[0].real + inner[1].real, 1 + 1e-6)
            self.assertLessEqual(inner[0].real, inner[1].real + 1e-6)
            length = float(separation_deg(index.ra[a], index.dec[a], index.ra[b], index.dec[b]))
            self.assertAlmostEqual(math.degrees(index.lengths[q]), length, delta=1e-5 * length)
            row = 0
            for value in code:
                row = row * bins + min(bins - 1, max(0, int(value * bins + 1e-7)))
            where = np.searchsorted(index.starts, q, side="right") - 1
            self.assertIn(row - where, (-1, 0, 1, bins, -bins, bins**2, -(bins**2), bins**3, -(bins**3)))
        self.assertEqual((index.starts[0], index.starts[-1]), (0, len(index.stars)))

    def test_every_part_of_the_sky_has_patterns_of_every_size(self) -> None:
        lengths = np.degrees(self.index.lengths)
        middles = self.index.vec[self.index.stars[:, 0]] + self.index.vec[self.index.stars[:, 1]]
        eighth = (middles > 0) @ np.array([1, 2, 4])
        for size in SIZES[1:]:
            of_size = (lengths >= size) & (lengths < 2 * size)
            counts = np.bincount(eighth[of_size], minlength=8)
            self.assertGreater(counts.min(), 0.8 * counts.mean())
        # The brightest of a cell serve in a few of its patterns each.
        uses = np.bincount(self.index.stars.ravel(), minlength=len(self.index.ra))
        self.assertLess(uses.max(), 5 * 9 * len(SIZES))

    @given(st.floats(0, 360), st.floats(-90, 90), st.floats(0.1, 12))
    @settings(max_examples=60, deadline=None)
    def test_stars_about_a_place(self, ra: float, dec: float, radius: float) -> None:
        band = self.index.bands[1]
        toward = unit_vectors(np.array([ra]), np.array([dec]))[0]
        rows = np.zeros(5000, dtype=np.int64)
        count = _kernels.gather(
            toward, math.radians(radius), math.radians(band.size_deg), band.zones, band.right, band.star, self.index.vec, rows
        )  # fmt: skip
        away = separation_deg(self.index.ra[band.star], self.index.dec[band.star], ra, dec)
        sure = set(np.flatnonzero(away < radius - 1e-6))
        self.assertLessEqual(sure, set(rows[:count]))
        self.assertLessEqual(set(rows[:count]), set(np.flatnonzero(away < radius + 1e-6)))
        self.assertEqual(len(set(rows[:count])), count)

    def test_kept_on_disk(self) -> None:
        place = self.folder / "c"
        place.mkdir()
        write_index(self.index, place, "a")
        again = open_index(place, "a")
        assert again is not None
        np.testing.assert_array_equal(again.stars, self.index.stars)
        np.testing.assert_array_equal(again.bands[2].right, self.index.bands[2].right)
        self.assertIsNone(open_index(place, "b"), "an index of another state of the catalogue")
        write_index(self.index, place, "b")
        self.assertIsNotNone(open_index(place, "b"))
        self.assertEqual(sorted(p.name for p in place.iterdir()), ["index"])
        told = json.loads((place / "index" / "index.json").read_text())
        self.assertEqual(told["patterns"], len(self.index.stars))
        (place / "index" / "codes.npy").write_bytes(b"short")
        self.assertIsNone(open_index(place, "b"))

    def test_too_few_stars_make_no_pattern(self) -> None:
        few = self.catalogue.select(np.arange(3))
        for stars in (few, self.catalogue.select(np.arange(0))):
            self.assertEqual(len(build_index(stars, sizes_deg=SIZES).stars), 0)


class OnDisk(WholeSkyCase):
    def test_a_folder_of_tiles(self) -> None:
        place = self.folder / "tiles"
        write_tiles([self.catalogue], place)
        self.assertFalse(has_index(str(place)))
        stars, patterns = index_catalogue(str(place))
        self.assertTrue(has_index(str(place)))
        self.assertGreater(patterns, stars / 2)
        sky = WholeSky.of(str(place)).sky()
        for ra, dec, radius in ((0.1, 89.5, 2.0), (359.9, -3.0, 1.5), (359.8, -3.2, 1.2), (150.0, 30.0, 4.0)):
            near, plain = sky.cone(ra, dec, radius), self.catalogue.cone(ra, dec, radius)
            np.testing.assert_array_equal(np.sort(near.ra), np.sort(plain.ra))
            self.assertTrue((np.diff(near.mag) >= 0).all())
        write_tiles([StarCatalogue(*(np.array([v]) for v in (10.0, 20.0, 2016.0, 0.0, 0.0, 5.0)))], place)
        self.assertFalse(has_index(str(place)), "a star was added")
        self.assertEqual(len(load_catalogue(place)), len(self.catalogue) + 1)
        kept(self, near, plain)


class Weighing(unittest.TestCase):
    def weighed(self, x: np.ndarray, y: np.ndarray, rx: np.ndarray, ry: np.ndarray, spread: float, skipped: np.ndarray) -> tuple[float, np.ndarray]:  # fmt: skip
        partner = np.zeros(len(x), dtype=np.int64)
        odds = _kernels_search.log_odds(
            x, y, np.full(len(x), spread), skipped, rx, ry, len(rx), 1e6, np.zeros(len(rx), dtype=np.bool_), partner
        )
        return odds, partner

    def test_against_the_plain_way(self) -> None:
        rng = np.random.default_rng(13)
        for _ in range(40):
            n, m = rng.integers(3, 40, 2)
            rx, ry = rng.uniform(0, 1000, m), rng.uniform(0, 1000, m)
            x, y = rng.uniform(0, 1000, n), rng.uniform(0, 1000, n)
            both = min(n, m) // 2
            x[:both], y[:both] = rx[:both] + rng.normal(0, 2, both), ry[:both] + rng.normal(0, 2, both)
            skipped = rng.random(n) < 0.2
            total, best, free = 0.0, 0.0, set(range(m))
            for i in range(n):
                if skipped[i]:
                    continue
                away = {k: math.hypot(x[i] - rx[k], y[i] - ry[k]) for k in free}
                k = min(away, key=away.get) if away else -1  # type: ignore[arg-type]
                odds = 0.25
                if k >= 0 and away[k] < 5 * 2.0:
                    odds += 0.75 / m * 1e6 / (2 * math.pi * 4.0) * math.exp(-0.5 * away[k] ** 2 / 4.0)
                if odds > 1:
                    free.discard(k)
                total += math.log(odds)
                best = max(best, total)
                if total < -35:
                    break
            self.assertAlmostEqual(self.weighed(x, y, rx, ry, 2.0, skipped)[0], best, places=9)

    def test_a_star_answers_once(self) -> None:
        at = np.full(6, 500.0)
        odds, partner = self.weighed(at, at, np.array([500.0]), np.array([500.0]), 1.0, np.zeros(6, dtype=np.bool_))
        self.assertEqual(partner.tolist(), [0, -1, -1, -1, -1, -1])
        self.assertAlmostEqual(odds, math.log(0.25 + 0.75 * 1e6 / (2 * math.pi)), places=9)


class Models(unittest.TestCase):
    def stars(self, wcs: Wcs, count: int, noise: float) -> tuple[np.ndarray, ...]:
        rng = np.random.default_rng(14)
        x, y = rng.uniform(0, 1500, count), rng.uniform(0, 1000, count)
        ra, dec = wcs.sky(x, y)
        return x + rng.normal(0, noise, count), y + rng.normal(0, noise, count), ra, dec

    def test_one_radial_term_is_found_exactly(self) -> None:
        k = 6e-9
        wcs = Wcs(40.0, 70.0, 749.5, 499.5, turned(9.0, 33.0, -1), {(3, 0): k, (1, 2): k}, {(2, 1): k, (0, 3): k})
        x, y, ra, dec = self.stars(wcs, 12, 0.0)
        found = fit_radial_wcs(x, y, ra, dec, centre=(749.5, 499.5), start=(40.2, 70.1))
        self.assertAlmostEqual(found.sip_a[3, 0] / k, 1, places=6)
        np.testing.assert_allclose(found.cd, wcs.cd, rtol=1e-9)
        self.assertLess(float(separation_deg(found.ra0, found.dec0, 40.0, 70.0)), 1e-9)
        self.assertRaises(ValueError, fit_radial_wcs, x[:3], y[:3], ra[:3], dec[:3], centre=(0, 0), start=(40, 70))

    def test_stars_left_out_are_foretold_as_by_the_fit_of_the_others(self) -> None:
        start, centre = (40.0, 70.0), (749.5, 499.5)
        bent = Wcs(*start, *centre, turned(9.0, 33.0, -1), {(3, 0): 6e-9, (1, 2): 5e-9}, {(0, 2): -1e-6})
        x, y, ra, dec = self.stars(bent, 90, 0.3)
        w, folds = np.random.default_rng(2).uniform(0.5, 2, 90), np.arange(90) % 5
        for model in _MODELS:
            away = model.left_out(
                (x - centre[0]) / 750, (y - centre[1]) / 750, np.column_stack(tangent_plane(ra, dec, *start)), w, folds, bent.cd * 750,
            ) @ np.linalg.inv(bent.cd).T  # fmt: skip
            for fold in range(5):
                use, test = folds != fold, folds == fold
                wcs = model.fit(x[use], y[use], ra[use], dec[use], centre, start, w[use] ** 2)
                px, py = wcs.pixel(ra[test], dec[test])
                np.testing.assert_allclose(away[test], np.column_stack([px - x[test], py - y[test]]) * w[test, None], rtol=0.04, atol=0.005)
        kept(self, bent, away)

    def test_the_simplest_that_foretells(self) -> None:
        start, centre = (40.0, 70.0), (749.5, 499.5)
        k = 6e-9
        plain = Wcs(*start, *centre, turned(9.0, 33.0, -1))
        radial = Wcs(*start, *centre, plain.cd, {(3, 0): k, (1, 2): k}, {(2, 1): k, (0, 3): k})
        tilted = Wcs(*start, *centre, plain.cd, {(2, 0): 4e-6}, {(0, 2): -5e-6, (1, 1): 3e-6})
        for wcs, order, lens in ((plain, 1, False), (radial, 3, True), (tilted, 2, False)):
            x, y, ra, dec = self.stars(wcs, 40, 0.2)
            model = _best_model(x, y, ra, dec, centre, start, np.ones(40))
            self.assertEqual((model.order, model.radial), (order, lens))
        few = tuple(v[:9] for v in self.stars(tilted, 40, 0.2))
        self.assertIs(_best_model(*few, centre, start, np.ones(9)), _PLAIN)
