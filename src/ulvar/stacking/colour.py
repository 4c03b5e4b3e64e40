"""From channels on one grid to a colour picture: gradients, white balance, luminance, stretch."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F32Array, F64Array
from ulvar.frames.noise import robust_spread
from ulvar.registration.bent import powers

CHANNELS = ("red", "green", "blue")
# Fewer stars tell no balance.
LEAST_STARS = 5
# Names of filters, in small letters, of each channel; an earlier one is preferred.
_FILTERS = {
    "red": ("r", "red", "rc", "r'", "rp"),
    "green": ("g", "green", "v", "g'", "gp"),
    "blue": ("b", "blue"),
    "luminance": ("l", "lum", "luminance", "clear", "c", "w"),
}


@dataclass(frozen=True)
class ColourOptions:
    """How channels become a picture.

    Attributes
    ----------
    ratios : (float, float, float)
        What red, green and blue are multiplied with after the balance.
    balance : str
        ``stars``: the average star is white; ``catalogue``: a star of the colour index `white` is; ``none``.
    gradient : int
        Order of the surface that is taken off each channel; 0 takes off its level alone.
    saturation : float
        1 keeps colours as they are, 0 gives grey.
    white : float, optional
        Colour index of what is white [mag]; by default that of a star like the Sun.

    Raises
    ------
    ValueError
        For numbers that make no picture.
    """

    ratios: tuple[float, float, float] = (1.0, 1.0, 1.0)
    balance: str = "stars"
    gradient: int = 0
    saturation: float = 1.0
    white: float | None = None

    def __post_init__(self) -> None:
        if len(self.ratios) != 3 or not all(math.isfinite(r) and r > 0 for r in self.ratios):
            raise ValueError("the ratios are three numbers over 0, for red, green and blue")
        if self.balance not in ("stars", "catalogue", "none"):
            raise ValueError(f"there is no balance by '{self.balance}': it is by stars, by a catalogue, or none")
        if self.gradient not in range(5):
            raise ValueError("the order of a gradient is 0 to 4")
        if not 0 <= self.saturation <= 5:
            raise ValueError("the saturation is 0 to 5")


def channel_filters(names: list[str]) -> dict[str, str]:
    """Return which filter of a night is which channel, by their names."""
    found = {}
    for channel, known in _FILTERS.items():
        folded = {name.strip().lower(): name for name in reversed(names)}
        for wanted in known:
            if wanted in folded:
                found[channel] = folded[wanted]
                break
    return found


def smooth_surface(level: F32Array, order: int, *, box_px: int = 32) -> F32Array:
    """Return a polynomial surface through a background map, which nebulae and galaxies do not pull up.

    Parameters
    ----------
    level : float32 array, shape (height, width)
        Background of a picture [ADU]; NaN is passed over.
    order : int
        Of the polynomial in x and y.
    box_px : int
        Apart from each other lie the places that are fitted.

    Notes
    -----
    Places that lie over the surface by more than twice the spread are taken out, one-sidedly, until none is left: an object
    brightens the sky and never darkens it.

    Raises
    ------
    ValueError
        If there are too few places with a value.
    """
    height, width = level.shape
    ys = np.arange(min(box_px // 2, height // 2), height, box_px)
    xs = np.arange(min(box_px // 2, width // 2), width, box_px)
    gx, gy = np.meshgrid(xs, ys)
    values = level[gy, gx].astype(np.float64).ravel()
    terms = powers(2 * gx.ravel() / width - 1, 2 * gy.ravel() / height - 1, order)
    keep = np.isfinite(values)
    if keep.sum() < 2 * terms.shape[1]:
        raise ValueError("too little sky is known for a surface of this order")
    for _ in range(20):
        found, *_ = np.linalg.lstsq(terms[keep], values[keep], rcond=None)
        residual = values - terms @ found
        spread = robust_spread(residual[keep], about=0.0)
        new = np.isfinite(values) & (residual < 2 * spread + 1e-6) & (residual > -4 * spread - 1e-6)
        if (new == keep).all() or new.sum() < 2 * terms.shape[1]:
            break
        keep = new
    surface = np.empty(level.shape, dtype=np.float32)
    x = 2 * np.arange(width) / width - 1
    for y in range(height):
        surface[y] = powers(x, np.full(width, 2 * y / height - 1), order) @ found
    return surface


def star_balance(flux: F64Array) -> tuple[F64Array, int]:
    """Return what red, green and blue are multiplied with for the average star to be white, and of how many stars.

    Parameters
    ----------
    flux : float64 array, shape (stars, 3)
        Of each star in red, green and blue; what is not over 0 counts for nothing.

    Returns
    -------
    (float64 array of shape (3,), int)
        Green is 1. All are 1 where fewer than `LEAST_STARS` can be compared.
    """
    good = np.isfinite(flux).all(axis=1) & (flux > 0).all(axis=1)
    colours = np.log(flux[good][:, [1, 1]] / flux[good][:, [0, 2]])
    # Red giants and blue stars are the exception: the middle of those that are alike.
    for _ in range(10):
        if len(colours) < LEAST_STARS:
            return np.ones(3), 0
        middle = np.median(colours, axis=0)
        spread = np.array([robust_spread(colours[:, k]) for k in range(2)])
        inside = (np.abs(colours - middle) <= 3 * spread + 1e-9).all(axis=1)
        if inside.all():
            break
        colours = colours[inside]
    red, blue = np.exp(np.median(colours, axis=0))
    return np.array([red, 1.0, blue]), len(colours)


def with_luminance(planes: F32Array, luminance: F32Array) -> F32Array:
    """Return the planes (3, height, width) with another brightness; differences between them stay.

    Where there is no luminance the planes' own stays.
    """
    own = planes.mean(axis=0)
    change = luminance - own
    return np.asarray(planes + np.where(np.isfinite(change), change, np.float32(0.0)), dtype=np.float32)


def levels_for(picture: F32Array, noise_adu: float) -> tuple[float, float, float]:
    """Return the levels of a picture over a background of 0 for the eye: black, how soft, white [ADU]."""
    black, soft = -2.0 * noise_adu, max(4.0 * noise_adu, 1e-12)
    return black, soft, max(float(np.nanpercentile(picture, 99.9)), black + 10 * soft)


def _lifted(picture: F32Array, black: float, soft: float, white: float) -> F32Array:
    return np.asarray(
        np.arcsinh(np.maximum(picture - black, 0) / soft) / math.asinh((white - black) / soft), dtype=np.float32
    )


def stretched_grey(picture: F32Array, levels: tuple[float, float, float]) -> F32Array:
    """Return a grey picture for the eye, values 0 to 1, by the levels of `levels_for`; what has no value is black."""
    return np.asarray(np.clip(_lifted(np.nan_to_num(picture, nan=levels[0]), *levels), 0, 1))


def stretched(planes: F32Array, noise_adu: float, *, saturation: float = 1.0) -> F32Array:
    """Return a picture for the eye, values 0 to 1, shape (3, height, width): faint things lifted, colours kept.

    Parameters
    ----------
    planes : float32 array, shape (3, height, width)
        Red, green and blue over a background of 0.
    noise_adu : float
        Of their mean.
    saturation : float

    Notes
    -----
    The mean of the three is stretched by an inverse hyperbolic sine, and each is multiplied with the same factor, so that a
    star's colour does not depend on its brightness; what would be over 1 is divided by its largest (Lupton et al. 2004,
    PASP 116, 133).
    """
    mean = np.nan_to_num(planes.mean(axis=0))
    black, soft, white = levels_for(mean, noise_adu)
    lifted = _lifted(mean, black, soft, white)
    # Colour is that of the light over the black level; where there is none it is grey.
    safe = np.maximum(mean - black, soft / 100)
    colour = mean[None] + saturation * (np.nan_to_num(planes) - mean[None]) - black
    shown = np.maximum(colour, 0) * (lifted / safe)[None]
    most = np.maximum(shown.max(axis=0), 1.0)
    return np.asarray(np.clip(shown / most[None], 0, 1), dtype=np.float32)
