"""Corners of plate solutions that whole fields hardly reach: distortion along one axis, the pole, scales far from one."""

from __future__ import annotations

import math
import unittest

import numpy as np

from ulvar.astrometry import Wcs, wcs_from_header

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
