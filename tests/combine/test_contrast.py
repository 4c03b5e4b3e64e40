"""Rejection near stars: seeing that varies takes no light from them, particles still go."""

import unittest

import numpy as np
from tools.same import kept

from tests.combine.test_combine import Counted
from ulvar.combine import Combined, Method, Rejection, combine_sources, combine_stack
from ulvar.combine.contrast import local_contrast, taken_back
from ulvar.simulation import Psf, add_stars

COUNT, WIDTH, HEIGHT, NOISE = 30, 300, 120, 5.0
SPOT = (60, 50)


def series(seed: int = 1) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return exposures of five stars whose seeing drifts from 2.6 to 4.2 px in the last third, and where the stars are."""
    rng = np.random.default_rng(seed)
    x, y = np.linspace(40, WIDTH - 40, 5) + 0.3, np.full(5, HEIGHT / 2) - 0.2
    flux = np.array([3e3, 1e4, 3e4, 1e5, 3e5])
    widths = np.r_[np.full(20, 2.6) + rng.normal(0, 0.05, 20), np.linspace(2.8, 4.2, 10)]
    stack = np.empty((COUNT, HEIGHT, WIDTH), dtype=np.float32)
    for k, fwhm in enumerate(widths):
        image = np.full((HEIGHT, WIDTH), 100.0)
        add_stars(image, x, y, flux, Psf.with_fwhm(float(fwhm)))
        stack[k] = image + rng.normal(0, 1, image.shape) * np.sqrt(NOISE**2 + image - 100)
    return stack, np.column_stack([x, y]), flux


def light(data: np.ndarray, at: np.ndarray, radius: float = 15.0) -> float:
    """Return what stands over the sky within a radius."""
    y, x = np.mgrid[: data.shape[0], : data.shape[1]]
    return float((data[np.hypot(x - at[0], y - at[1]) < radius] - 100).sum())


class NearStars(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.stack, cls.places, cls.flux = series()

    def combined(self, slack: float, stack: np.ndarray | None = None, **more: object) -> Combined:
        rejection = Rejection(Method.SIGMA, 3.5, 3.5, slack=slack)
        return combine_stack(self.stack if stack is None else stack, rejection=rejection, maps=True, **more)  # type: ignore[arg-type]

    def test_stars_keep_their_light(self) -> None:
        """To a tenth of a per cent of the mean of all exposures; without slack the brightest lose more."""
        mean = combine_stack(self.stack, rejection=Rejection(Method.MEAN)).data
        change = {slack: [light(self.combined(slack).data, p) / light(mean, p) - 1 for p in self.places[-2:]] for slack in (0.0, 0.5)}
        self.assertLess(np.abs(change[0.5]).max(), 1e-3)
        self.assertGreater(np.abs(change[0.0]).max(), 1e-3)

    def test_a_particle_on_a_star_goes(self) -> None:
        stack = self.stack.copy()
        x, y = (int(round(v)) for v in self.places[2])
        hits = {
            (3, y, x + 1): 9e3, (11, y + 2, x - 2): 6e3, (22, 20, 200): 300.0, (23, 0, 50): 400.0, (24, HEIGHT - 1, 90): 400.0,
        }  # fmt: skip
        for at, adu in hits.items():
            stack[at] += adu
        hit, clean = self.combined(0.5, stack), self.combined(0.5)
        assert hit.maps is not None
        for at in hits:
            self.assertEqual(hit.maps.rejected_high[at[1:]], 1, at)
            self.assertLess(abs(hit.data[at[1:]] - clean.data[at[1:]]), 60 if at[1] == y else 12)
        kept(self, hit, clean)

    def test_counts_maps_and_weights_tell_what_was_taken_back(self) -> None:
        weights = list(np.linspace(0.5, 1.5, COUNT))
        before, after = self.combined(0.0, weights=weights), self.combined(0.5, weights=weights)
        assert before.maps is not None and after.maps is not None
        low, high = after.maps.rejected_low.astype(int), after.maps.rejected_high.astype(int)
        np.testing.assert_array_equal(after.kept + low + high, COUNT)
        self.assertEqual(low.sum(), after.rejected_low.sum())
        self.assertEqual(high.sum(), after.rejected_high.sum())
        changed = after.kept != before.kept
        self.assertGreater(changed.sum(), 50)
        self.assertTrue((after.kept >= before.kept).all())
        # Where nothing was taken back nothing is another.
        np.testing.assert_array_equal(after.data[~changed], before.data[~changed])
        w = np.array(weights)
        for y, x in np.argwhere(changed)[::7]:
            values = self.stack[:, y, x]
            order = np.argsort(values)
            keep = np.zeros(COUNT, dtype=bool)
            keep[order[low[y, x] : COUNT - high[y, x]]] = True
            self.assertEqual(keep.sum(), after.kept[y, x])
            wanted = (w * values)[keep].sum(dtype=np.float64) / w[keep].sum()
            self.assertAlmostEqual(after.data[y, x] / wanted, 1.0, places=5)
            self.assertAlmostEqual(after.spread[y, x] / values[keep].std(ddof=1, dtype=np.float64), 1.0, places=4)
            self.assertAlmostEqual(after.maps.weight[y, x], w[keep].sum() / w.sum(), places=5)
        kept(self, after)

    def test_bands_make_no_difference(self) -> None:
        holed = self.stack.copy()
        holed[4, 40:80, 100:140] = np.nan
        whole = self.combined(0.5, holed)
        rejection = Rejection(Method.SIGMA, 3.5, 3.5, slack=0.5)
        for budget, threads in ((4 * WIDTH * (COUNT + 2), 1), (40 * WIDTH * (COUNT + 2), 2)):
            banded = combine_sources([Counted(one) for one in holed], rejection=rejection, maps=True, budget_bytes=budget, threads=threads)
            assert banded.maps is not None and whole.maps is not None
            for name in ("data", "spread", "kept", "rejected_low", "rejected_high"):
                np.testing.assert_array_equal(getattr(banded, name), getattr(whole, name), name)
            np.testing.assert_array_equal(banded.maps.weight, whole.maps.weight)
            np.testing.assert_array_equal(banded.maps.rejected_high, whole.maps.rejected_high)

    def test_sky_is_rejected_as_before(self) -> None:
        before, after = self.combined(0.0), self.combined(0.5)
        np.testing.assert_array_equal(before.kept[:30], after.kept[:30])
        with self.assertRaisesRegex(ValueError, "slack"):
            Rejection(slack=-0.1)


class Parts(unittest.TestCase):
    def test_contrast(self) -> None:
        data = np.zeros((7, 9), dtype=np.float32)
        data[3, 4] = 100
        data[0, 0] = np.nan
        ys, xs = np.mgrid[:7, :9]
        contrast = local_contrast(data, np.full(63, 2.0, np.float32), ys.ravel(), xs.ravel()).reshape(7, 9)
        wanted = np.zeros_like(data)
        wanted[2:5, 3:6] = 100 - 4 * 2
        np.testing.assert_array_equal(contrast, wanted)
        nothing = np.full((3, 3), np.nan, np.float32)
        at = np.array([0, 1]), np.array([2, 1])
        self.assertFalse(local_contrast(nothing, np.array([1.0, np.nan], np.float32), *at).any())
        unknown = local_contrast(data, np.array([np.nan], np.float32), np.array([3]), np.array([4]))
        self.assertEqual(list(unknown), [100.0])

    def test_what_is_taken_back(self) -> None:
        values = np.array([[1.0, 5.0, 6.0, 7.0, 20.0, np.nan]], dtype=np.float32).T
        for slack, wanted in ((3.9, []), (4.0, [0]), (13.0, [0, 4])):
            keep, low, high = taken_back(values, np.array([1]), np.array([1]), np.array([slack], np.float32))
            self.assertEqual(list(np.flatnonzero(keep)), sorted([1, 2, 3, *wanted]))
            self.assertEqual([*np.flatnonzero(low), *np.flatnonzero(high)], wanted)
