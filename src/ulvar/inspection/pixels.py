"""A quick look at an exposure's pixels: enough to tell a dark from a light and a flat from a lens cap."""

from __future__ import annotations

import math
from dataclasses import asdict, dataclass, fields
from typing import Any

import cv2
import numpy as np

from ulvar.engine import F32Array
from ulvar.frames import difference_noise, median, robust_spread, row_medians, sorted_quantiles

# A look is taken in a band of rows across the middle of the frame, of about this many pixels.
LOOK_PIXELS = 400_000
# Raised whenever a look comes out otherwise than before: looks that were kept are then taken anew.
LOOK_VERSION = 2


@dataclass(frozen=True)
class PixelLook:
    """What a band of an exposure's pixels shows.

    Attributes
    ----------
    level_adu : float
        Median, of whole numbers to a part of their step [ADU].
    noise_adu : float
        Robust deviation of neighbouring pixels from each other, over the root of two [ADU].
    low_adu, high_adu : float
        Levels that 1 % of the pixels lie below, and above [ADU].
    maximum_adu : float
    at_maximum : int
        Pixels at the maximum: many of them are a ceiling.
    step_adu : int
        Greatest common step of the values, 0 when they are no integers or all alike.
    stars : int
        Compact sources wider than a pixel that stand 8 deviations over their surroundings.
    pixels : int
        Pixels looked at.
    finite : float
        Share of them that are numbers.
    """

    level_adu: float
    noise_adu: float
    low_adu: float
    high_adu: float
    maximum_adu: float
    at_maximum: int
    step_adu: int
    stars: int
    pixels: int
    finite: float

    @property
    def constant(self) -> bool:
        """Whether all pixels have the same value."""
        return self.finite > 0 and self.low_adu == self.high_adu == self.maximum_adu

    def as_json(self) -> dict[str, Any]:
        """Return plain numbers; what is not finite becomes None."""
        body = {k: None if isinstance(v, float) and not math.isfinite(v) else v for k, v in asdict(self).items()}
        return {**body, "version": LOOK_VERSION}

    @classmethod
    def from_json(cls, body: dict[str, Any]) -> PixelLook | None:
        """Return a look from plain numbers; None when it was taken by another version, or something spoiled it."""
        if body.get("version") != LOOK_VERSION or set(body) != {"version", *(f.name for f in fields(cls))}:
            return None
        body = {k: v for k, v in body.items() if k != "version"}
        values: dict[str, Any] = {k: math.nan if v is None else v for k, v in body.items()}
        numbers = all(isinstance(v, int | float) for v in values.values())
        return cls(**values) if numbers else None


def look_band(height: int, width: int) -> tuple[int, int]:
    """Return the rows (y0, y1) to look at: across the middle, an even number of them from an even row."""
    rows = min(height, max(2, LOOK_PIXELS // max(1, width)))
    y0 = (height - rows) // 2 // 2 * 2
    return y0, min(height, y0 + max(2, rows // 2 * 2))


def look_at(band: F32Array, *, mosaic: bool = False) -> PixelLook:
    """Look at a band of pixels.

    Parameters
    ----------
    band : float32 array, shape (rows, columns)
        [ADU]; NaN is no data. Not modified.
    mosaic : bool
        Whether neighbours have different colours; 2 x 2 cells are then averaged before stars are looked for.

    Returns
    -------
    PixelLook
    """
    good = np.isfinite(band)
    finite = float(good.mean()) if band.size else 0.0
    if finite == 0.0:
        nan = math.nan
        return PixelLook(nan, nan, nan, nan, nan, 0, 0, 0, int(band.size), 0.0)
    values = band[good] if finite < 1.0 else band.ravel()
    level = _median(values[::3])
    data = band if finite == 1.0 else np.where(good, band, np.float32(level))
    shift = 2 if mosaic else 1
    noise = difference_noise(data, apart=shift, thin=3)
    low, high = (float(v) for v in sorted_quantiles(np.sort(values[::2]), (0.01, 0.99)))
    top = float(values.max())
    step = _step(values)
    return PixelLook(
        level, noise, low, high, top, int((values == np.float32(top)).sum()), step, _stars(data, mosaic, step),
        int(band.size), finite,
    )  # fmt: skip


def _median(values: F32Array) -> float:
    """Median, of whole numbers to a part of their step (the grouped median): a level is known far better than that."""
    middle = median(values)
    equal = int((values == np.float32(middle)).sum())
    if equal < 2 or middle != round(middle):
        return middle
    below = int((values < np.float32(middle)).sum())
    step = max(1, _step(values))
    return middle - 0.5 * step + step * (0.5 * values.size - below) / equal


def _step(values: F32Array) -> int:
    sample = values[:: max(1, values.size // 50_000)]
    if not np.array_equal(sample, np.rint(sample)) or np.abs(sample).max() >= 2**24:
        return 0
    distances = (sample - sample[0]).astype(np.int64)
    # Where a few have steps of one, all have.
    return 1 if np.gcd.reduce(distances[:500]) == 1 else int(np.gcd.reduce(distances))


def _stars(data: F32Array, mosaic: bool, step: int) -> int:
    if mosaic:
        height, width = data.shape[0] // 2 * 2, data.shape[1] // 2 * 2
        data = data[:height, :width].reshape(height // 2, 2, width // 2, 2).mean(axis=(1, 3), dtype=np.float32)
    if min(data.shape) < 8:
        return 0
    # Cells small beside a vignette, large beside a star; their medians do not see stars.
    cell = min(32, *data.shape)
    ny, nx = data.shape[0] // cell, data.shape[1] // cell
    data = data[: ny * cell, : nx * cell]
    cells = data.reshape(ny, cell, nx, cell)[:, ::2, :, ::2].transpose(0, 2, 1, 3).reshape(ny, nx, -1)
    coarse = row_medians(cells).astype(np.float32)
    residual = data - cv2.resize(coarse, (data.shape[1], data.shape[0]), interpolation=cv2.INTER_LINEAR)
    noise = robust_spread(residual.ravel()[::3], about=0.0)
    # Values in coarse steps may all be alike, and their neighbours a whole step off: the step is a noise too.
    noise = max(noise, 0.6 * step, 1e-6)
    # A glow at the edge is steeper than the cells; what is left of it is no star.
    residual -= cv2.blur(np.clip(residual, -3 * noise, 3 * noise), (15, 15))
    peaks = (residual > 8 * noise) & (residual >= cv2.dilate(residual, np.ones((3, 3), np.uint8)))
    if not peaks.any():
        return 0
    around = 9 * cv2.blur(residual, (3, 3)) - residual
    lit = 9 * cv2.blur((residual > 2.5 * noise).astype(np.float32), (3, 3)) - 1
    # A hot pixel has dark neighbours, a cosmic ray a few bright ones in a line; a star shines on all sides.
    return int((peaks & (lit > 6.5) & (around > 1.8 * residual)).sum())
