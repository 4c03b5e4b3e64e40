"""Stretches: from pixel values to grey. They never change data."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

STRETCHES = ("Linear", "Root", "Log", "Asinh", "Rank")


@dataclass(frozen=True)
class Stretch:
    """A stretch: name, floor and ceiling [ADU], and whether black and white are swapped."""

    name: str = "Asinh"
    floor: float = 0.0
    ceiling: float = 1.0
    inverted: bool = False

    def apply(self, values: np.ndarray, quantiles: np.ndarray | None = None) -> np.ndarray:
        """Return uint8 grey for float32 values; NaN is black.

        Parameters
        ----------
        values : float32 array
        quantiles : float array, optional
            Sorted sample of the picture, for Rank.
        """
        span = max(self.ceiling - self.floor, 1e-12)
        share = np.clip((values - np.float32(self.floor)) * np.float32(1 / span), 0, 1)
        if self.name == "Rank" and quantiles is not None and len(quantiles) > 1:
            inside = quantiles[(quantiles >= self.floor) & (quantiles <= self.ceiling)]
            if len(inside) > 1:
                share = (np.searchsorted(inside, values) / len(inside)).astype(np.float32)
        elif self.name == "Root":
            share = np.sqrt(share)
        elif self.name == "Log":
            share = np.log1p(share * 200) / np.float32(np.log1p(200))
        elif self.name == "Asinh":
            share = np.arcsinh(share * 25) / np.float32(np.arcsinh(25))
        grey = np.nan_to_num(share * 255, nan=0.0).astype(np.uint8)
        return 255 - grey if self.inverted else grey


def auto_stretch(sample: np.ndarray, stretch: Stretch) -> Stretch:
    """Choose floor and ceiling from the level and noise of a sample of pixels.

    Stars want a ceiling far above the sky; a flat or a bias, whose values are all near their median, wants
    its own range.
    """
    good = sample[np.isfinite(sample)]
    if good.size == 0:
        return stretch
    median = float(np.median(good))
    noise = 1.4826 * float(np.median(np.abs(good - median))) or 1.0
    top = float(np.percentile(good, 99.8))
    if top - median > 8 * noise:
        low, high = median - 1.2 * noise, max(median + 50 * noise, median + 0.3 * (top - median))
    else:
        low, high = median - 4 * noise, max(median + 5 * noise, top)
    return replace(stretch, floor=low, ceiling=high)
