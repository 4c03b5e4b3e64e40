"""What is done to a raw frame before any master is: overscan, trimming, linearity. Alike for lights and for masters."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np

from ulvar.calibration.overscan import Region, correct_overscan, overscan_level
from ulvar.combine import RowSource
from ulvar.engine import F32Array

FULL_SCALE = 65535.0


@dataclass(frozen=True)
class Preparation:
    """Overscan, trimming and linearity.

    Attributes
    ----------
    overscan, trim : Region or None
        Pixels without light, and pixels to keep.
    fit : {'median', 'rows', 'line'}
        How the overscan becomes a level for each row.
    linearity : tuple of float
        Coefficients c1, c2 ... of ``true = d (1 + c1 u + c2 u^2 + ...)`` with d the level above the level
        without light and u = d / 65535.
    zero_adu : float
        The level without light, for the polynomial [ADU]; 0 after an overscan correction.
    """

    overscan: Region | None = None
    trim: Region | None = None
    fit: Literal["median", "rows", "line"] = "rows"
    linearity: tuple[float, ...] = ()
    zero_adu: float = 0.0

    @property
    def idle(self) -> bool:
        """Whether it does nothing."""
        return self.overscan is None and self.trim is None and not self.linearity

    @property
    def steps(self) -> tuple[str, ...]:
        """What it does, in order."""
        done = []
        if self.overscan is not None:
            done.append(f"overscan {self.overscan.text} taken off ({self.fit})")
        if self.trim is not None:
            done.append(f"trimmed to {self.trim.text}")
        if self.linearity:
            done.append("linearity corrected (" + ", ".join(f"{c:g}" for c in self.linearity) + ")")
        return tuple(done)

    def apply(self, data: F32Array) -> F32Array:
        """Return a prepared frame; the input is not modified.

        Raises
        ------
        ValueError
            If a region lies outside the frame.
        """
        out = data
        if self.overscan is not None or self.trim is not None:
            out = correct_overscan(data, overscan=self.overscan, trim=self.trim, fit=self.fit)
        return self.linearised(out) if self.linearity else out

    def linearised(self, data: F32Array) -> F32Array:
        """Return data with the linearity polynomial applied."""
        zero = 0.0 if self.overscan is not None else self.zero_adu
        signal = data - np.float32(zero)
        share = signal / np.float32(FULL_SCALE)
        factor = np.zeros_like(share)
        for coefficient in reversed(self.linearity):
            factor = (factor + np.float32(coefficient)) * share
        return np.asarray(signal * (1 + factor) + np.float32(zero), dtype=np.float32)

    def rows(self, source: RowSource) -> RowSource:
        """Return a source of prepared rows."""
        return source if self.idle else PreparedRows(source, self)

    def shape(self, width: int, height: int) -> tuple[int, int]:
        """Return (width, height) of a prepared frame."""
        if self.trim is None:
            return width, height
        return self.trim.x1 - self.trim.x0, self.trim.y1 - self.trim.y0

    def key(self) -> list[object]:
        """Return what makes two preparations alike, for fingerprints."""
        regions = [r.text if r else "" for r in (self.overscan, self.trim)]
        return [*regions, self.fit if self.overscan else "", list(self.linearity), self.zero_adu]


@dataclass
class PreparedRows:
    """Rows of a raw frame after its preparation; the overscan's level is found when it is first needed."""

    source: RowSource
    preparation: Preparation

    @property
    def height(self) -> int:
        """Rows."""
        trim = self.preparation.trim
        return self.source.height if trim is None else trim.y1 - trim.y0

    @property
    def width(self) -> int:
        """Columns."""
        trim = self.preparation.trim
        return self.source.width if trim is None else trim.x1 - trim.x0

    @cached_property
    def _level(self) -> F32Array | None:
        overscan = self.preparation.overscan
        if overscan is None:
            return None
        whole = self.source.rows(0, self.source.height)
        return overscan_level(whole, overscan, fit=self.preparation.fit).astype(np.float32)

    def rows(self, y0: int, y1: int) -> F32Array:
        """Return rows ``y0 <= y < y1`` of the prepared frame."""
        trim = self.preparation.trim
        start = 0 if trim is None else trim.y0
        band = self.source.rows(start + y0, start + y1)
        if self._level is not None:
            band -= self._level[start + y0 : start + y1, None]
        if trim is not None:
            band = np.ascontiguousarray(band[:, trim.x0 : trim.x1])
        return self.preparation.linearised(band) if self.preparation.linearity else band
