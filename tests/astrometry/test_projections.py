"""Headers of other programs: each projection by the standard's own formulae, polynomials term by term, turned and exchanged axes."""

import math
import unittest
from typing import Any

import numpy as np
from bench.by_hand_sky import plane
from hypothesis import given, settings
from hypothesis import strategies as st
from tools.same import kept

from ulvar.astrometry import Wcs, wcs_from_header
from ulvar.astrometry.projections import PROJECTIONS, TPV_TERMS, bend

SCALES = np.array([[-2.9e-4, 4.1e-5], [3.7e-5, 3.1e-4]])


def header(code: str, ra0: float, dec0: float, scale: float = 1.0, **more: Any) -> dict[str, Any]:
    """Return a header of a picture whose reference pixel is its middle."""
    cd = SCALES * scale
    return {
        "CTYPE1": f"RA---{code}", "CTYPE2": f"DEC--{code}", "CRVAL1": ra0, "CRVAL2": dec0, "CRPIX1": 1001.0, "CRPIX2": 801.0,
        "CD1_1": cd[0, 0], "CD1_2": cd[0, 1], "CD2_1": cd[1, 0], "CD2_2": cd[1, 1],
    } | more  # fmt: skip


def pixel_of(x: float, y: float, cd: np.ndarray) -> np.ndarray:
    return np.asarray(np.linalg.solve(cd, [x, y]) + (1000.0, 800.0))


class Projections(unittest.TestCase):
    @given(
        st.sampled_from(PROJECTIONS), st.floats(0, 360), st.floats(-90, 90), st.floats(0.5, 70), st.floats(0, 360),
        st.sampled_from([180.0, 150.0, 0.0, -33.0]),
    )  # fmt: skip
    @settings(max_examples=200, deadline=None)
    def test_by_the_formulae_of_the_standard(self, code: str, ra0: float, dec0: float, away: float, angle: float, lonpole: float) -> None:
        d0, r, p = math.radians(dec0), math.radians(away), math.radians(angle)
        dec = math.degrees(math.asin(max(-1, min(1, math.sin(d0) * math.cos(r) + math.cos(d0) * math.sin(r) * math.cos(p)))))
        east = math.atan2(math.sin(p) * math.sin(r), math.cos(d0) * math.cos(r) - math.sin(d0) * math.sin(r) * math.cos(p))
        ra = (ra0 + math.degrees(east)) % 360
        wcs = wcs_from_header(header(code, ra0, dec0, 100.0, LONPOLE=lonpole))
        assert wcs is not None
        px, py = wcs.pixel(ra, dec)
        expected = pixel_of(*plane(code, ra, dec, ra0, dec0, lonpole), SCALES * 100)
        # Of a sphere in double precision: an arc second is a thirtieth of such a pixel.
        np.testing.assert_allclose([float(px), float(py)], expected, atol=2e-7 if abs(dec) > 89.9 else 1e-8)
        back = wcs.pixel(*wcs.sky(px, py))
        np.testing.assert_allclose([float(v) for v in back], [float(px), float(py)], atol=1e-7)

    def test_at_pixels_of_an_arc_second_to_a_billionth(self) -> None:
        for code in PROJECTIONS:
            for ra0, dec0 in ((0.0, 0.0), (359.9, -60.0), (83.0, 89.2), (210.0, -89.5)):
                wcs = wcs_from_header(header(code, ra0, dec0))
                assert wcs is not None
                x, y = np.array([0.0, 2000.0, 1000.0, 1530.0]), np.array([0.0, 900.0, 800.0, 17.0])
                np.testing.assert_allclose(np.stack(wcs.pixel(*wcs.sky(x, y))), [x, y], atol=3e-9, err_msg=f"{code} {dec0}")
                self.assertAlmostEqual(float(wcs.sky(1000.0, 800.0)[1]), dec0, places=10)

    def test_where_a_projection_does_not_reach(self) -> None:
        for code, far in (("TAN", False), ("SIN", False), ("STG", True), ("ARC", True), ("ZEA", True)):
            wcs = wcs_from_header(header(code, 10.0, 20.0, 100.0))
            assert wcs is not None
            self.assertEqual(bool(np.isfinite(wcs.pixel(190.0, 20.0)[0])), far, code)
        wcs = wcs_from_header(header("SIN", 10.0, 20.0, 1000.0))
        assert wcs is not None
        self.assertTrue(np.isnan(wcs.sky(0.0, 0.0)[1]), "beyond the sky")


class Polynomials(unittest.TestCase):
    def test_every_term_of_tpv(self) -> None:
        """One term at a time, of either axis; terms count as the convention lists them."""
        x, y = 0.21, -0.17
        r = math.hypot(x, y)
        listed = [
            1, x, y, r, x * x, x * y, y * y, x**3, x * x * y, x * y * y, y**3, r**3, x**4, x**3 * y, x * x * y * y, x * y**3, y**4,
            x**5, x**4 * y, x**3 * y * y, x * x * y**3, x * y**4, y**5, r**5, x**6, x**5 * y, x**4 * y**2, x**3 * y**3, x**2 * y**4,
            x * y**5, y**6, x**7, x**6 * y, x**5 * y**2, x**4 * y**3, x**3 * y**4, x**2 * y**5, x * y**6, y**7, r**7,
        ]  # fmt: skip
        self.assertEqual(len(listed), len(TPV_TERMS))
        for k, value in enumerate(listed):
            self.assertAlmostEqual(float(bend({k: 1.0}, np.array(x), np.array(y))), value, places=14)

    def test_a_header_with_polynomials(self) -> None:
        terms = {
            "PV1_0": 1e-5, "PV1_1": 1.002, "PV1_4": 3e-3, "PV1_7": -2e-3, "PV2_1": 0.999, "PV2_2": 4e-4, "PV2_5": -2e-3, "PV2_11": 1e-3,
        }  # fmt: skip
        wcs = wcs_from_header(header("TPV", 120.0, 35.0, **terms))
        plain = wcs_from_header(header("TAN", 120.0, 35.0))
        assert wcs is not None and plain is not None
        for px, py in ((0.0, 0.0), (1900.0, 300.0), (1000.0, 800.0)):
            x, y = SCALES @ (px - 1000.0, py - 800.0)
            r = math.hypot(x, y)
            xi = 1e-5 + 1.002 * x + 3e-3 * x * x - 2e-3 * x**3
            # On the second axis its own coordinate is declination.
            eta = 0.999 * y + 4e-4 * x - 2e-3 * y * x + 1e-3 * r**3
            np.testing.assert_allclose(np.stack(wcs.sky(px, py)), np.stack(plain.sky(*pixel_of(xi, eta, SCALES))), atol=1e-12)
            np.testing.assert_allclose([float(v) for v in wcs.pixel(*wcs.sky(px, py))], [px, py], atol=1e-8)
        again = wcs_from_header({name: value for name, value, _ in wcs.cards()})
        assert again is not None
        np.testing.assert_allclose(np.stack(again.sky(50.0, 60.0)), np.stack(wcs.sky(50.0, 60.0)), atol=1e-12)


class Forms(unittest.TestCase):
    def test_axes_the_other_way_round(self) -> None:
        told = header("STG", 40.0, -20.0)
        turned = told | {
            "CTYPE1": "DEC--STG", "CTYPE2": "RA---STG", "CRVAL1": -20.0, "CRVAL2": 40.0, "CD1_1": told["CD2_1"],
            "CD1_2": told["CD2_2"], "CD2_1": told["CD1_1"], "CD2_2": told["CD1_2"],
        }  # fmt: skip
        one, other = wcs_from_header(told), wcs_from_header(turned)
        assert one is not None and other is not None
        np.testing.assert_allclose(np.stack(one.sky(3.0, 99.0)), np.stack(other.sky(3.0, 99.0)), atol=1e-12)

    def test_what_is_no_use_is_none(self) -> None:
        for more in (
            {"RADESYS": "FK4"}, {"EQUINOX": 1950.0}, {"RADESYS": "FK5", "EQUINOX": 2027.1}, {"CTYPE2": "DEC--SIN"}, {"CTYPE1": "GLON-TAN"},
            {"CTYPE1": "RA---AIT", "CTYPE2": "DEC--AIT"}, {"EQUINOX": "soon"}, {"LONPOLE": "x"},
        ):  # fmt: skip
            self.assertIsNone(wcs_from_header(header("TAN", 10.0, 20.0, **more)), more)
        self.assertIsNone(wcs_from_header(header("SIN", 10.0, 20.0, PV2_1=0.1)), "a slanted one")
        for more in ({"RADESYS": "FK5", "EQUINOX": 2000.0}, {"RADESYS": "ICRS", "EQUINOX": 2027.1}, {"RADECSYS": "FK5"}):
            self.assertIsNotNone(wcs_from_header(header("TAN", 10.0, 20.0, **more)), more)

    def test_what_was_read_is_written_and_moved_as_it_is(self) -> None:
        wcs = wcs_from_header(header("ZEA", 40.0, -20.0, A_ORDER=2, B_ORDER=2, A_2_0=1e-6, B_1_1=-2e-6, LONPOLE=170.0))
        assert wcs is not None
        again = wcs_from_header({name: value for name, value, _ in wcs.cards((1600, 2000))})
        assert again is not None
        moved = wcs.moved(np.array([[0.0, -1.0, 1600.0], [1.0, 0.0, 3.0]]))
        self.assertEqual((again.projection, moved.projection), ("ZEA", "ZEA"))
        for px, py in ((0.0, 0.0), (1900.0, 300.0)):
            np.testing.assert_allclose(np.stack(again.sky(px, py)), np.stack(wcs.sky(px, py)), atol=1e-11)
            np.testing.assert_allclose(np.stack(moved.sky(1600.0 - py, px + 3)), np.stack(wcs.sky(px, py)), atol=1e-11)
        self.assertIsInstance(wcs, Wcs)
        kept(self, again, moved)
