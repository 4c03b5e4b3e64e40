"""Stretches: from pixel values to grey, and from grey to colours. They never change data."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ulvar.frames import robust_spread, sorted_quantiles

STRETCHES = {
    "Linear": "Equal steps of light are equal steps of grey",
    "Root": "The square root: faint light is lifted a little",
    "Log": "The logarithm: faint light is lifted much, bright stars stay apart",
    "Asinh": "Straight below the knee, a logarithm above it: faint light and bright stars at once",
    "Rank": "Histogram equalisation: each grey holds as many pixels as every other",
}
# Where the curve bends when the user has not said so, as a share of the way from floor to ceiling.
_KNEES = {"Root": 0.25, "Log": 1 / 200, "Asinh": 1 / 25}
# The same for pictures that are even, where nothing is to be compressed.
_EVEN = {"Root": 0.5, "Log": 0.9, "Asinh": 0.9}
_STEPS = 4096

# Colours from dark to bright, as (share, red, green, blue).
COLOURS: dict[str, tuple[tuple[float, int, int, int], ...]] = {
    "Grey": ((0, 0, 0, 0), (1, 255, 255, 255)),
    "Ember": ((0, 0, 0, 0), (0.35, 120, 22, 12), (0.7, 240, 150, 40), (1, 255, 250, 225)),
    "Frost": ((0, 0, 0, 8), (0.35, 12, 60, 120), (0.7, 80, 180, 215), (1, 245, 253, 255)),
    "Contours": tuple(
        (min(1.0, (i + e) / 12), *(3 * (round(255 * i / 11),) if i % 2 else (round(190 * i / 11), round(225 * i / 11), 255)))
        for i in range(12)
        for e in (0.0, 0.999)
    ),
}  # fmt: skip


def colour_table(name: str, *, red_only: bool = False) -> list[int]:
    """Return 256 colours (0xAARRGGBB) of a colour map; `red_only` keeps nothing but red."""
    if red_only:
        return [0xFF000000 | (i << 16) for i in range(256)]
    stops = np.array(COLOURS[name], dtype=float)
    share = np.linspace(0, 1, 256)
    r, g, b = (np.interp(share, stops[:, 0], stops[:, c]).round().astype(int) for c in (1, 2, 3))
    return [0xFF000000 | int(x) << 16 | int(y) << 8 | int(z) for x, y, z in zip(r, g, b)]


@dataclass(frozen=True)
class Stretch:
    """A stretch: name, floor and ceiling [ADU], the knee, whether black and white are swapped, and the colours.

    The knee is a share of the way from floor to ceiling: Asinh and Log are nearly straight below it and compress
    above it; Root shows it as middle grey. None is the usual one of each.
    """

    name: str = "Asinh"
    floor: float = 0.0
    ceiling: float = 1.0
    inverted: bool = False
    knee: float | None = None
    colours: str = "Grey"

    @property
    def has_knee(self) -> bool:
        """Whether the stretch bends."""
        return self.name in _KNEES

    @property
    def knee_adu(self) -> float:
        """Level of the knee [ADU]."""
        return self.floor + self._bend * (self.ceiling - self.floor)

    @property
    def _bend(self) -> float:
        return min(max(self.knee if self.knee is not None else _KNEES.get(self.name, 0.5), 1e-4), 0.95)

    def curve(self, quantiles: np.ndarray | None = None) -> np.ndarray:
        """Return grey (uint8) for evenly spaced levels from floor to ceiling, shape (4096,)."""
        share = np.linspace(0, 1, _STEPS)
        if self.name == "Rank" and quantiles is not None and len(quantiles) > 1:
            inside = quantiles[(quantiles >= self.floor) & (quantiles <= self.ceiling)]
            if len(inside) > 1:
                share = np.searchsorted(inside, self.floor + share * (self.ceiling - self.floor)) / len(inside)
        elif self.name == "Root":
            share = share ** (np.log(0.5) / np.log(self._bend))
        elif self.name == "Log":
            share = np.log1p(share / self._bend) / np.log1p(1 / self._bend)
        elif self.name == "Asinh":
            share = np.arcsinh(share / self._bend) / np.arcsinh(1 / self._bend)
        grey = np.clip(share * 255, 0, 255).astype(np.uint8)
        return 255 - grey if self.inverted else grey

    def apply(self, values: np.ndarray, quantiles: np.ndarray | None = None) -> np.ndarray:
        """Return uint8 grey for float32 values; NaN is black (white when swapped).

        Parameters
        ----------
        values : float32 array
        quantiles : float array, optional
            Sorted sample of the picture, for Rank.
        """
        span = max(self.ceiling - self.floor, 1e-12)
        # A table of 4096 steps in the place of a function of each pixel: painting keeps up with the hand.
        step = np.multiply(values, np.float32((_STEPS - 1) / span), dtype=np.float32)
        step += np.float32(0.5 - self.floor * (_STEPS - 1) / span)
        np.clip(step, 0, _STEPS - 1, out=step)
        if not np.isfinite(step.sum()):
            np.nan_to_num(step, copy=False, nan=0.0)
        return self.curve(quantiles).take(step.astype(np.uint16), mode="clip")


@dataclass(frozen=True)
class Sample:
    """A picture's pixels in a small: sorted finite values, and the levels that suit them [ADU].

    It is made where the picture is read: the window's thread only takes the levels over.
    """

    values: np.ndarray
    floor: float = 0.0
    ceiling: float = 1.0
    # Nothing is to be compressed: a bias, a dark or a flat.
    even: bool = False

    @classmethod
    def of(cls, pixels: np.ndarray) -> Sample:
        """Return the sample of pixels of any shape.

        Stars want a ceiling far above the sky and a floor just under it. A bias, a dark or a flat, whose values lie
        near their median, wants its own range, in which a few hot pixels do not count. A stack, whose noise is a small
        part of its structure, keeps its faint light: the floor goes by the noise, the ceiling by the bright end.
        """
        good = np.sort(pixels[np.isfinite(pixels)], axis=None)
        if good.size == 0:
            return cls(good)
        middle, low, high, top, bottom = (float(v) for v in sorted_quantiles(good, (0.5, 0.01, 0.99, 0.998, 0.002)))
        noise = robust_spread(good, about=middle)
        if noise <= 0:
            # More than half of the pixels have one value.
            noise = max((high - low) / 5, abs(middle) * 1e-3, 1e-6)
        skew = (top - middle) - (middle - bottom)
        # Light comes on one side only: stars, not the shape of a flat.
        if top - middle > 8 * noise and skew > 5 * noise:
            # So few pixels over the sky that they are no stars but hot pixels: a dark.
            share = 1 - np.searchsorted(good, middle + 8 * noise, side="right") / good.size
            if share > 0.0025:
                ceiling = max(middle + 50 * noise, middle + 0.3 * (top - middle))
                return cls(good, middle - 1.2 * noise, ceiling)
        floor = min(middle - 4 * noise, low) if low > middle - 12 * noise else low
        return cls(good, floor, max(middle + 5 * noise, high), even=True)

    def histogram(self, low: float, high: float, bins: int) -> np.ndarray:
        """Return the number of values in each of `bins` equal steps from low to high."""
        return np.diff(np.searchsorted(self.values, np.linspace(low, high, bins + 1)))


def auto_stretch(sample: Sample, stretch: Stretch) -> Stretch:
    """Return the stretch with the levels that suit a picture; an even one is nearly straight, its level middle grey."""
    if not sample.values.size:
        return stretch
    knee = _EVEN.get(stretch.name) if sample.even else None
    return replace(stretch, floor=sample.floor, ceiling=sample.ceiling, knee=knee)
