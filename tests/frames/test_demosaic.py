"""Colours of a mosaic as planes: against plain ways, beside missing pixels, and halved."""

import unittest

import numpy as np
from bench.by_hand import bilinear_by_hand
from tools.same import kept

from ulvar.frames import CELL_SITES, Demosaic, MaskBit, Plane, colour_plane, malvar, plane_mask, plane_origin

CELLS = ("RGGB", "BGGR", "GRBG", "GBRG")


def mosaic_of(colours: np.ndarray, cfa: str) -> np.ndarray:
    """Return what a sensor sees of colours (height, width, 3)."""
    mosaic = np.zeros(colours.shape[:2], np.float32)
    for k, colour in enumerate(cfa):
        mosaic[CELL_SITES[k]] = colours[..., "RGB".index(colour)][CELL_SITES[k]]
    return mosaic


class Planes(unittest.TestCase):
    def setUp(self) -> None:
        self.rng = np.random.default_rng(12)

    def test_bilinear_is_the_mean_of_neighbours(self) -> None:
        mosaic = self.rng.normal(100, 20, (13, 16)).astype(np.float32)
        mosaic[6, 7] = mosaic[3, 3] = np.nan
        for cfa in CELLS:
            for colour in "RGB":
                with self.subTest(f"{cfa} {colour}"):
                    found = colour_plane(mosaic, cfa, Plane(colour, Demosaic.BILINEAR))[1:-1, 1:-1]
                    plain = bilinear_by_hand(mosaic, cfa, colour)[1:-1, 1:-1]
                    np.testing.assert_allclose(found, plain, rtol=1e-5)

    def test_both_give_planes_that_slope_back(self) -> None:
        y, x = np.mgrid[:40, :50].astype(np.float32)
        true = np.stack([300 + 2 * x - y, 500 + 1.5 * x + 0.5 * y, 200 - x + 3 * y], axis=2)
        for cfa in CELLS:
            mosaic = mosaic_of(true, cfa)
            for k, colour in enumerate("RGB"):
                for method in (Demosaic.BILINEAR, Demosaic.MALVAR):
                    found = colour_plane(mosaic, cfa, Plane(colour, method))
                    np.testing.assert_allclose(found[3:-3, 3:-3], true[3:-3, 3:-3, k], rtol=2e-4, atol=0.1)

    def test_the_other_colours_help(self) -> None:
        """Grey detail that one colour alone cannot follow."""
        y, x = np.mgrid[:80, :90]
        grey = (500 + 300 * np.sin(1.1 * x + 0.5 * y)).astype(np.float32)
        true = np.stack([0.5 * grey, grey, 0.7 * grey], axis=2)
        for cfa in CELLS:
            mosaic = mosaic_of(true, cfa)
            for k, colour in enumerate("RGB"):
                wrong = [
                    float(np.abs(colour_plane(mosaic, cfa, Plane(colour, m)) - true[..., k])[4:-4, 4:-4].mean())
                    for m in (Demosaic.MALVAR, Demosaic.BILINEAR)
                ]
                self.assertLess(wrong[0], 0.75 * wrong[1], (cfa, colour))

    def test_malvar_keeps_what_was_measured_and_holes_stay_small(self) -> None:
        mosaic = self.rng.normal(400, 20, (30, 34)).astype(np.float32)
        mosaic[14, 15] = np.nan
        for cfa in CELLS:
            for colour in "RGB":
                found = colour_plane(mosaic, cfa, Plane(colour))
                own = np.zeros(mosaic.shape, bool)
                for k, c in enumerate(cfa):
                    own[CELL_SITES[k]] |= c == colour
                own[12:17, 13:18] = False
                np.testing.assert_allclose(found[own], mosaic[own], rtol=1e-4)
                # Within two pixels of the hole it is the mean of what is there.
                hole = np.isnan(found)
                self.assertEqual(hole.sum(), hole[14, 15], "but for the colour's own pixel, which has no neighbour")
        self.assertEqual(malvar(mosaic, "RGGB", "B").shape, (30, 34, 1))
        kept(self, mosaic, found)

    def test_halved_holds_what_was_measured(self) -> None:
        mosaic = self.rng.normal(400, 20, (7, 9)).astype(np.float32)
        mosaic[2, 1] = np.nan
        for cfa in CELLS:
            for colour in "RGB":
                plane = Plane(colour, Demosaic.HALF)
                found = colour_plane(mosaic, cfa, plane)
                self.assertEqual(found.shape, (3, 4))
                x0, y0 = plane_origin(cfa, plane)
                for j in range(3):
                    for i in range(4):
                        cell = [(mosaic[2 * j + k // 2, 2 * i + k % 2], k % 2, k // 2) for k in range(4) if cfa[k] == colour]
                        np.testing.assert_allclose((x0, y0), np.mean(cell, axis=0)[1:], err_msg=cfa)
                        there = [v for v, _, _ in cell if np.isfinite(v)]
                        np.testing.assert_allclose(found[j, i], np.mean(there) if there else np.nan, rtol=1e-6)

    def test_masks_follow_their_colour(self) -> None:
        mask = np.zeros((8, 8), np.uint16)
        # RGGB: red at 2, 2; green at 4, 5; what is hot is no matter of light.
        mask[2, 2], mask[4, 5], mask[6, 6] = MaskBit.SATURATED, MaskBit.NONLINEAR, MaskBit.HOT
        red, green = (plane_mask(mask, "RGGB", Plane(c, Demosaic.HALF)) for c in "RG")
        self.assertEqual((red[1, 1], red.sum()), (MaskBit.SATURATED, int(MaskBit.SATURATED)))
        self.assertEqual((green[2, 2], green.sum()), (MaskBit.NONLINEAR, int(MaskBit.NONLINEAR)))
        wide = plane_mask(mask, "RGGB", Plane("R"))
        self.assertEqual(int((wide == MaskBit.SATURATED).sum()), 9)
        self.assertTrue((wide[1:4, 1:4] == MaskBit.SATURATED).all())
