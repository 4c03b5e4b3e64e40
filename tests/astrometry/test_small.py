"""Corners of plate solutions that whole fields hardly reach: distortion along one axis, the pole, scales far from one."""

import math
import unittest
from itertools import combinations

import numpy as np

from ulvar.astrometry import SolveHints, Wcs, _kernels, wcs_from_header
from ulvar.astrometry.fitting import _PLAIN, _clipped_fit, _Model
from ulvar.astrometry.solver import _sizes

TURN = math.radians(30)


def wcs(scale: float = 1.2, dec: float = 40.0, *, mirrored: bool = False, **more: dict) -> Wcs:
    c, s = math.cos(TURN), math.sin(TURN)
    cd = scale / 3600 * np.array([[-c, s], [s, c]]) @ np.diag([-1.0 if mirrored else 1.0, 1.0])
    return Wcs(83.0, dec, 500.0, 400.0, cd, **more)


class Corners(unittest.TestCase):
    def test_distortion_along_one_axis_alone(self) -> None:
        for terms in ({"sip_a": {(2, 0): 3e-6, (1, 1): -1e-6}}, {"sip_b": {(0, 2): 2e-6, (3, 0): 1e-9}}):
            one = wcs(**terms)
            cards = {name: value for name, value, _ in one.cards()}
            self.assertEqual((cards["CTYPE1"], cards["CTYPE2"]), ("RA---TAN-SIP", "DEC--TAN-SIP"))
            read = wcs_from_header(cards)
            assert read is not None
            x, y = np.array([3.0, 900.0, 420.0]), np.array([780.0, 20.0, 333.0])
            np.testing.assert_allclose(read.sky(x, y), one.sky(x, y), atol=1e-12)
            np.testing.assert_allclose(read.pixel(*one.sky(x, y)), (x, y), atol=1e-8)
            # The plain one is another: the terms are read, not only written.
            self.assertGreater(float(np.abs(np.array(wcs().sky(x, y)) - one.sky(x, y)).max()), 1e-5)
            turned = one.moved(np.array([[0.0, 2.0, 5.0], [-2.0, 0.0, 900.0]]))
            np.testing.assert_allclose(turned.sky(2 * y + 5, -2 * x + 900), one.sky(x, y), atol=1e-10)
        plain = {name: value for name, value, _ in wcs().cards()}
        self.assertEqual(plain["CTYPE1"], "RA---TAN")
        self.assertNotIn("A_ORDER", plain)
        self.assertEqual([_Model(order).free for order in (1, 2, 3)], [3, 6, 10], "free numbers of each axis")

    def test_the_inverse_stands_in_the_header(self) -> None:
        """As a program would use it that solves for nothing: pixels from the sky by the inverse terms alone."""
        bent = {"sip_a": {(2, 0): 2e-6, (3, 0): -1.5e-9, (1, 2): -1.5e-9}, "sip_b": {(1, 1): -1e-6, (0, 3): -1.5e-9, (2, 1): -1.5e-9}}
        one = wcs(**bent)
        for size, away in (((801, 1001), None), ((400, 500), np.array([[1.0, 0, -400.0], [0, 1.0, -300.0]]))):
            moved = one if away is None else one.moved(away)
            cards = {name: value for name, value, _ in moved.cards(size)}
            self.assertEqual((cards["AP_ORDER"], cards["BP_ORDER"], cards["EQUINOX"], cards["RADESYS"]), (4, 4, 2000.0, "ICRS"))
            x, y = (v.ravel() for v in np.meshgrid(np.linspace(0, size[1] - 1, 7), np.linspace(0, size[0] - 1, 7)))
            ra, dec = moved.sky(x, y)
            plain = Wcs(moved.ra0, moved.dec0, moved.x0, moved.y0, moved.cd)
            f, g = (v - o for v, o in zip(plain.pixel(ra, dec), (moved.x0, moved.y0)))
            back = [
                o + w + sum(v * f ** int(n[3]) * g ** int(n[5]) for n, v in cards.items() if n[:3] == f"{letter}P_" and n[3].isdigit())
                for o, w, letter in ((moved.x0, f, "A"), (moved.y0, g, "B"))
            ]
            # The distortion is up to 0.7 px; the inverse is right to a thousandth of it.
            self.assertGreater(float(np.hypot(f - (x - moved.x0), g - (y - moved.y0)).max()), 0.1)
            np.testing.assert_allclose(back, [x, y], atol=1e-3)
        self.assertNotIn("AP_ORDER", {name for name, _, _ in wcs().cards()})

    def test_north_is_up_at_any_scale_and_close_to_the_pole(self) -> None:
        for scale in (0.01, 1.2, 600.0):
            for dec in (-60.0, 40.0, 89.9):
                for mirrored in (False, True):
                    one = wcs(scale, dec, mirrored=mirrored)
                    turn, over = one.north_up(500.0, 400.0)
                    with self.subTest(scale=scale, dec=dec, mirrored=mirrored):
                        self.assertEqual(over, mirrored)
                        ra, d = (float(v) for v in one.sky(500.0, 400.0))
                        small = min(1e-3 * scale, 0.01 * (90 - abs(d)))
                        x, y = (float(v) for v in one.pixel(ra, d + small))
                        dx, dy = (-(x - 500) if over else x - 500), y - 400
                        angle = math.radians(turn)
                        # Clockwise, after the mirroring.
                        up = -dx * math.sin(angle) + dy * math.cos(angle), dx * math.cos(angle) + dy * math.sin(angle)
                        self.assertLess(abs(math.degrees(math.atan2(up[1], up[0]))), 0.5)


class Fit(unittest.TestCase):
    def test_stars_that_lie_elsewhere_are_left_out_and_no_others(self) -> None:
        rng = np.random.default_rng(4)
        x, y = rng.uniform(0, 1000, 40), rng.uniform(0, 800, 40)
        ra, dec = wcs().sky(x, y)
        y[3], x[7], y[20] = y[3] + 9, x[7] - 12, y[20] - 15
        fit, good = _clipped_fit(x, y + rng.normal(0, 0.1, 40), ra, dec, (500.0, 400.0), (83.0, 40.0), _PLAIN, np.ones(40))
        self.assertEqual(good.tolist(), [k for k in range(40) if k not in (3, 7, 20)])
        # 0.1 px of noise over 290 px, of 37 stars: 2e-8 deg.
        np.testing.assert_allclose(fit.cd, wcs().cd, rtol=0, atol=8e-8)


class Patterns(unittest.TestCase):
    def test_bands_that_a_field_can_hold(self) -> None:
        """Of 20 x 30 minutes of arc at least, 30 x 45 at most: patterns of 2 minutes to 54."""
        hints = SolveHints(None, None, None, 2.0, 3.0)
        self.assertEqual([round(60 * size, 6) for size in _sizes((600, 900), hints)], [1.25, 2.5, 5.0, 10.0, 20.0, 40.0])

    def test_axes_of_the_sky(self) -> None:
        toward, east, north = np.random.default_rng(8).normal(size=3), np.empty(3), np.empty(3)
        toward /= np.linalg.norm(toward)
        for point in (toward, np.array([0.0, 0.0, 1.0])):
            _kernels.axes_at(point, east, north)
            np.testing.assert_allclose(np.cross(east, north), point, atol=1e-12)
            self.assertAlmostEqual(east[2], 0.0)
            self.assertGreaterEqual(north[2], 0.0)

    def test_all_of_a_cell_against_the_plain_way(self) -> None:
        """Two stars a size to two apart, with two others in the circle over them."""
        rng = np.random.default_rng(9)
        x, y = rng.uniform(-0.01, 0.01, (2, 18))
        vec = np.column_stack([np.ones(18), x, y]) / np.sqrt(1 + x**2 + y**2)[:, None]
        stars, codes, lengths = np.zeros((3000, 4), np.int64), np.zeros((3000, 4)), np.zeros(3000)
        found = _kernels.patterns_of_cell(vec, np.arange(18), x, y, 0.007, 0.009, 0.006, 3000, 3000, stars, codes, lengths)
        z, wanted = x + 1j * y, set()
        for a, b in combinations(range(18), 2):
            middle, apart = (z[a] + z[b]) / 2, abs(z[a] - z[b])
            if 0.006 <= apart < 0.012 and abs(middle.real) <= 0.007 and abs(middle.imag) <= 0.009:
                inside = [k for k in range(18) if k not in (a, b) and abs(z[k] - middle) < apart / 2]
                wanted |= {(a, b, c, d) for c, d in combinations(inside, 2)}
        self.assertGreater(len(wanted), 100)
        self.assertEqual({(*sorted(four[:2]), *sorted(four[2:])) for four in stars[:found].tolist()}, wanted)
        self.assertEqual(found, len(wanted))
