"""Maps that bend: which kind is taken, how well it follows, and what resampling makes of it."""

import math
import unittest

import numpy as np
from scipy.spatial import cKDTree
from tools.same import kept

from tests.registration.test_registration import affine
from ulvar.engine import Failed
from ulvar.registration import Fit, PixelMap, Transform, choose_map, map_values, match_stars, resample, stored_map
from ulvar.registration.bent import Polynomial, Projective
from ulvar.registration.refining import refine
from ulvar.simulation import Psf, add_stars

SIZE = np.array([1500.0, 1000.0])
_KINDS = ("shift", "similarity", "affine", "projective", "quadratic", "cubic")


def distorted(points: np.ndarray, strength: float, centre: np.ndarray = SIZE / 2) -> np.ndarray:
    """Return points moved outwards by the cube of their distance, by `strength` pixels at 900 px."""
    away = points - centre
    return points + strength * away * ((away**2).sum(axis=1) / 900**2)[:, None] / 900


def tilted(points: np.ndarray) -> np.ndarray:
    """Return points as a plane shows them that is seen a little from the side."""
    x, y = points.T
    below = 1 + 2e-5 * x - 1e-5 * y
    return np.column_stack([(1.001 * x + 0.01 * y + 20) / below, (-0.01 * x + 0.999 * y - 15) / below])


def swept(points: np.ndarray) -> np.ndarray:
    """Return points of a field that is bent like a bow."""
    x, y = (points - SIZE / 2).T / 900
    return points + np.column_stack([3.0 * x * y + 12, 4.0 * x**2 - 7])


def lists(truth: object, seed: int = 3, n: int = 160, noise: float = 0.05) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return two lists with stars missing and added on both sides, and true places in the source."""
    rng = np.random.default_rng(seed)
    places = rng.uniform(0, 1, (n, 2)) * SIZE
    found = []
    for points in (places, truth(places)):  # type: ignore[operator]
        keep = rng.random(n) > 0.15
        more = rng.uniform(points.min(axis=0), points.max(axis=0), (n // 5, 2))
        rows = np.vstack([points[keep] + rng.normal(0, noise, (keep.sum(), 2)), more])
        order = np.argsort(np.concatenate([np.flatnonzero(keep), rng.uniform(0, n, len(more))]), kind="stable")
        found.append(rows[order])
    return found[0], found[1], places


class Chosen(unittest.TestCase):
    def check(self, truth: object, kind: str, *, within: float, noise: float = 0.05) -> PixelMap:
        source, target, places = lists(truth, noise=noise)
        found = match_stars(source, target)
        if isinstance(found, Failed):
            self.fail(found.reason)
        self.assertEqual(found.kind, kind)
        wrong = np.column_stack(found(*places.T)) - truth(places)  # type: ignore[operator]
        self.assertLess(np.sqrt((wrong**2).mean()), within)
        back = np.column_stack(found.inverse()(*np.column_stack(found(*places.T)).T))
        np.testing.assert_allclose(back, places, atol=1e-5)
        return found

    # A fit of p numbers an axis to n stars of noise s is off by s sqrt(2 p / n): both lists have noise. Here n is 115.

    def test_a_shift(self) -> None:
        found = self.check(lambda p: p + (31.25, -18.5), "shift", within=0.015)
        self.assertLess([kind for kind, _ in found.fit.tried].index("shift"), 1)
        kept(self, found)

    def test_a_turned_field(self) -> None:
        matrix = affine(1.2, 0.7, 40, -300)
        self.check(lambda p: p @ matrix[:, :2].T + matrix[:, 2], "similarity", within=0.02)

    def test_a_turned_over_field(self) -> None:
        matrix = affine(0.9, 2.1, 1200, 100, mirror=True)
        self.check(lambda p: p @ matrix[:, :2].T + matrix[:, 2], "similarity", within=0.02)

    def test_a_field_squeezed_by_refraction(self) -> None:
        matrix = np.array([[1.0, 0.0004, 12.0], [0.0, 0.9990, -3.0]])
        self.check(lambda p: p @ matrix[:, :2].T + matrix[:, 2], "affine", within=0.025)

    def test_a_tilted_plane(self) -> None:
        self.check(tilted, "projective", within=0.03)

    def test_a_bow(self) -> None:
        self.check(swept, "quadratic", within=0.03)

    def test_optics_that_bend(self) -> None:
        found = self.check(lambda p: distorted(p, 6.0) @ affine(1, 0.3, 30, 5)[:, :2].T, "cubic", within=0.04)
        tried = dict(found.fit.tried)
        self.assertEqual(list(tried), list(_KINDS[1:]))
        self.assertGreater(tried["affine"], 5 * tried["cubic"])
        # What is foretold of a star is off by its own noise and the partner's.
        self.assertAlmostEqual(tried["cubic"], 0.05 * math.sqrt(2), delta=0.01)
        kept(self, found)

    def test_stars_that_an_affine_map_misses_are_paired_in_the_end(self) -> None:
        source, target, places = lists(lambda p: distorted(p, 9.0))
        found = match_stars(source, target)
        assert not isinstance(found, Failed)
        # Of 160 stars, 85 % are in each list.
        self.assertGreater(found.matched, 0.95 * 160 * 0.85**2)
        far = np.hypot(*(places - SIZE / 2).T) > 800
        wrong = np.column_stack(found(*places[far].T)) - distorted(places[far], 9.0)
        self.assertLess(np.abs(wrong).max(), 0.15)

    def test_where_stars_are_paired_in_one_corner_alone_nothing_bends(self) -> None:
        source, target, _ = lists(lambda p: distorted(p, 6.0), n=400)
        corner = (target < SIZE * 0.55).all(axis=1)
        found = match_stars(source, target[corner])
        assert not isinstance(found, Failed)
        self.assertIn(found.kind, ("shift", "similarity", "affine"))

    def test_weights_count(self) -> None:
        rng = np.random.default_rng(8)
        source = rng.uniform(0, 1000, (40, 2))
        target = source + (5.0, 7.0)
        target[:20] += rng.normal(0, 1e-3, (20, 2))
        target[20:] += rng.normal(0, 2.0, (20, 2))
        weights = np.where(np.arange(40) < 20, 1.0, 1e-8)
        found = choose_map(source, target, weights=weights)
        self.assertEqual(found.kind, "shift")
        x, y = found(np.array([0.0]), np.array([0.0]))
        # The mean of 20 places of 1e-3 px, beside which the others would move it by 0.4 px.
        self.assertAlmostEqual(x[0], 5.0, delta=1e-3)
        self.assertAlmostEqual(y[0], 7.0, delta=1e-3)

    def test_what_a_star_left_out_would_be_missed_by(self) -> None:
        """The short way to residuals of stars left out gives what fitting without each of them gives."""
        rng = np.random.default_rng(5)
        source = rng.uniform(0, 1000, (34, 2))
        target = tilted(source) + rng.normal(0, 0.3, (34, 2))
        weights = rng.uniform(0.5, 2, 34)
        found = choose_map(source, target, weights=weights)
        for kind, missed in found.fit.tried:
            one_by_one = []
            for i in range(34):
                rest = np.arange(34) != i
                other = _only(kind, source[rest], target[rest], weights[rest])
                one_by_one.append(target[i] - np.array(other(source[i, :1], source[i, 1:])).ravel())
            wanted = math.sqrt(float(np.average((np.array(one_by_one) ** 2).mean(axis=1), weights=weights)))
            # The projective fit is linear in no parameter; its hat matrix is true to first order.
            self.assertAlmostEqual(missed, wanted, delta=(2e-3 if kind == "projective" else 1e-6) * wanted, msg=kind)

    def test_each_kind_is_tried_from_so_many_pairs_on(self) -> None:
        points = np.random.default_rng(8).uniform(0, 1000, (30, 2))
        for kind, least in {"affine": 8, "projective": 12, "quadratic": 16, "cubic": 30}.items():
            for n in (least - 1, least):
                tried = choose_map(points[:n], points[:n] * 1.01).fit.tried
                self.assertEqual(kind in dict(tried), n == least, f"{kind} of {n}")

    def test_eight_pairs_carry_a_map_that_shears(self) -> None:
        # Without shear the best map would miss most of them by more than the tolerance.
        points = np.random.default_rng(8).uniform(0, 1, (8, 2)) * SIZE
        shear = np.array([[1.0, 0.02, 5.0], [0.01, 1.02, -3.0]])
        target = points @ shear[:, :2].T + shear[:, 2]
        found = refine(shear, points, target, cKDTree(target), None, None, tolerance_px=2.0, bent=False)
        assert not isinstance(found, Failed)
        self.assertEqual((found.kind, found.fit.matched), ("affine", 8))

    def test_too_few(self) -> None:
        two = np.array([[0.0, 0.0], [100.0, 0.0]])
        found = choose_map(two, two + (3.0, 4.0))
        x, _ = found(np.array([50.0]), np.array([50.0]))
        self.assertAlmostEqual(x[0], 53.0)
        with self.assertRaisesRegex(ValueError, "too few"):
            choose_map(two[:0], two[:0])


def _only(kind: str, source: np.ndarray, target: np.ndarray, weights: np.ndarray) -> PixelMap:
    """Fit one kind of map."""
    from ulvar.registration import choosing

    return {
        "shift": lambda: choosing._shift(source, target, weights),
        "similarity": lambda: choosing._linear(source, target, weights, "similarity", False),
        "affine": lambda: choosing._linear(source, target, weights, "affine", False),
        "projective": lambda: choosing._projective(source, target, weights),
        "quadratic": lambda: choosing._polynomial(source, target, weights, 2),
        "cubic": lambda: choosing._polynomial(source, target, weights, 3),
    }[kind]().map  # type: ignore[no-any-return, union-attr]


def bent_maps() -> list[PixelMap]:
    """Return one map of each kind."""
    rng = np.random.default_rng(2)
    places = rng.uniform(0, 1, (80, 2)) * SIZE
    made = [Transform(affine(1.1, 0.2, 5, 9)), Projective(np.array([[1, 0.01, 9], [0, 1, 3], [2e-5, 0, 1]]))]
    for order in (swept, lambda p: distorted(p, 5.0)):
        made.append(choose_map(places, order(places)))
    return made


class Kept(unittest.TestCase):
    def test_a_stored_map_comes_back(self) -> None:
        x, y = np.meshgrid(np.linspace(0, 1500, 5), np.linspace(0, 1000, 4))
        for given in bent_maps():
            back = stored_map(given.linear_at(0.0, 0.0), map_values(given), Fit(0.5, 7))
            self.assertEqual((back.kind, back.rms_px, back.matched), (given.kind, 0.5, 7))
            np.testing.assert_allclose(np.array(back(x, y)), np.array(given(x, y)), atol=1e-7)

    def test_a_spoiled_row_is_refused(self) -> None:
        cubic = map_values(bent_maps()[3])
        assert cubic is not None
        for change in (
            {"half": 0.0}, {"half": None}, {"coefficients": [[1.0]]}, {"kind": "other"}, {"kind": "projective"},
            {"centre": 3},
        ):  # fmt: skip
            with self.subTest(change=change), self.assertRaises(ValueError):
                stored_map([[1, 0, 0], [0, 1, 0]], {**cubic, **change})
        with self.assertRaises(ValueError):
            stored_map([[1, 0]], None)
        with self.assertRaises(ValueError):
            map_values(bent_maps()[3].inverse())

    def test_one_after_the_other(self) -> None:
        x, y = np.array([100.0, 1400.0]), np.array([900.0, 20.0])
        for first in bent_maps():
            for second in bent_maps():
                both = first.then(second)
                np.testing.assert_allclose(np.array(both(x, y)), np.array(second(*first(x, y))), rtol=1e-12)
                back = np.array(both.inverse()(*both(x, y)))
                np.testing.assert_allclose(back, [x, y], atol=1e-5)
                self.assertIs(both.fit, first.fit)
        kept(self, both)

    def test_slopes_and_areas(self) -> None:
        """An outward move of s r^3 / R^3 stretches by 1 + 3 s r^2 / R^3 along r and 1 + s r^2 / R^3 across it."""
        cubic = bent_maps()[3]
        self.assertIsInstance(cubic, Polynomial)
        r = 600.0
        area = cubic.area(np.array([SIZE[0] / 2 + r]), np.array([SIZE[1] / 2]))[0]
        bent = 5.0 * r**2 / 900**3
        self.assertAlmostEqual(area, (1 + 3 * bent) * (1 + bent), places=5)

    def test_a_place_that_nothing_is_carried_to(self) -> None:
        folds = Polynomial(np.array([[0, 100.0, 0, -400.0, 0, 0], [0, 0, 100.0, 0, 0, 0]]), (0.0, 0.0), 100.0)
        x, _ = folds.inverse()(np.array([0.0, 50.0]), np.array([0.0, 0.0]))
        self.assertAlmostEqual(x[0], 0.0, places=5)
        self.assertTrue(np.isnan(x[1]))


class Crossings(unittest.TestCase):
    """Where columns of one picture cross rows of the other; maps that lean are not for two passes."""

    def test_places(self) -> None:
        columns, rows = np.linspace(0, 1400, 8), np.linspace(10, 900, 6)
        lean = Transform(np.array([[1.02, 0.05, 7.0], [-0.04, 0.97, -3.0]]))
        for way in (lean, bent_maps()[3], bent_maps()[3].inverse(), bent_maps()[2].then(lean)):
            along = way.along_rows(columns, rows, 0.1)
            assert along is not None
            # A point of the column that is carried onto the row lies where it was said.
            for i, row in enumerate(rows):
                for j, column in enumerate(columns):
                    _, y = way.inverse()(np.array([along[i, j]]), np.array([row]))
                    x, back = way(np.array([column]), y)
                    self.assertAlmostEqual(x[0], along[i, j], places=5)
                    self.assertAlmostEqual(back[0], row, places=5)

    def test_what_leans(self) -> None:
        columns, rows = np.arange(0.0, 900, 300), np.arange(0.0, 600, 300)
        for matrix, leans in (
            ([[1, 0.09, 0], [0, 1, 0]], False), ([[1, 0.11, 0], [0, 1, 0]], True), ([[1, 0, 0], [-0.11, 1, 0]], True),
            ([[1, 0, 0], [0.09, 1, 0]], False), ([[1, 0, 0], [0, 0, 5]], True), (affine(1, 0.4, 0, 0), True),
        ):  # fmt: skip
            with self.subTest(matrix=matrix):
                along = Transform(np.array(matrix, dtype=float)).along_rows(columns, rows, 0.1)
                self.assertEqual(along is None, leans)
        # A bent map leans somewhere.
        places = np.random.default_rng(1).uniform(0, 1, (90, 2)) * SIZE
        strong = choose_map(places, distorted(places, 60.0))
        self.assertIsNone(strong.along_rows(np.linspace(0, 1500, 5), np.linspace(0, 1000, 5), 0.05))


class Resampled(unittest.TestCase):
    def test_stars_land_where_a_bent_map_says_with_their_light(self) -> None:
        """Also in the two-pass form, at the edges of the field, and mirrored."""
        rng = np.random.default_rng(4)
        shape, flux = (400, 640), 5e4
        half = np.array([640, 400]) / 2
        x, y = rng.uniform(30, 610, 40), rng.uniform(30, 370, 40)
        data = np.zeros(shape, dtype=np.float32)
        add_stars(data, x, y, np.full(40, flux), Psf(1.4, 0.0))
        places = rng.uniform(0, 1, (200, 2)) * half * 2
        flip = np.array([[-1.0, 0, 639.0], [0, 1.0, 0]])
        for name, linear in (("plain", np.eye(2, 3)), ("mirrored", flip), ("turned", affine(1, 1.2, 400, -80))):
            way = choose_map(places, distorted(places, 9.0, half) @ linear[:, :2].T + linear[:, 2])
            self.assertEqual(way.kind, "cubic")
            with self.subTest(name):
                warped = np.nan_to_num(resample(data, way, shape))
                checked = 0
                for u, v in zip(*way(x, y)):
                    if not (15 < u < 624 and 15 < v < 384):
                        continue
                    others = np.hypot(way(x, y)[0] - u, way(x, y)[1] - v)
                    if np.sort(others)[1] < 26:
                        continue
                    iu, iv = round(u), round(v)
                    box = warped[iv - 12 : iv + 13, iu - 12 : iu + 13].astype(float)
                    gy, gx = np.mgrid[-12:13, -12:13]
                    self.assertAlmostEqual(box.sum() / flux, 1.0, delta=1e-3)
                    self.assertAlmostEqual(iu + (gx * box).sum() / box.sum(), u, delta=0.005)
                    self.assertAlmostEqual(iv + (gy * box).sum() / box.sum(), v, delta=0.005)
                    checked += 1
                self.assertGreater(checked, 5)
        kept(self, way, warped)
