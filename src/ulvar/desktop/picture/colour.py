"""Colour pictures: the mosaic of a colour sensor interpolated for the eye, a neutral sky, and stretches that keep hues.

Only what is on screen is interpolated; nothing here ever reaches a measurement.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ulvar.desktop.picture.stretch import Stretch
from ulvar.frames import Balance, malvar, on_one_scale


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
    result = malvar(part, cfa)
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
