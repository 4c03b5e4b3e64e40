"""Header forms of a solution, proper motion, columns of catalogues, weights: each by hand."""

import math
import unittest

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from tools.cases import FolderCase
from tools.same import kept

from ulvar.astrometry import CatalogueError, StarCatalogue, Wcs, load_catalogue
from ulvar.astrometry.fitting import _weights
from ulvar.astrometry.wcs import wcs_from_header

BASE = {"CTYPE1": "RA---TAN", "CTYPE2": "DEC--TAN", "CRVAL1": 40.0, "CRVAL2": 20.0, "CRPIX1": 101.0, "CRPIX2": 51.0}


class Forms(unittest.TestCase):
    """FITS WCS paper II, section 6: CD, PC with CDELT, CDELT with CROTA2, on pixels that are not square."""

    def matrix(self, **cards: float) -> np.ndarray:
        """The linear part, from where a step of ten pixels leads on the sky [deg / px]."""
        wcs = wcs_from_header({**BASE, **cards})
        assert wcs is not None
        steps = []
        for x, y in ((10.0, 0.0), (0.0, 10.0)):
            ra, dec = wcs.sky(np.array([100.0 + x]), np.array([50.0 + y]))
            # Ten arc seconds from the tangent point the sphere is flat to a part in a million.
            steps.append([(ra[0] - 40.0) * math.cos(math.radians(20.0)) / 10, (dec[0] - 20.0) / 10])
        return np.array(steps).T

    def test_each(self) -> None:
        a, b, turn = -3e-4, 2e-4, math.radians(25.0)
        turned = np.array([[a * math.cos(turn), -b * math.sin(turn)], [a * math.sin(turn), b * math.cos(turn)]])
        for cards, expected in (
            ({"CDELT1": a, "CDELT2": b, "CROTA2": 25.0}, turned),
            ({"CDELT1": a, "CDELT2": b}, np.diag([a, b])),
            ({"CD1_1": a, "CD1_2": 1e-5, "CD2_2": b}, np.array([[a, 1e-5], [0.0, b]])),
            ({"CDELT1": a, "CDELT2": b, "PC1_2": 0.3}, np.array([[a, 0.3 * a], [0.0, b]])),
            ({"CDELT1": a, "CDELT2": b, "PC2_1": 0.3, "PC1_1": 0.9}, np.array([[0.9 * a, 0.0], [0.3 * b, b]])),
        ):
            np.testing.assert_allclose(self.matrix(**cards), expected, atol=2e-4 * abs(a), err_msg=str(cards))

    def test_without_a_scale_there_is_none(self) -> None:
        self.assertIsNone(wcs_from_header({**BASE, "CDELT1": -3e-4}))
        self.assertIsNone(wcs_from_header({"CRVAL1": 1.0}))


class Motion(unittest.TestCase):
    def test_along_each_axis_alone(self) -> None:
        n = 4
        stars = StarCatalogue(
            np.full(n, 120.0), np.array([60.0, 60.0, 60.0, 60.0]), np.full(n, 2016.0), np.array([0.0, 3600.0, 0.0, -7200.0]),
            np.array([0.0, 0.0, 1800.0, 1800.0]), np.full(n, 9.0),
        )  # fmt: skip
        moved = stars.at_epoch(2026.0)
        # Ten years; 3600 mas/yr are 36 arcsec, along the circle of declination 60 twice as many degrees of RA.
        np.testing.assert_allclose((moved.ra - 120.0) * 3600 * 0.5, [0.0, 36.0, 0.0, -72.0], atol=0.02)
        np.testing.assert_allclose((moved.dec - 60.0) * 3600, [0.0, 0.0, 18.0, 18.0], atol=0.03)
        self.assertTrue((moved.epoch == 2026.0).all())
        self.assertTrue((stars.at_epoch(2016.0).ra == stars.ra).all())


class Columns(FolderCase):
    def table(self, text: str) -> StarCatalogue:
        path = self.folder / "c.csv"
        path.write_text(text)
        return load_catalogue(path)

    def test_brightness(self) -> None:
        self.assertEqual(self.table("RA,Dec,V,mag\n1,2,8.5,7.5\n").mag.tolist(), [7.5])
        self.assertEqual(self.table("ra,dec,V,B\n1,2,8.5,9.5\n").mag.tolist(), [8.5])
        self.assertTrue(np.isnan(self.table("ra,dec\n1,2\n").mag).all())
        self.assertEqual(self.table("\ufeffra,dec,mag\n1,2,7\n").mag.tolist(), [7.0])
        stars = self.table("ra,dec,mag,pmra,epoch\n361,2,7,,\n3,-4,x,5,2000\n9,91,1,1,1\n,5,1,1,1\n")
        self.assertEqual((stars.ra.tolist(), stars.dec.tolist()), ([1.0, 3.0], [2.0, -4.0]))
        self.assertEqual((stars.pmra.tolist(), stars.epoch.tolist()), ([0.0, 5.0], [2016.0, 2000.0]))
        kept(self, stars)

    def test_tiles_that_do_not_hold_the_same_bands(self) -> None:
        for name, columns in (
            ("a", {"ra": [1.0, 2.0], "dec": [0.5, 0.6], "mag": [5.0, 6.0], "band_V": [5.1, 6.1]}),
            ("b", {"ra": [3.0], "dec": [0.7], "mag": [7.0], "band_R": [7.2]}),
        ):
            pq.write_table(pa.table(columns), self.folder / f"{name}.parquet")
        stars = load_catalogue(self.folder)
        self.assertEqual(stars.mag.tolist(), [5.0, 6.0, 7.0])
        np.testing.assert_array_equal(stars.bands["V"], [5.1, 6.1, np.nan])
        np.testing.assert_array_equal(stars.bands["R"], [np.nan, np.nan, 7.2])

    def test_what_is_none(self) -> None:
        for text, told in (("", "nothing"), ("a,b\n1,2\n", "only a, b"), ("ra,dec\nx,y\n", "no row")):
            with self.assertRaisesRegex(CatalogueError, told):
                self.table(text)
        (self.folder / "empty").mkdir()
        with self.assertRaisesRegex(CatalogueError, "no catalogue tiles"):
            load_catalogue(self.folder / "empty")
        with self.assertRaisesRegex(CatalogueError, "no such file"):
            load_catalogue(self.folder / "none.csv")


class Moving(unittest.TestCase):
    """Pixels that were carried elsewhere keep their places on the sky, distortion included."""

    def test_scaled_turned_mirrored(self) -> None:
        sip_a = {(2, 0): 2e-6, (1, 1): -3e-6, (0, 2): 1e-6, (3, 0): 4e-10, (1, 2): -2e-10}
        sip_b = {(2, 0): -1e-6, (1, 1): 2e-6, (0, 3): 3e-10}
        cd = np.array([[-2.1e-4, 3e-5], [2.8e-5, 2.2e-4]])
        x, y = np.meshgrid(np.linspace(0, 1500, 7), np.linspace(0, 1000, 5))
        for terms in ((sip_a, sip_b), ({}, {})):
            wcs = Wcs(84.0, 41.0, 700.5, 480.25, cd, *terms)
            for matrix in (
                [[1.0, 0.0, -30.5], [0.0, 1.0, 12.0]], [[2.0, 0.0, 0.5], [0.0, 2.0, 0.5]],
                [[-0.4, 0.9, 80.0], [0.7, 0.6, -20.0]],
            ):  # fmt: skip
                moved = wcs.moved(np.array(matrix))
                u, v = np.array(matrix)[:, :2] @ [x.ravel(), y.ravel()] + np.array(matrix)[:, 2:]
                for one, other in zip(wcs.sky(x.ravel(), y.ravel()), moved.sky(u, v)):
                    np.testing.assert_allclose(one, other, rtol=0, atol=1e-11)
        self.assertEqual(wcs.moved(np.eye(2, 3)).sip_a, {})


class Weights(unittest.TestCase):
    def test_photons_and_the_catalogue_s_own_errors(self) -> None:
        # At SNR 60 both count alike; a bright star is worth sixty of SNR 1 to the power of two, and no more.
        np.testing.assert_allclose(_weights(np.array([60.0, 1e9, 1.0, 0.2])), [1800.0, 3600.0, 3600 / 3601, 3600 / 3601])
