"""A made-up camera: everything that a sensor adds to the light."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy import ndimage

from ulvar.engine import BoolArray, F64Array

# gain setting -> conversion gain [e-/ADU], read noise [e-]
GAIN_TABLE = {100: (1.3, 6.2), 0: (4.1, 9.4)}


@dataclass(frozen=True)
class CameraState:
    """Settings of one exposure: gain setting, exposure [s], sensor temperature [C]."""

    gain: int
    exposure_s: float
    temperature_c: float

    @property
    def e_per_adu(self) -> float:
        """Conversion gain [e-/ADU]."""
        return GAIN_TABLE[self.gain][0]

    @property
    def read_noise_e(self) -> float:
        """Read noise [e-]."""
        return GAIN_TABLE[self.gain][1]


@dataclass(frozen=True)
class Camera:
    """Sensor with fixed patterns drawn from a seed.

    Attributes
    ----------
    width, height : int
    seed : int
    offset_adu : float
        Bias level [ADU].
    hot_fraction : float
        Share of hot pixels.
    dead_column : int or None
    """

    width: int
    height: int
    seed: int = 6
    offset_adu: float = 300.0
    hot_fraction: float = 0.0016
    dead_column: int | None = None

    def _rng(self, part: int) -> np.random.Generator:
        return np.random.default_rng([self.seed, part])

    @cached_property
    def bias_pattern(self) -> F64Array:
        """Fixed bias structure [ADU], mean 0: columns, and a slope along rows."""
        rng = self._rng(1)
        columns = rng.normal(0.0, 1.6, self.width)
        slope = np.linspace(2.5, -1.0, self.height)[:, None]
        return np.asarray(columns[None, :] - columns.mean() + slope - slope.mean())

    @cached_property
    def hot(self) -> BoolArray:
        """Hot pixels."""
        return np.asarray(self._rng(2).random((self.height, self.width)) < self.hot_fraction)

    @cached_property
    def dark_rate(self) -> F64Array:
        """Dark current at -15 C [e-/s], with hot pixels and edge glow."""
        rng = self._rng(3)
        rate = rng.lognormal(math.log(0.03), 0.4, (self.height, self.width))
        rate[self.hot] += rng.lognormal(math.log(2.0), 1.1, int(self.hot.sum()))
        x = np.arange(self.width)[None, :]
        y = np.arange(self.height)[:, None]
        glow = 0.45 * np.exp((x - self.width) / (0.045 * self.width))
        corner = 0.6 * np.exp(-np.hypot(x, y - self.height) / (0.08 * self.width))
        return np.asarray(rate + glow + corner)

    @cached_property
    def flat(self) -> F64Array:
        """Relative response, median near 1: vignetting, dust rings, pixel differences, a dead column."""
        rng = self._rng(4)
        y, x = np.mgrid[: self.height, : self.width].astype(float)
        cx, cy = 0.53 * self.width, 0.48 * self.height
        r2 = ((x - cx) ** 2 + (y - cy) ** 2) / (self.width**2 / 4)
        response = 1.06 / (1 + 0.13 * r2) ** 2
        for _ in range(5):
            px, py = rng.uniform(0.08, 0.92) * self.width, rng.uniform(0.08, 0.92) * self.height
            radius = rng.uniform(0.012, 0.028) * self.width
            ring = np.hypot(x - px, y - py)
            response *= 1 - rng.uniform(0.03, 0.07) * np.exp(-0.5 * ((ring - radius) / (0.3 * radius)) ** 2)
        response *= rng.normal(1.0, 0.007, response.shape)
        if self.dead_column is not None:
            response[:, self.dead_column] *= 0.12
        return np.asarray(response)

    def expose(
        self,
        rng: np.random.Generator,
        light_e: F64Array | float,
        state: CameraState,
        *,
        cosmic_rays: float = 0.0,
    ) -> np.ndarray:
        """Return raw uint16 pixels [ADU].

        Parameters
        ----------
        rng : Generator
            Noise of this exposure.
        light_e : float64 array or float
            Expected photo-electrons before the sensor's own response [e-].
        state : CameraState
        cosmic_rays : float
            Expected number of cosmic-ray hits.
        """
        shape = (self.height, self.width)
        warm = 2 ** ((state.temperature_c + 15.0) / 6.3)
        expected = self.dark_rate * (state.exposure_s * warm) + np.broadcast_to(light_e, shape) * self.flat
        electrons = rng.poisson(expected).astype(np.float64)
        for _ in range(rng.poisson(cosmic_rays)):
            _cosmic_ray(rng, electrons)
        electrons += rng.normal(0.0, state.read_noise_e, shape)
        level = self.offset_adu + rng.normal(0.0, 0.25)
        rows = rng.normal(0.0, 0.35, (self.height, 1))
        adu = electrons / state.e_per_adu + level + self.bias_pattern + rows
        return np.asarray(np.clip(np.rint(adu), 0, 65535), dtype=np.uint16)


def _cosmic_ray(rng: np.random.Generator, electrons: F64Array) -> None:
    height, width = electrons.shape
    x, y, angle = rng.uniform(0, width), rng.uniform(0, height), rng.uniform(0, math.pi)
    for _ in range(1 + int(rng.exponential(4.0))):
        ix, iy = int(x), int(y)
        if 0 <= ix < width and 0 <= iy < height:
            electrons[iy, ix] += rng.lognormal(math.log(1500), 0.7)
        x += math.cos(angle)
        y += math.sin(angle)


def satellite_trail(shape: tuple[int, int], *, y0: float, slope: float, width_px: float, electrons: float) -> F64Array:
    """Return the expected light of a straight trail across the frame [e-]."""
    y, x = np.mgrid[: shape[0], : shape[1]].astype(float)
    distance = (y - y0 - slope * x) / math.hypot(1, slope)
    profile = np.exp(-0.5 * (distance / width_px) ** 2) * electrons
    return np.asarray(ndimage.gaussian_filter(profile, 0.5))
