"""Every rejection method against the plain way, on sorted values with tails, outliers and ties."""

import unittest

import numpy as np
from bench import plain_combining as reference

from ulvar.combine import _kernels_bounds as bounds
from ulvar.combine.combine import _plan

# What is worked out once for so many values.
PLANS = {count: _plan(count) for count in range(4, 26)}


def samples(count: int):  # type: ignore[no-untyped-def]
    """Give sorted values: noise with long tails, some far out on either side, some equal, some drifting."""
    rng = np.random.default_rng(17)
    for number in range(count):
        n = int(rng.integers(4, 26))
        values = rng.standard_t(3, n) + 100
        if number % 3 == 0:
            values[: max(1, n // 6)] += rng.choice([-1, 1]) * rng.uniform(3, 60)
        if number % 5 == 0:
            values = np.round(values)
        if number % 7 == 0:
            values += np.linspace(0, 8, n)
        yield np.sort(values).astype(np.float32), rng.uniform(1.2, 5), rng.uniform(1.2, 5), rng.choice([0.0, 0.5, 2.0])


class AgainstThePlainWay(unittest.TestCase):
    """The indices kept are those of the reference, value by value."""

    def kernel(self, values: np.ndarray, method: int, low: float, high: float, usual: float) -> np.ndarray:
        _, quantile_k, quantile_z = PLANS[len(values)]
        scratch = np.zeros(len(values), dtype=np.float32)
        lo, hi = bounds.kept_bounds(values, len(values), method, low, high, quantile_k, quantile_z, usual, scratch)
        kept = np.zeros(len(values), dtype=bool)
        kept[lo:hi] = True
        return kept

    def first_spread(self, values: np.ndarray) -> float | None:
        _, quantile_k, quantile_z = PLANS[len(values)]
        k = quantile_k[len(values)]
        if k < 0:
            return None
        return (float(values[len(values) - 1 - k]) - float(values[k])) / quantile_z[len(values)]

    def test_all(self) -> None:
        rejected = {bounds.SIGMA: 0, bounds.WINSORIZED: 0, bounds.MAD: 0, bounds.LINEAR: 0}
        for values, low, high, usual in samples(400):
            wide = values.astype(np.float64)
            expected = {
                bounds.MAD: reference.by_median_deviation(wide, low, high, usual),
                bounds.LINEAR: reference.off_a_line(wide, low, high),
            }
            first = self.first_spread(values)
            if first is not None:
                expected[bounds.WINSORIZED] = reference.winsorized(wide, low, high, usual, first)
                if max(first, usual) > 0:
                    expected[bounds.SIGMA] = reference.sigma_clipped(wide, low, high, usual, first)
            for method, kept in expected.items():
                np.testing.assert_array_equal(
                    self.kernel(values, method, low, high, usual), kept, f"{method} {low} {high} {usual} {values}"
                )
                rejected[method] += int((~kept).sum())
        for method, count in rejected.items():
            self.assertGreater(count, 150, f"method {method} was hardly asked")

    def test_first_spread_is_that_of_the_noise(self) -> None:
        rng = np.random.default_rng(3)
        for n in (4, 7, 12, 25):
            with self.subTest(n=n):
                spreads = [self.first_spread(np.sort(rng.normal(0, 3.0, n)).astype(np.float32)) for _ in range(3000)]
                # 3000 draws know the mean to under 1 %.
                self.assertAlmostEqual(float(np.mean([s for s in spreads if s is not None])), 3.0, delta=0.12)

    def test_few_values(self) -> None:
        def kept(values: list[float], low: float, high: float, usual: float) -> tuple[int, int]:
            lo, hi = bounds.few_bounds(np.array(values, dtype=np.float32), len(values), low, high, usual)
            return int(lo), int(hi)

        # Of two values with a spread of 1 the difference scatters by 1.4142: 4 of it are 5.66.
        self.assertEqual(kept([0.0, 5.6], 4, 4, 1.0), (0, 2))
        self.assertEqual(kept([0.0, 5.7], 4, 4, 1.0), (0, 1))
        self.assertEqual(kept([0.0, 5.7], 4, 4, 0.0), (0, 2))
        # Of three: 4 times 1.25 on either side of the middle one.
        self.assertEqual(kept([0.0, 4.9, 9.8], 4, 4, 1.0), (0, 3))
        self.assertEqual(kept([0.0, 5.1, 9.9], 4, 4, 1.0), (1, 3))
        self.assertEqual(kept([0.0, 4.9, 10.0], 4, 4, 1.0), (0, 2))
        self.assertEqual(kept([0.0, 5.1, 10.0], 8, 3, 1.0), (0, 2))
        self.assertEqual(kept([0.0, 5.1, 10.0], 3, 8, 1.0), (1, 3))
