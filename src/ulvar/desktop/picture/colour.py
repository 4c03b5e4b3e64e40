"""Colour pictures: the mosaic of a colour sensor interpolated for the eye, a neutral sky, and stretches that keep hues.

Only what is on screen is interpolated; nothing here ever reaches a measurement.
"""

from __future__ import annotations

from dataclasses import replace

import cv2
import numpy as np

from ulvar.desktop.picture.stretch import Stretch
from ulvar.frames import CELL_SITES, Balance, on_one_scale

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


def interpolated(mosaic: np.ndarray, cfa: str, x0: int, y0: int, x1: int, y1: int, balance: Balance = ()) -> np.ndarray:
    """Return the colours of a part of a mosaic, missing ones interpolated (Malvar, He & Cutler 2004, ICASSP III-485).

    Parameters
    ----------
    mosaic : float32 array, shape (height, width)
    cfa : str
    x0, y0, x1, y1 : int
        The part, ends excluded [px].
    balance : tuple of three (offset, factor), optional
        Brings the bands to one scale while they are compared, see `white_balance`; the result is on the mosaic's own.

    Returns
    -------
    float32 array, shape (y1 - y0, x1 - x0, 3)
    """
    height, width = mosaic.shape
    # Two pixels more on each side keep the cell's phase and give the edge its neighbours.
    left, low = max(0, x0 // 2 * 2 - 2), max(0, y0 // 2 * 2 - 2)
    scales = balance or ((0.0, 1.0),) * 3
    part = on_one_scale(mosaic[low : min(height, y1 + 2), left : min(width, x1 + 2)], cfa, scales)
    # Mirrored about the last pixel, the cell keeps its phase beyond the picture's edge.
    green, row, column, opposite = (
        cv2.filter2D(part, -1, kernel, borderType=cv2.BORDER_REFLECT_101)
        for kernel in (_GREEN, _IN_ROW, _IN_ROW.T, _OPPOSITE)
    )
    result = np.repeat(part[..., None], 3, axis=2)
    for k, own in enumerate(cfa):
        site = CELL_SITES[k]
        for band, colour in enumerate("RGB"):
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
    for band, (offset, factor) in enumerate(scales):
        result[..., band] = (result[..., band] - np.float32(scales[1][0])) / np.float32(factor) + np.float32(offset)
    return result[y0 - low : y1 - low, x0 - left : x1 - left]


def balanced(colours: np.ndarray, balance: Balance) -> np.ndarray:
    """Return colours on the scale of green; see `white_balance`."""
    offsets = np.array([b[0] for b in balance], dtype=np.float32)
    factors = np.array([b[1] for b in balance], dtype=np.float32)
    return (colours - offsets) * factors + offsets[1]


def stretched(colours: np.ndarray, stretch: Stretch, balance: Balance, quantiles: np.ndarray) -> np.ndarray:
    """Return uint8 colours; the stretch acts on brightness, so that hues stay (Lupton et al. 2004, PASP 116, 133, eq. 2).

    Parameters
    ----------
    colours : float32 array, shape (height, width, 3)
    stretch : Stretch
    balance : tuple of three (offset, factor)
    quantiles : float array
        Sorted brightness, for Rank.

    Returns
    -------
    uint8 array, shape (height, width, 3)
    """
    values = balanced(colours, balance)
    values -= np.float32(stretch.floor)
    light = values.mean(axis=2)
    curve = replace(stretch, inverted=False).apply(light + np.float32(stretch.floor), quantiles).astype(np.float32)
    span = np.float32(max(stretch.ceiling - stretch.floor, 1e-12))
    # What lies at the floor or below it is black whatever its hue; a small share of the span keeps noise from glowing.
    curve /= np.maximum(light, np.float32(1e-3) * span)
    values *= curve[..., None]
    most = values.max(axis=2)
    # Where one band would be over white, all are dimmed: a bright star keeps its hue.
    over = most > 255
    if over.any():
        values[over] *= (255 / most[over])[:, None]
    np.nan_to_num(values, copy=False, nan=0.0)
    np.clip(values, 0, 255, out=values)
    shown = values.astype(np.uint8)
    return 255 - shown if stretch.inverted else shown
