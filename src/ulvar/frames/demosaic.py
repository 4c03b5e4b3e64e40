"""The colours of a mosaic: each as a plane of its own, missing pixels interpolated or left away."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import cv2
import numpy as np

from ulvar.engine import F32Array, MaskArray
from ulvar.frames.frame import MaskBit
from ulvar.frames.mosaic import CELL_SITES, cell_colours, on_one_scale, white_balance


class Demosaic(StrEnum):
    """How a colour gets the pixels that it was not measured in."""

    MALVAR = "malvar"
    BILINEAR = "bilinear"
    HALF = "half"


@dataclass(frozen=True)
class Plane:
    """One colour of a mosaic: ``R``, ``G`` or ``B``, and how it becomes a picture."""

    colour: str
    method: Demosaic = Demosaic.MALVAR

    @property
    def share(self) -> float:
        """How many of the sensor's pixels measured it."""
        return 0.5 if self.colour == "G" else 0.25


# Weights of Malvar et al. 2004, fig. 2: neighbours of the wanted colour, and the own colour's curvature. Green at red and
# blue; a colour at green between two of its pixels in the row (in the column: transposed); red at blue and blue at red.
_GREEN = np.array(
    [[0, 0, -1, 0, 0], [0, 0, 2, 0, 0], [-1, 2, 4, 2, -1], [0, 0, 2, 0, 0], [0, 0, -1, 0, 0]], dtype=np.float32
) / 8  # fmt: skip
_IN_ROW = np.array(
    [[0, 0, 0.5, 0, 0], [0, -1, 0, -1, 0], [-1, 4, 5, 4, -1], [0, -1, 0, -1, 0], [0, 0, 0.5, 0, 0]], dtype=np.float32
) / 8  # fmt: skip
_OPPOSITE = np.array(
    [[0, 0, -1.5, 0, 0], [0, 2, 0, 2, 0], [-1.5, 0, 6, 0, -1.5], [0, 2, 0, 2, 0], [0, 0, -1.5, 0, 0]], dtype=np.float32
) / 8  # fmt: skip
# Weights of neighbours of the same colour: red and blue lie at every other pixel of every other row, green in a quincunx.
_AROUND = {
    True: np.array([[0, 1, 0], [1, 4, 1], [0, 1, 0]], dtype=np.float32) / 4,
    False: np.array([[1, 2, 1], [2, 4, 2], [1, 2, 1]], dtype=np.float32) / 4,
}


def malvar(part: F32Array, cfa: str, colours: str = "RGB") -> F32Array:
    """Return colours of a mosaic, missing pixels interpolated (Malvar, He & Cutler 2004, ICASSP III-485).

    Parameters
    ----------
    part : float32 array, shape (height, width)
        From the first pixel of a cell on; its bands are best on one scale.
    cfa : str
        Colours of the cell, first row first.
    colours : str
        Which are wanted.

    Returns
    -------
    float32 array, shape (height, width, number of colours)
        NaN within two pixels of one without data.
    """
    # Mirrored about the last pixel, the cell keeps its phase beyond the picture's edge.
    green, row, column, opposite = (
        cv2.filter2D(part, -1, kernel, borderType=cv2.BORDER_REFLECT_101)
        for kernel in (_GREEN, _IN_ROW, _IN_ROW.T, _OPPOSITE)
    )
    result = np.repeat(part[..., None], len(colours), axis=2)
    for k, own in enumerate(cfa):
        site = CELL_SITES[k]
        for band, colour in enumerate(colours):
            if colour == own:
                continue
            if colour == "G":
                found = green
            elif own != "G":
                found = opposite
            else:
                # The other pixel of this row of the cell says which colour lies left and right.
                found = row if cfa[k ^ 1] == colour else column
            result[..., band][site] = found[site]
    return result


def _bilinear(mosaic: F32Array, cfa: str, colour: str) -> F32Array:
    """Return one colour, missing pixels the mean of their neighbours; NaN where no neighbour has data."""
    there = np.zeros(mosaic.shape, dtype=np.float32)
    for k, own in enumerate(cfa):
        if own == colour:
            there[CELL_SITES[k]] = 1.0
    there[~np.isfinite(mosaic)] = 0.0
    values = np.where(there > 0, mosaic, np.float32(0.0))
    kernel = _AROUND[colour == "G"]
    total, weight = (cv2.filter2D(v, -1, kernel, borderType=cv2.BORDER_REFLECT_101) for v in (values, there))
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(weight > 0.2, total / weight, np.float32(np.nan)).astype(np.float32)


def _halved(mosaic: F32Array, cfa: str, colour: str) -> F32Array:
    height, width = mosaic.shape[0] // 2 * 2, mosaic.shape[1] // 2 * 2
    own = [mosaic[k // 2 : height : 2, k % 2 : width : 2] for k in range(4) if cfa[k] == colour]
    if len(own) == 1:
        return np.array(own[0])
    there = np.isfinite(own[0]).astype(np.float32) + np.isfinite(own[1])
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray((np.nan_to_num(own[0]) + np.nan_to_num(own[1])) / there, dtype=np.float32)


def colour_plane(mosaic: F32Array, cfa: str, plane: Plane) -> F32Array:
    """Return one colour of a mosaic on the sensor's own scale.

    Parameters
    ----------
    mosaic : float32 array, shape (height, width)
        NaN marks pixels without data; not modified.
    cfa : str
        Colours of the cell, first row first.
    plane : Plane

    Returns
    -------
    float32 array, shape (height, width), or half of both for `Demosaic.HALF`
        NaN where too few neighbours have data. Half as large it holds only what was measured, the mean of both greens.
    """
    if plane.method is Demosaic.HALF:
        return _halved(mosaic, cfa, plane.colour)
    simple = _bilinear(mosaic, cfa, plane.colour)
    if plane.method is Demosaic.BILINEAR:
        return simple
    # Bands change alike from pixel to pixel where they are on one scale.
    balance = white_balance(cell_colours(mosaic, cfa))
    found = malvar(on_one_scale(mosaic, cfa, balance), cfa, plane.colour)[..., 0]
    offset, factor = balance["RGB".index(plane.colour)]
    found -= np.float32(balance[1][0])
    found /= np.float32(factor)
    found += np.float32(offset)
    return np.where(np.isfinite(found), found, simple)


def plane_mask(mask: MaskArray, cfa: str, plane: Plane) -> MaskArray:
    """Return the mask that goes with a colour's plane: saturated and bent pixels of that colour, and what is made of them."""
    full = np.zeros(mask.shape, dtype=np.uint16)
    for k, own in enumerate(cfa):
        if own == plane.colour:
            full[CELL_SITES[k]] = mask[CELL_SITES[k]] & np.uint16(MaskBit.SATURATED | MaskBit.NONLINEAR)
    if plane.method is not Demosaic.HALF:
        bits = [full & np.uint16(bit) for bit in (MaskBit.SATURATED, MaskBit.NONLINEAR)]
        spread = [cv2.dilate(bit, np.ones((3, 3), np.uint8)) for bit in bits]
        return np.asarray(spread[0] | spread[1])
    height, width = mask.shape[0] // 2 * 2, mask.shape[1] // 2 * 2
    quarters = [full[k // 2 : height : 2, k % 2 : width : 2] for k in range(4)]
    return np.asarray(np.bitwise_or.reduce(quarters))


def plane_origin(cfa: str, plane: Plane) -> tuple[float, float]:
    """Return where the first pixel of a halved colour lies on the mosaic: x and y [px]; its pixels are two apart."""
    sites = [k for k in range(4) if cfa[k] == plane.colour]
    return sum(k % 2 for k in sites) / len(sites), sum(k // 2 for k in sites) / len(sites)
