"""The hot loops of star finding beside plain references, on frames that are not square and stars that are not round."""

import unittest

import numpy as np

from ulvar.frames import CLIPPED_TO_SIGMA
from ulvar.stars import _kernels, _kernels_psf

HEIGHT, WIDTH = 34, 47


def noise_map(rng: np.random.Generator) -> np.ndarray:
    return rng.uniform(2.0, 5.0, (HEIGHT, WIDTH)).astype(np.float32)


def plain_cell(values: np.ndarray, mode: bool) -> tuple[float, float]:
    values = np.sort(values.astype(np.float64))
    while True:
        mean, median, deviation = values.mean(), np.median(values), values.std(ddof=1)
        kept = values[np.abs(values - median) <= 3.0 * deviation]
        if kept.size == values.size or kept.size < 8:
            break
        values = kept
    level = mean
    if mode:
        level = median if abs(mean - median) > 0.3 * deviation else 3.0 * median - 2.0 * mean
    return level, deviation * CLIPPED_TO_SIGMA


class Sorting(unittest.TestCase):
    def test_as_by_comparing(self) -> None:
        rng = np.random.default_rng(3)
        values = np.concatenate([rng.normal(0, 1e3, 4001), rng.normal(0, 1e-20, 300), [0.0, np.inf, -np.inf, 65535.0, -1.0, 1e38]]).astype(
            np.float32
        )
        rng.shuffle(values)
        expected = np.sort(values)
        _kernels.radix_sort(values, np.zeros_like(values), np.zeros((3, 2048), np.int64))
        np.testing.assert_array_equal(values, expected)


class Mesh(unittest.TestCase):
    def setUp(self) -> None:
        rng = np.random.default_rng(4)
        self.data = rng.normal(500, 20, (HEIGHT, WIDTH)).astype(np.float32)
        self.data[5:9, 6:10] += 4000  # clipped
        self.data[20:, 30:] += rng.exponential(200, (14, 17)).astype(np.float32)  # skew
        self.data[2, 3] = np.nan
        self.masked = rng.random((HEIGHT, WIDTH)) < 0.05
        self.masked[:16, 24:] = True  # a cell without values
        self.edges_y, self.edges_x = np.array([0, 16, 34]), np.array([0, 24, 47])

    def run_mesh(self, step: int, mode: bool) -> tuple[np.ndarray, np.ndarray]:
        level, noise = np.zeros((2, 2)), np.zeros((2, 2))
        _kernels.clipped_cells(self.data, self.masked, self.edges_y, self.edges_x, step, mode, 0, 2, level, noise)
        return level, noise

    def test_as_cell_by_cell(self) -> None:
        good = ~self.masked & np.isfinite(self.data)
        rows, columns = np.mgrid[:HEIGHT, :WIDTH]
        for step in (1, 2, 3):
            for mode in (True, False):
                level, noise = self.run_mesh(step, mode)
                for cy in range(2):
                    for cx in range(2):
                        used = good & (rows >= self.edges_y[cy]) & (rows < self.edges_y[cy + 1])
                        used &= (columns >= self.edges_x[cx]) & (columns < self.edges_x[cx + 1])
                        used &= (columns - self.edges_x[cx] - rows % step) % step == 0
                        if (cy, cx) == (0, 1):
                            self.assertTrue(np.isnan(level[cy, cx]) and np.isnan(noise[cy, cx]))
                            continue
                        expected = plain_cell(self.data[used], mode)
                        np.testing.assert_allclose((level[cy, cx], noise[cy, cx]), expected, rtol=1e-6)

    def test_sixteen_values_are_the_least(self) -> None:
        for count, known in ((15, False), (16, True)):
            self.masked[:] = True
            self.masked[0, :count] = False
            self.data[0, :16] = 7.0
            level, _ = self.run_mesh(1, True)
            self.assertEqual(level[0, 0] == 7.0, known)

    def test_only_the_rows_asked_for(self) -> None:
        level, noise = np.full((2, 2), -1.0), np.full((2, 2), -1.0)
        _kernels.clipped_cells(self.data, self.masked, self.edges_y, self.edges_x, 1, True, 1, 2, level, noise)
        self.assertTrue((level[0] == -1.0).all() and (level[1] > 400).all())


class Maxima(unittest.TestCase):
    def find(self, image: np.ndarray, masked: np.ndarray, first: int, last: int, room: int = 500) -> set[tuple[int, int]]:
        y, x = np.zeros(room, np.int64), np.zeros(room, np.int64)
        noise = np.full(image.shape, 2.0, np.float32)
        n = _kernels.local_maxima(image, noise, 0.4, masked, first, last, 2, y, x)
        return set(zip(y[:n].tolist(), x[:n].tolist()))

    def test_as_by_looking_at_each_pixel(self) -> None:
        rng = np.random.default_rng(5)
        image = np.round(rng.normal(0, 3, (HEIGHT, WIDTH))).astype(np.float32)  # rounded: there are ties
        masked = rng.random(image.shape) < 0.1
        expected = set()
        for y in range(4, 30):
            for x in range(2, WIDTH - 2):
                before = [image[y - 1, x - 1], image[y - 1, x], image[y - 1, x + 1], image[y, x - 1]]
                after = [image[y, x + 1], image[y + 1, x - 1], image[y + 1, x], image[y + 1, x + 1]]
                if image[y, x] > max(before) and image[y, x] >= max(after) and image[y, x] > 0.8 and not masked[y, x]:
                    expected.add((y, x))
        self.assertEqual(self.find(image, masked, 4, 30), expected)
        whole = self.find(image, masked, 0, HEIGHT)
        self.assertEqual((min(y for y, _ in whole), max(y for y, _ in whole)), (2, HEIGHT - 3))
        self.assertEqual(len(self.find(image, masked, 4, 30, room=5)), 5)


def star(x: float, y: float, flux: float, cxx: float, cyy: float, cxy: float) -> np.ndarray:
    """A Gaussian star sampled at pixel centres."""
    rows, columns = np.mgrid[:HEIGHT, :WIDTH]
    dx, dy = columns - x, rows - y
    det = cxx * cyy - cxy**2
    return flux / (2 * np.pi * np.sqrt(det)) * np.exp(-0.5 * (cyy * dx**2 - 2 * cxy * dx * dy + cxx * dy**2) / det)


class Moments(unittest.TestCase):
    def test_centre_flux_and_shape_of_an_oblique_star(self) -> None:
        rng = np.random.default_rng(6)
        data = star(20.3, 14.8, 5e4, 4.0, 2.6, 0.9).astype(np.float32)
        noise, bad = noise_map(rng), np.zeros(data.shape, np.bool_)
        bad[15, 21] = bad[14, 18] = True
        bad[15, 29] = True  # too far to count
        sigma, gain = 1.8, 1.6
        out = np.zeros((1, 11))
        _kernels.windowed_moments(data, noise, bad, np.array([20]), np.array([15]), sigma, gain, out)
        np.testing.assert_allclose(out[0, :2], (20.3, 14.8), atol=2e-3)
        np.testing.assert_allclose(out[0, 4:7], (4.0, 2.6, 0.9), rtol=0.01)
        rows, columns = np.mgrid[:HEIGHT, :WIDTH]
        near = (np.abs(columns - 20) <= 8) & (np.abs(rows - 15) <= 8)
        p = np.exp(-((columns - out[0, 0]) ** 2 + (rows - out[0, 1]) ** 2) / (2 * sigma**2)) / (2 * np.pi * sigma**2)
        p[~near] = 0.0
        variance = noise.astype(float) ** 2 + data / gain
        np.testing.assert_allclose(out[0, 2], (p * data).sum() / (p**2).sum(), rtol=1e-5)
        np.testing.assert_allclose(out[0, 3], (p**2 * variance).sum() / (p**2).sum() ** 2, rtol=1e-5)
        self.assertEqual(out[0, 7], data.max())
        ring = data[14:17, 19:22].sum() - data[15, 20]
        np.testing.assert_allclose(out[0, 8], ring / 8 / data[15, 20], rtol=1e-5)
        self.assertEqual(out[0, 9:].tolist(), [1.0, 2.0])
        quiet = np.zeros((1, 11))
        _kernels.windowed_moments(data, noise, bad, np.array([20]), np.array([15]), sigma, 0.0, quiet)
        np.testing.assert_allclose(quiet[0, 3], (p**2 * noise.astype(float) ** 2).sum() / (p**2).sum() ** 2, rtol=1e-5)

    def test_a_star_cut_by_the_border_keeps_to_the_frame(self) -> None:
        data = star(1.2, 31.9, 5e4, 2.0, 2.0, 0.0).astype(np.float32)
        data[32, 1] = np.nan
        out = np.zeros((1, 11))
        shape = np.ones(data.shape, np.float32)
        _kernels.windowed_moments(data, shape, shape < 0, np.array([1]), np.array([32]), 1.4, 1.0, out)
        self.assertLess(np.hypot(out[0, 0] - 1.2, out[0, 1] - 31.9), 0.5)
        self.assertEqual(out[0, 8], 1.0)  # the centre itself has no value

    def test_where_no_star_is_nothing_converges(self) -> None:
        slope = np.tile(np.arange(WIDTH, dtype=np.float32) * 10, (HEIGHT, 1))
        ones = np.ones(slope.shape, np.float32)
        for data in (slope, -ones):
            out = np.zeros((1, 11))
            _kernels.windowed_moments(data, ones, ones < 0, np.array([20]), np.array([15]), 1.5, 1.0, out)
            self.assertEqual(out[0, 9], 0.0)

    def test_moments_that_are_no_ellipse_are_unknown(self) -> None:
        for mxx, myy, mxy, msum in ((5.0, 1.0, 0.0, 1.0), (1.0, 1.0, 1.1, 1.0), (1.0, 1.0, 0.0, -1.0)):
            out = np.zeros(3)
            _kernels.free_of_window(mxx, myy, mxy, msum, 2.0, out)
            self.assertTrue(np.isnan(out).all())
        window, shape = np.eye(2) * 4.0, np.array([[3.0, 0.7], [0.7, 2.0]])
        seen = np.linalg.inv(np.linalg.inv(window) + np.linalg.inv(shape))
        out = np.zeros(3)
        _kernels.free_of_window(seen[0, 0] * 9, seen[1, 1] * 9, seen[0, 1] * 9, 9.0, 2.0, out)
        np.testing.assert_allclose(out, (3.0, 2.0, 0.7), rtol=1e-12)


class Lines(unittest.TestCase):
    def test_votes_as_counted(self) -> None:
        rng = np.random.default_rng(8)
        xs, ys = rng.uniform(0, WIDTH, 60), rng.uniform(0, HEIGHT, 60)
        angles = np.linspace(0, np.pi, 7, endpoint=False)
        votes = np.zeros((7, 161), np.int64)
        _kernels.line_votes(xs, ys, np.cos(angles), np.sin(angles), 80, votes)
        for a, angle in enumerate(angles):
            away = np.floor(xs * np.cos(angle) + ys * np.sin(angle) + 0.5).astype(int) + 80
            np.testing.assert_array_equal(votes[a], np.bincount(away, minlength=161))


def profile(cxx: float = 2.4, cyy: float = 1.7, cxy: float = 0.4, half: int = 24) -> np.ndarray:
    """A table of an oblique profile in half pixels."""
    v, u = np.mgrid[-half : half + 1, -half : half + 1] / 2.0
    det = cxx * cyy - cxy**2
    return np.exp(-0.5 * (cyy * u**2 - 2 * cxy * u * v + cxx * v**2) / det) / (2 * np.pi * np.sqrt(det))


def drawn(table: np.ndarray, x: float, y: float, reach: int = 40) -> np.ndarray:
    """The profile at every pixel of a frame, by the plain sampler; 0 beyond a square about the pixel of the centre."""
    out = np.zeros((HEIGHT, WIDTH))
    for j in range(max(0, round(y) - reach), min(HEIGHT, round(y) + reach + 1)):
        for i in range(max(0, round(x) - reach), min(WIDTH, round(x) + reach + 1)):
            out[j, i] = _kernels_psf.sample_table(table, i - x, j - y)
    return out


class Profiles(unittest.TestCase):
    def setUp(self) -> None:
        self.rng = np.random.default_rng(11)
        self.table = profile()
        self.noise = noise_map(self.rng)
        self.bad = np.zeros((HEIGHT, WIDTH), np.bool_)

    def test_cubic_convolution_gives_a_paraboloid_back(self) -> None:
        v, u = np.mgrid[-10:11, -10:11] / 2.0
        table = 3.0 + 2.0 * u - 0.5 * v + 0.25 * u**2 + u * v - 0.125 * v**2
        for dx, dy in ((0.0, 0.0), (1.3, -2.1), (-3.7, 0.45)):
            expected = 3.0 + 2.0 * dx - 0.5 * dy + 0.25 * dx**2 + dx * dy - 0.125 * dy**2
            self.assertAlmostEqual(_kernels_psf.sample_table(table, dx, dy), expected, places=9)
        for dx, dy in ((4.6, 0), (0, 4.6), (-4.6, 0), (0, -4.6)):
            self.assertEqual(_kernels_psf.sample_table(table, dx, dy), 0.0)
        self.assertNotEqual(_kernels_psf.sample_table(table, 3.9, -4.4), 0.0)

    def test_stars_are_taken_off_and_put_back(self) -> None:
        x, y, flux = np.array([12.3, 30.8, 5.0]), np.array([9.6, 32.1, 5.0]), np.array([900.0, 400.0, 0.0])
        reach = np.array([6, 11, 5])
        frame = self.rng.normal(0, 1, (HEIGHT, WIDTH)).astype(np.float32)
        frame[9, 13] = np.nan
        residual = frame.copy()
        _kernels_psf.subtract_stars(residual, self.table, x, y, flux, reach, 1.0)
        expected = frame - 900 * drawn(self.table, 12.3, 9.6, 6) - 400 * drawn(self.table, 30.8, 32.1, 11)
        np.testing.assert_allclose(residual, expected, atol=1e-4)
        _kernels_psf.subtract_stars(residual, self.table, x, y, flux, reach, -1.0)
        np.testing.assert_allclose(residual, frame, atol=1e-4)

    def sweep(self, residual: np.ndarray, state: np.ndarray, gain: float, moving: bool, limit: float = 3.0) -> tuple:
        x, y, flux = np.array([22.2]), np.array([15.3]), np.array([2000.0])
        variance = np.zeros((1, 3))
        changing = _kernels_psf.fit_sweep(
            residual, self.noise, self.bad, self.table, gain, x, y, flux, x.copy(), y.copy(), np.array([4]),
            np.array([10]), moving, state, variance, limit,
        )  # fmt: skip
        return changing, float(x[0]), float(y[0]), float(flux[0]), variance[0]

    def test_one_round_of_the_fit_as_by_linear_algebra(self) -> None:
        truth = 2150.0 * drawn(self.table, 22.26, 15.17, 10)
        frame = (truth + self.rng.normal(0, 1, truth.shape) * self.noise).astype(np.float32)
        frame[14, 21] = np.nan
        self.bad[17, 22] = True
        model = 2000.0 * drawn(self.table, 22.2, 15.3, 10)
        residual = (frame - model).astype(np.float32)
        step = 1e-5
        slope_x = (drawn(self.table, 22.2 - step, 15.3) - drawn(self.table, 22.2 + step, 15.3)) / (2 * step)
        slope_y = (drawn(self.table, 22.2, 15.3 - step) - drawn(self.table, 22.2, 15.3 + step)) / (2 * step)
        p = drawn(self.table, 22.2, 15.3)
        rows, columns = np.mgrid[:HEIGHT, :WIDTH]
        used = (columns - 22.2) ** 2 + (rows - 15.3) ** 2 <= 4.5**2
        used &= (np.abs(columns - 22) <= 4) & (np.abs(rows - 15) <= 4) & ~self.bad & np.isfinite(frame)
        for gain in (0.0, 1.4):
            for moving in (True, False):
                v = self.noise.astype(float) ** 2 + (2000.0 * p / gain if gain else 0.0)
                terms = [p, 2000.0 * slope_x, 2000.0 * slope_y] if moving else [p]
                a = np.array([t[used] / np.sqrt(v[used]) for t in terms]).T
                covariance = np.linalg.inv(a.T @ a)
                solution = covariance @ a.T @ (residual[used] / np.sqrt(v[used]))
                left = residual.copy()
                state = np.ones(1, np.int64)
                _, x, y, flux, variance = self.sweep(left, state, gain, moving)
                expected = [2000.0 + solution[0], 22.2, 15.3]
                if moving:
                    expected = [2000.0 + solution[0], 22.2 - solution[1], 15.3 - solution[2]]
                np.testing.assert_allclose((flux, x, y), expected, rtol=1e-5)
                np.testing.assert_allclose(variance[: len(terms)], np.diag(covariance), rtol=1e-4)
                np.testing.assert_allclose(left, frame - flux * drawn(self.table, x, y, 10), atol=2e-3)

    def test_a_star_that_leaves_its_place_or_its_light_is_put_back(self) -> None:
        model = 2000.0 * drawn(self.table, 22.2, 15.3, 10)
        for truth, limit in ((2000.0 * drawn(self.table, 22.5, 15.3, 10), 0.1), (-9000.0 * model / 2000.0, 3.0)):
            residual, state = (truth - model).astype(np.float32), np.ones(1, np.int64)
            changing, _, _, flux, _ = self.sweep(residual, state, 1.0, True, limit)
            if truth.sum() > 0:
                self.assertEqual((changing, flux), (0, 0.0))
                np.testing.assert_allclose(residual, truth, atol=1e-3)
            else:
                # It loses seven tenths at most in one round.
                self.assertAlmostEqual(flux, 600.0, places=3)

    def test_what_is_settled_or_covered_rests(self) -> None:
        model = 2000.0 * drawn(self.table, 22.2, 15.3, 10)
        residual = np.zeros_like(model, dtype=np.float32)
        state = np.ones(1, np.int64)
        self.assertEqual((self.sweep(residual, state, 1.0, True)[0], int(state[0])), (0, 0))
        residual = (0.3 * model).astype(np.float32)
        state = np.ones(1, np.int64)
        self.assertEqual((self.sweep(residual, state, 1.0, True)[0], int(state[0])), (1, 1))
        state[:] = 0
        self.assertEqual(self.sweep(residual, state, 1.0, True)[3], 2000.0)
        self.bad[:] = True
        state[:] = 1
        self.assertEqual((self.sweep(residual, state, 1.0, True)[3], int(state[0])), (2000.0, 0))

    def test_shapes_of_a_star_of_another_width(self) -> None:
        x, y, flux = np.array([21.7]), np.array([16.2]), np.array([5000.0])
        wide = profile(2.4 * 1.44, 1.7 * 1.44, 0.4 * 1.44)
        frame = 5000.0 * drawn(wide, 21.7, 16.2)
        residual = (frame - 5000.0 * drawn(self.table, 21.7, 16.2)).astype(np.float32)
        residual[25, 21] = np.nan
        self.bad[17, 23] = self.bad[17, 30] = True
        out = np.zeros((1, 7))
        sigma = 1.7
        _kernels_psf.star_shapes(residual, self.noise, self.bad, self.table, 1.5, x, y, flux, sigma, 4.0, 0, 1, out)
        np.testing.assert_allclose(out[0, :3], (2.4 * 1.44, 1.7 * 1.44, 0.4 * 1.44), rtol=0.02)
        self.assertAlmostEqual(out[0, 3], 1.2, delta=0.01)
        self.assertAlmostEqual(out[0, 4] / frame.max(), 1.0, delta=2e-3)
        rows, columns = np.mgrid[:HEIGHT, :WIDTH]
        model = 5000.0 * drawn(self.table, 21.7, 16.2)
        used = ((columns - 21.7) ** 2 + (rows - 16.2) ** 2 < 4.5**2) & ~self.bad
        chi = np.sqrt(np.mean(residual[used] ** 2 / (self.noise[used] ** 2 + model[used] / 1.5)))
        self.assertAlmostEqual(out[0, 5] / chi, 1.0, delta=1e-3)
        self.assertEqual(out[0, 6], 1.0)

    def test_profile_gathered_as_by_hand(self) -> None:
        x, y, flux = np.array([12.3, 31.4, 40.0]), np.array([9.6, 20.9, 8.0]), np.array([3000.0, 800.0, -5.0])
        residual = self.rng.normal(0, 1, (HEIGHT, WIDTH)).astype(np.float32) * self.noise
        residual[10, 14] = np.nan
        residual[20, 33] = 900.0  # a cosmic ray beside the fainter one
        self.bad[8, 11] = True
        total, weight = np.zeros_like(self.table), np.zeros_like(self.table)
        gain, radius, half = 1.5, 6, 24
        _kernels_psf.gather_profile(residual, self.noise, self.bad, self.table, gain, x, y, flux, radius, total, weight)
        sums, weights = np.zeros_like(total), np.zeros_like(total)
        for k in range(2):
            model = flux[k] * np.maximum(drawn(self.table, x[k], y[k]), 0)
            for j in range(round(y[k]) - radius, round(y[k]) + radius + 1):
                for i in range(round(x[k]) - radius, round(x[k]) + radius + 1):
                    d = float(residual[j, i])
                    if np.isnan(d) or self.bad[j, i]:
                        continue
                    v = float(self.noise[j, i]) ** 2 + model[j, i] / gain + (0.05 * model[j, i]) ** 2
                    if d * d > 36 * v + (0.3 * model[j, i]) ** 2:
                        continue
                    place = (round(2 * (j - y[k])) + half, round(2 * (i - x[k])) + half)
                    sums[place] += flux[k] ** 2 / v * d / flux[k]
                    weights[place] += flux[k] ** 2 / v
        np.testing.assert_allclose(weight, weights, rtol=1e-5)
        np.testing.assert_allclose(total, sums, rtol=1e-4, atol=1e-4)
        self.assertEqual(weight[round(2 * (20 - 20.9)) + half, round(2 * (33 - 31.4)) + half], 0.0)
