"""Star-pattern matching and resampling against known transforms."""

import math
import unittest
from collections import Counter
from unittest import mock

import numpy as np
from bench.made_lists import make_trial, outcome
from tools.same import kept

from ulvar.engine import Failed
from ulvar.registration import Kernel, Transform, choose_map, fit_transform, match_stars, resample
from ulvar.registration import Resampling as How
from ulvar.registration.matching import Lookup, MatchOptions, _hypotheses, _likeliest, _log_chance, _triangles, _votes
from ulvar.simulation import Psf, add_stars


def affine(scale: float, angle: float, dx: float, dy: float, mirror: bool = False) -> np.ndarray:
    """Return a 2 x 3 matrix."""
    c, s = scale * math.cos(angle), scale * math.sin(angle)
    linear = np.array([[c, -s], [s, c]]) @ np.diag([-1.0 if mirror else 1.0, 1.0])
    return np.column_stack([linear, [dx, dy]])


class Matching(unittest.TestCase):
    """Any rotation, mirror, scale and shift; strange fields fail."""

    def scene(self, rng: np.random.Generator, matrix: np.ndarray, n: int = 90, spurious: float = 0.3, lost: float = 0.2):  # type: ignore[no-untyped-def]
        """Return source and target lists, brightest first, with stars missing and added on both sides."""
        truth = rng.uniform(0, 1000, (n, 2))
        flux = 10 ** rng.uniform(2, 5, n)
        target = truth @ matrix[:, :2].T + matrix[:, 2] + rng.normal(0, 0.05, (n, 2))
        lists = []
        for points in (truth, target):
            keep = rng.random(n) > lost
            low, high = points.min(axis=0), points.max(axis=0)
            extra = rng.uniform(low, high, (int(spurious * n), 2))
            joined = np.vstack([points[keep] + rng.normal(0, 0.05, (keep.sum(), 2)), extra])
            bright = np.concatenate([flux[keep] * np.exp(rng.normal(0, 0.2, keep.sum())), 10 ** rng.uniform(2, 5, len(extra))])
            lists.append(joined[np.argsort(-bright)])
        return lists

    def test_many_geometries(self) -> None:
        rng = np.random.default_rng(31)
        for trial in range(60):
            matrix = affine(rng.uniform(0.55, 1.8), rng.uniform(0, 2 * math.pi), *rng.uniform(-300, 300, 2), mirror=trial % 3 == 0)
            source, target = self.scene(rng, matrix)
            found = match_stars(source, target)
            self.assertIsInstance(found, Transform, f"trial {trial}: {found}")
            corner = np.array([0.0, 1000.0])
            x, y = found(corner, corner)
            wanted = np.column_stack([corner, corner]) @ matrix[:, :2].T + matrix[:, 2]
            # About 40 matched stars of 0.07 px: corners are known to 0.05 px; five times that is a wrong match.
            self.assertLess(np.hypot(x - wanted[:, 0], y - wanted[:, 1]).max(), 0.25)
            self.assertEqual(found.mirrored, trial % 3 == 0)

    def test_sparse_fields_match_rightly_or_fail(self) -> None:
        rng = np.random.default_rng(34)
        right = {False: 0, True: 0}
        for mirror in (False, True):
            for trial in range(40):
                matrix = affine(1.0, rng.uniform(0, 2 * math.pi), *rng.uniform(-50, 50, 2), mirror=mirror)
                source = rng.uniform(0, 1000, (6, 2))
                target = source @ matrix[:, :2].T + matrix[:, 2] + rng.normal(0, 0.05, (6, 2))
                found = match_stars(source, target)
                if not found:
                    continue
                self.assertIsInstance(found, Transform)
                self.assertGreaterEqual(found.matched, 4, f"{mirror} {trial}: a success is never empty")
                # Six stars of 0.05 px give a similarity to 0.03 px; a wrong one is off by the size of the field.
                x, y = found(source[:, 0], source[:, 1])
                wanted = source @ matrix[:, :2].T + matrix[:, 2]
                self.assertLess(np.hypot(x - wanted[:, 0], y - wanted[:, 1]).max(), 0.3, f"{mirror} {trial}")
                self.assertEqual(found.mirrored, mirror)
                right[mirror] += 1
        # Six stars are near the bound of chance: about a third of the fields pass it, mirrored or not.
        self.assertGreater(right[False], 5)
        self.assertGreater(right[True], 5, "a mirrored sky is as good as another")

    def test_unrelated_fields_never_match(self) -> None:
        rng = np.random.default_rng(32)
        for n in (8, 20, 60, 200):
            for _ in range(25):
                found = match_stars(rng.uniform(0, 1000, (n, 2)), rng.uniform(0, 1000, (n, 2)))
                self.assertIsInstance(found, Failed)
                self.assertIn("pattern", found.reason)

    def test_degenerate_lists(self) -> None:
        few = np.array([[1.0, 2.0], [3.0, 4.0]])
        line = np.column_stack([np.arange(30.0), np.arange(30.0)])
        many = np.random.default_rng(1).uniform(0, 100, (30, 2))
        self.assertIn("too few stars: 2", match_stars(few, many).reason)  # type: ignore[union-attr]
        self.assertIn("reference has too few", match_stars(many, few).reason)  # type: ignore[union-attr]
        self.assertIsInstance(match_stars(line, many), Failed)
        self.assertIsInstance(match_stars(np.zeros((10, 2)), many), Failed)

    def test_what_a_transform_tells_of_itself(self) -> None:
        for angle in (30.0, -75.0, 140.0):
            transform = Transform(affine(1.4, math.radians(angle), 5, -9))
            self.assertAlmostEqual(transform.rotation_deg, angle)
            # A step along x goes that far counter-clockwise.
            x, y = transform(np.array([0.0, 1.0]), np.array([0.0, 0.0]))
            self.assertAlmostEqual(math.degrees(math.atan2(y[1] - y[0], x[1] - x[0])), angle)
            self.assertAlmostEqual(transform.scale, 1.4)
            self.assertFalse(transform.mirrored)
            self.assertTrue(Transform(affine(1.4, math.radians(angle), 5, -9, True)).mirrored)

    def test_weights_of_a_fit(self) -> None:
        points = np.array([[0.0, 0], [100, 0], [0, 100], [100, 100], [50, 50]])
        moved = points + [3.0, -2.0]
        moved[4] += 8.0
        matrix = fit_transform(points, moved, weights=np.array([1, 1, 1, 1, 1e-9]))
        np.testing.assert_allclose(matrix[:, 2], [3.0, -2.0], atol=1e-6)
        self.assertGreater(abs(fit_transform(points, moved)[0, 2] - 3.0), 0.5)

    def test_transform_inverts(self) -> None:
        transform = Transform(affine(1.3, 0.7, 5, -9, True))
        x, y = transform.inverse()(*transform(np.array([3.0, 700.0]), np.array([-4.0, 20.0])))
        np.testing.assert_allclose([x, y], [[3, 700], [-4, 20]], atol=1e-9)
        self.assertAlmostEqual(transform.scale, 1.3)

    def test_fit_is_exact_on_exact_data(self) -> None:
        points = np.random.default_rng(2).uniform(0, 4000, (12, 2))
        for similarity in (False, True):
            for mirror in (False, True):
                matrix = affine(0.9, 2.0, 77, -3, mirror)
                mapped = points @ matrix[:, :2].T + matrix[:, 2]
                fitted = fit_transform(points, mapped, similarity=similarity, mirrored=mirror)
                np.testing.assert_allclose(fitted, matrix, atol=1e-9)
        with self.assertRaises(ValueError):
            fit_transform(points[:2], points[:2])


class Trials(unittest.TestCase):
    """Half the scale or twice, mirrored, a quarter in common, more noise than stars: matched rightly or not at all."""

    def test_random_pairs(self) -> None:
        found = Counter()
        for seed in range(120):
            trial = make_trial(seed)
            result = outcome(trial)
            self.assertNotEqual(result, "wrong", seed)
            if len(trial.common) >= 8:
                found[result] += 1
        # Of 2,000 pairs 0.3 % are refused (./run bench alignment).
        self.assertGreater(found["right"], 85)
        self.assertLessEqual(found["refused"], 2)

    def test_few_stars(self) -> None:
        rng = np.random.default_rng(8)
        right = {}
        for count in (4, 5, 6, 7, 8):
            right[count] = 0
            for _ in range(30):
                points = rng.uniform(0, 1000, (count, 2))
                matrix = affine(rng.uniform(0.6, 1.7), rng.uniform(0, 6.28), 200, 300, bool(rng.random() < 0.5))
                moved = points @ matrix[:, :2].T + matrix[:, 2] + rng.normal(0, 0.1, points.shape)
                result = match_stars(points, moved)
                if not isinstance(result, Failed):
                    self.assertLess(np.abs(result.matrix @ [500, 500, 1] - matrix @ [500, 500, 1]).max(), 1.0)
                    right[count] += 1
        # Four stars agree too easily by accident to be much of a pattern; from six on they hardly do.
        self.assertLess(right[4], 10)
        self.assertGreater(right[5], 10)
        self.assertTrue(all(right[n] >= 25 for n in (6, 7, 8)), right)


class Resampling(unittest.TestCase):
    """Lanczos keeps flux and place, and carries holes."""

    def setUp(self) -> None:
        self.image = np.zeros((160, 200))
        add_stars(self.image, np.array([60.3, 130.7]), np.array([70.2, 90.9]), np.array([1e5, 5e4]), Psf.with_fwhm(3.0))
        self.image = (self.image + 50).astype(np.float32)

    def test_whole_pixel_shift_is_exact(self) -> None:
        moved = resample(self.image, Transform(affine(1, 0, 7, -4)), self.image.shape)
        np.testing.assert_allclose(moved[20:-20, 20:-20], self.image[24:-16, 13:-27], rtol=1e-5)

    def test_flux_and_place_after_rotation_and_scale(self) -> None:
        for scale, angle in ((1.0, 0.3), (1.0, math.pi), (1.25, 1.0), (0.8, -0.5)):
            with self.subTest(scale=scale, angle=angle):
                transform = Transform(affine(scale, angle, 0, 0))
                x, y = transform(np.array([100.0]), np.array([80.0]))
                transform = Transform(affine(scale, angle, 160 - float(x[0]), 150 - float(y[0])))
                out = resample(self.image, transform, (300, 320))
                for sx, sy, flux in ((60.3, 70.2, 1e5), (130.7, 90.9, 5e4)):
                    cx, cy = (float(v[0]) for v in transform(np.array([sx]), np.array([sy])))
                    ys, xs = np.mgrid[round(cy) - 15 : round(cy) + 16, round(cx) - 15 : round(cx) + 16]
                    stamp = out[ys, xs] - 50 / scale**2
                    inside = np.hypot(xs - cx, ys - cy) < 13 * max(scale, 0.8)
                    total = float(stamp[inside].sum())
                    # Flux is kept to 0.1 %; the aperture misses less than that of the wings.
                    self.assertLess(abs(total / flux - 1), 0.002)
                    self.assertLess(abs((stamp * inside * xs).sum() / total - cx), 0.01)
                    self.assertLess(abs((stamp * inside * ys).sum() / total - cy), 0.01)

    def test_every_column_is_filled_whatever_the_width(self) -> None:
        """Nodes lie so many pixels apart: a width of one pixel more than a whole number of them has a column of its own."""
        data = np.random.default_rng(4).normal(100, 5, (150, 300)).astype(np.float32)
        ways = {
            "two passes": (Transform(affine(1.0, 0.01, 3.3, 4.6)), Kernel.LANCZOS3),
            "tap by tap": (Transform(affine(1.0, 0.6, 60.0, -40.0)), Kernel.LANCZOS3),
            "bilinear": (Transform(affine(1.0, 0.01, 3.3, 4.6)), Kernel.BILINEAR),
            "bent": (choose_map(*self.bent()), Kernel.LANCZOS3),
        }
        # What nobody writes is told by a number that no pixel has.
        with mock.patch("ulvar.registration.resample.np.empty", lambda shape, **kind: np.full(shape, 7e7, **kind)):
            for name, (way, kernel) in ways.items():
                whole = resample(data, way, (129, 280), How(kernel))
                for size in ((129, 65), (65, 129), (64, 193), (128, 64), (97, 257), (33, 241), (17, 1), (1, 9)):
                    part = resample(data, way, size, How(kernel))
                    with self.subTest(name, size=size):
                        self.assertFalse((part == 7e7).any())
                        # Nodes lie elsewhere, and places between them with them.
                        np.testing.assert_allclose(part, whole[: size[0], : size[1]], atol=0.2)

    def bent(self) -> tuple[np.ndarray, np.ndarray]:
        places = np.random.default_rng(2).uniform(0, 1, (200, 2)) * (300, 150)
        away = (places - (150, 75)) / 150
        return places, places + 1.5 * away * (away**2).sum(axis=1)[:, None] + (2.0, -3.0)

    def test_the_least_likely_accidents_come_first(self) -> None:
        """60 of 100 with chance 1/2 are (60 - 50) / sqrt(25 + 1) above the mean, 5 of 5 are 2.5 / 1.5."""
        target, candidates = np.zeros((10, 2)), np.arange(18.0).reshape(3, 2, 3)
        counted = np.array([5, 60, 5]), np.array([5, 100, 10])
        with mock.patch("ulvar.registration._kernels_matching.count_pairs", return_value=counted):
            found = _likeliest(candidates, target, Lookup.of(target, 3.0), target, 1e-3, MatchOptions())
        np.testing.assert_array_equal(found, candidates[[1, 0, 2]])
        for matched, tried, chance in ((0, 9, 1.0), (1, 3, 1 - 0.8**3), (3, 3, 0.2**3), (4, 3, 0.0)):
            self.assertAlmostEqual(math.exp(_log_chance(matched, tried, 0.2)), chance)

    def test_what_triangles_propose(self) -> None:
        rng = np.random.default_rng(12)
        source = rng.uniform(0, (900, 600), (40, 2))
        turned = source @ np.array([[0.8, -0.6], [0.6, 0.8]]) * 1.02 + (30.0, 80.0) + rng.normal(0, 0.3, (40, 2))
        for mirror in (1.0, -1.0):
            found = _hypotheses(source, turned * (mirror, 1.0), 6, MatchOptions())
            self.assertLess(np.abs(found[0, :, :2] - 1.02 * np.array([[0.8 * mirror, 0.6 * mirror], [-0.6, 0.8]])).max(), 0.02)
            kept(self, found, _votes(found.reshape(len(found), 6)[:, :5] / 0.01), _triangles(source.tobytes(), 6)[0])

    def test_a_transform_to_nowhere_gives_no_pixel(self) -> None:
        data = np.ones((40, 50), dtype=np.float32)
        for value in (np.nan, np.inf, 1e300, -1e300):
            for place in ((0, 2), (1, 2)):
                matrix = np.array([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])
                matrix[place] = value
                nowhere = Transform(matrix)
                with np.errstate(all="ignore"), mock.patch.object(Transform, "inverse", lambda self: self):
                    self.assertTrue(np.isnan(resample(data, nowhere, (40, 50))).all())

    def test_holes_and_outside_are_nan(self) -> None:
        self.image[100:110, 30:40] = np.nan
        self.image[20, 20] = np.nan
        out = resample(self.image, Transform(affine(1, 0, 0.4, 0.3)), (200, 240))
        self.assertTrue(np.isnan(out[105, 35]))
        self.assertTrue(np.isnan(out[190, 230]))
        self.assertTrue(np.isfinite(out[24, 26]))
        self.assertFalse(np.isnan(out[40:60, 100:150]).any())
