"""Light of an eclipsing binary from the overlap of two discs, the eclipsed one darkened to its limb."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array


@dataclass(frozen=True)
class EclipsingBinary:
    """A primary minimum of a detached pair.

    Attributes
    ----------
    mid_bjd_tdb : float
        Mid-eclipse [d].
    half_length_d : float
        First contact to mid-eclipse [d].
    radius_ratio : float
        Eclipsing over eclipsed radius.
    impact : float
        Smallest distance of the centres over the eclipsed radius.
    light_share : float
        Share of the light that comes from the eclipsed star.
    limb_darkening : float
        Linear coefficient of the eclipsed star.
    """

    mid_bjd_tdb: float
    half_length_d: float = 83.4 / 1440
    radius_ratio: float = 0.75
    impact: float = 0.45
    light_share: float = 0.78
    limb_darkening: float = 0.55

    def flux(self, bjd_tdb: F64Array) -> F64Array:
        """Relative light at times [d]; 1 outside eclipse."""
        contact = 1 + self.radius_ratio
        speed = math.sqrt(contact**2 - self.impact**2) / self.half_length_d
        distance = np.hypot(self.impact, speed * (np.asarray(bjd_tdb) - self.mid_bjd_tdb))
        return 1 - self.light_share * self._hidden(distance)

    def _hidden(self, distance: F64Array) -> F64Array:
        """Hidden share of the eclipsed star's light: a darkened disc is a pile of uniform ones."""
        edges = np.sqrt(1 - np.linspace(1, 0, 61) ** 2)
        middles = (edges[1:] + edges[:-1]) / 2
        brightness = 1 - self.limb_darkening * (1 - np.sqrt(np.maximum(0, 1 - edges**2)))
        weights = np.append(brightness[:-1] - brightness[1:], brightness[-1])
        radii = np.append(middles, 1.0)
        total = float((weights * math.pi * radii**2).sum())
        hidden = np.zeros(np.shape(distance))
        for radius, weight in zip(radii, weights):
            hidden += weight * radius**2 * _overlap(distance / radius, self.radius_ratio / radius)
        return hidden / total

    @property
    def depth_mag(self) -> float:
        """Depth of the minimum [mag]."""
        return float(-2.5 * np.log10(self.flux(np.array([self.mid_bjd_tdb]))[0]))


def _overlap(distance: F64Array, ratio: float) -> F64Array:
    """Area common to discs of radius 1 and `ratio` at a distance of their centres."""
    d = np.maximum(distance, 1e-12)
    a = np.clip((d**2 + 1 - ratio**2) / (2 * d), -1, 1)
    b = np.clip((d**2 + ratio**2 - 1) / (2 * d * ratio), -1, 1)
    kite = np.sqrt(np.maximum(0, (-d + 1 + ratio) * (d + 1 - ratio) * (d - 1 + ratio) * (d + 1 + ratio)))
    lens = np.arccos(a) + ratio**2 * np.arccos(b) - kite / 2
    inside = d <= abs(1 - ratio)
    apart = d >= 1 + ratio
    return np.where(apart, 0.0, np.where(inside, math.pi * min(1.0, ratio) ** 2, lens))
