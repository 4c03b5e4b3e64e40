"""The mosaic of a colour sensor: its cell, and its bands on one scale."""

from __future__ import annotations

import numpy as np

from ulvar.engine import F32Array

# Pixels of a mosaic that have the same place in its 2 x 2 cell, first row first.
CELL_SITES = tuple((slice(k // 2, None, 2), slice(k % 2, None, 2)) for k in range(4))
# Offset [ADU] and factor of red, green and blue; empty for a grey picture.
Balance = tuple[tuple[float, float], ...]
# A band is brightened or dimmed by this at most to make the average star white.
_MOST = 6.0


def is_mosaic(cfa: str) -> bool:
    """Whether a 2 x 2 cell, first row first, is one of red, blue and two greens on a diagonal."""
    if len(cfa) != 4 or sorted(cfa) != ["B", "G", "G", "R"]:
        return False
    return cfa[0] == cfa[3] == "G" or cfa[1] == cfa[2] == "G"


def cell_colours(mosaic: F32Array, cfa: str) -> F32Array:
    """Return one colour pixel for each 2 x 2 cell: nothing is interpolated, both greens are averaged.

    Parameters
    ----------
    mosaic : float32 array, shape (height, width)
    cfa : str
        Colours of the cell, first row first (``RGGB``).

    Returns
    -------
    float32 array, shape (height // 2, width // 2, 3)
    """
    height, width = mosaic.shape[0] // 2 * 2, mosaic.shape[1] // 2 * 2
    result = np.zeros((height // 2, width // 2, 3), dtype=np.float32)
    for k, colour in enumerate(cfa):
        part = mosaic[k // 2 : height : 2, k % 2 : width : 2]
        result[..., "RGB".index(colour)] += 0.5 * part if colour == "G" else part
    return result


def on_one_scale(mosaic: F32Array, cfa: str, balance: Balance) -> F32Array:
    """Return a mosaic, from the first pixel of a cell on, with its bands on the scale of green; see `white_balance`."""
    result = np.array(mosaic, dtype=np.float32)
    for k, colour in enumerate(cfa):
        offset, factor = balance["RGB".index(colour)]
        own = result[CELL_SITES[k]]
        own -= np.float32(offset)
        own *= np.float32(factor)
        own += np.float32(balance[1][0])
    return result


def white_balance(colours: F32Array) -> Balance:
    """Return what makes the sky neutral and the average star white, relative to green.

    The light over the sky in bright pixels, summed, is made equal in the three bands. A picture without stars, such as
    a flat, is made neutral by its levels.

    Parameters
    ----------
    colours : float32 array, shape (height, width, 3)

    Returns
    -------
    tuple of three (offset [ADU], factor)
        A value becomes (value - offset) * factor + the offset of green.
    """
    pixels = colours.reshape(-1, 3)
    pixels = pixels[np.isfinite(pixels).all(axis=1)]
    if not len(pixels):
        return ((0.0, 1.0),) * 3
    pixels = pixels[:: max(1, len(pixels) // 200_000)]
    sky = np.median(pixels, axis=0)
    over = pixels - sky
    noise = 1.4826 * np.median(np.abs(over), axis=0)
    light = over.sum(axis=1)
    # The very brightest are left out: their bands saturate one after the other, which is no colour.
    bright = (over > 5 * noise).all(axis=1) & (light <= np.quantile(light, 0.9995))
    if bright.sum() >= 30 and bright.mean() < 0.2:
        sums = over[bright].sum(axis=0)
        factors = sums[1] / sums
    elif (sky > 0).all():
        factors = sky[1] / sky
    else:
        factors = np.ones(3)
    factors = np.clip(factors, 1 / _MOST, _MOST)
    return tuple((float(s), float(f)) for s, f in zip(sky, factors))
