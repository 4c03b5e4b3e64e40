"""Apertures that follow tracking stars from frame to frame, however short the exposures are."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from ulvar.engine import F32Array, F64Array, MaskArray
from ulvar.frames import MaskBit
from ulvar.photometry.aperture import BAD_BITS, ApertureResult, judged_sums
from ulvar.stars import StarFlag

_NO_MASK = np.empty((0, 0), dtype=np.uint16)
# A tracking star that is no more than this over its noise is not followed but looked for.
_SEEN_SNR = 5.0
# From one frame to the next stars jump by so much at most before they are looked for, and are looked for within so much [FWHM].
_STEP_FWHM, _SEARCH_FWHM = 1.5, 12.0


@dataclass(frozen=True)
class Tracked:
    """Stars in frames; arrays of shape (frames, stars).

    Attributes
    ----------
    x, y : float64 array
        Middles of the apertures [px].
    result : ApertureResult
        Its arrays hold frame after frame, each with all stars: shape (frames x stars,).
    held : bool array, shape (frames,)
        Frames in which no tracking star was seen: the apertures stay where they were.
    """

    x: F64Array
    y: F64Array
    result: ApertureResult
    held: np.ndarray


class Tracker:
    """Measures the same stars in one frame after the other, moved by what the tracking stars are off.

    Parameters
    ----------
    x, y : sequence of float, shape (stars,)
        Where they are in the reference picture [px].
    leads : sequence of bool, shape (stars,)
        Which of them are tracking stars.
    fwhm_px, radius_px, inner_px, outer_px : float
    mask : uint16 array, shape (height, width), optional
        `MaskBit` of the frames.
    full_adu : float, optional
        Where pixels are full.

    Notes
    -----
    The middle of each tracking star is its centroid under a Gaussian window of its own width, from where it was in the frame before;
    all apertures move by the mean of the shifts, weighted with flux. Where no tracking star is five times over its noise, the brightest
    light within twelve FWHM is tried; where that is none either, the apertures stay.
    """

    def __init__(
        self,
        x: Sequence[float],
        y: Sequence[float],
        leads: Sequence[bool],
        *,
        fwhm_px: float,
        radius_px: float,
        inner_px: float,
        outer_px: float,
        mask: MaskArray | None = None,
        full_adu: float | None = None,
    ) -> None:
        self._x, self._y = np.array(x, dtype=np.float64), np.array(y, dtype=np.float64)
        self._leads = np.flatnonzero(np.asarray(leads, dtype=bool))
        if not len(self._leads):
            raise ValueError("there is no tracking star")
        n = len(self._x)
        self._fwhm, self._mask, self._full = fwhm_px, mask, full_adu
        self._radii, self._inner, self._outer = (np.full(n, float(v)) for v in (radius_px, inner_px, outer_px))
        self._starts, self._near = np.zeros(n + 1, dtype=np.int64), np.empty((0, 3))
        self._shift = np.zeros(2)
        self._sums: list[F64Array] = []
        self._shifts: list[tuple[float, float]] = []
        self._held: list[bool] = []

    def step(self, frame: np.ndarray) -> None:
        """Measure a frame, shape (height, width), of any kind of numbers."""
        band, y0, mask = self._band(frame, self._reach(_STEP_FWHM))
        shift = self._followed(band, y0, mask, self._shift, _STEP_FWHM)
        sums = self._measured(band, y0, mask, shift)
        held = False
        if not self._seen(sums):
            band, y0, mask = self._band(frame, self._reach(_SEARCH_FWHM))
            wanted = self._searched(band, y0)
            shift = self._followed(band, y0, mask, wanted, _STEP_FWHM)
            sums = self._measured(band, y0, mask, shift)
            if not self._seen(sums):
                held, shift = True, self._shift
                sums = self._measured(band, y0, mask, shift)
        self._shift = shift
        self._sums.append(sums)
        self._shifts.append((float(shift[0]), float(shift[1])))
        self._held.append(held)

    def finish(self, gain_e_per_adu: float | None = None, read_noise_e: float | None = None) -> Tracked:
        """Return what was measured so far."""
        sums = np.concatenate(self._sums)
        result = judged_sums(sums, float(self._radii[0]), gain_e_per_adu=gain_e_per_adu, read_noise_e=read_noise_e)
        shifts = np.array(self._shifts)
        return Tracked(self._x + shifts[:, :1], self._y + shifts[:, 1:], result, np.array(self._held))

    # ---- parts of a step

    def _reach(self, fwhm: float) -> float:
        return float(self._outer[0]) + (fwhm + 6) * self._fwhm

    def _band(self, frame: np.ndarray, reach: float) -> tuple[F32Array, int, MaskArray]:
        """Return the rows about the stars as float32, the number of the first, and their mask."""
        height = frame.shape[0]
        low, high = self._y.min() + self._shift[1] - reach, self._y.max() + self._shift[1] + reach
        y0 = int(min(max(0, math.floor(low)), height - 1))
        y1 = int(max(y0 + 1, min(height, math.ceil(high) + 1)))
        band = np.ascontiguousarray(frame[y0:y1], dtype=np.float32)
        mask = _NO_MASK if self._mask is None else self._mask[y0:y1]
        if self._full is not None and float(band.max()) >= self._full:
            mask = np.zeros(band.shape, dtype=np.uint16) if self._mask is None else mask.copy()
            mask[band >= self._full] |= np.uint16(MaskBit.SATURATED)
        return band, y0, mask

    def _followed(self, band: F32Array, y0: int, mask: MaskArray, start: F64Array, step_fwhm: float) -> F64Array:
        """Return how far the tracking stars are off their places in the reference, mean weighted with their light."""
        from ulvar.photometry import _kernels

        x, y = self._x[self._leads] + start[0], self._y[self._leads] + start[1] - y0
        middles = np.empty((len(x), 3))
        limit = max(step_fwhm * self._fwhm, 2.0)
        _kernels.light_middles(band, mask, np.uint16(BAD_BITS), x, y, self._fwhm / 2.3548, limit, middles)
        weight = np.where(middles[:, 2] > 0, self._weights(), 0.0)
        if weight.sum() <= 0:
            return start
        off = np.column_stack([middles[:, 0] - x, middles[:, 1] - y])
        return np.asarray(start + (weight[:, None] * off).sum(axis=0) / weight.sum())

    def _weights(self) -> F64Array:
        """Return the light of the tracking stars in the last frame in which they were seen."""
        for sums, held in zip(reversed(self._sums[-3:]), reversed(self._held[-3:])):
            if not held:
                flux = sums[self._leads, 0] - sums[self._leads, 4] * sums[self._leads, 1]
                if np.isfinite(flux).all() and (flux > 0).any():
                    return np.maximum(flux, 0.0)
        return np.ones(len(self._leads))

    def _seen(self, sums: F64Array) -> bool:
        """Whether a tracking star stands out of the noise."""
        lead = sums[self._leads]
        flux, noise = lead[:, 0] - lead[:, 4] * lead[:, 1], lead[:, 5] * np.sqrt(lead[:, 2])
        with np.errstate(invalid="ignore"):
            return bool((flux > _SEEN_SNR * noise).any())

    def _searched(self, band: F32Array, y0: int) -> F64Array:
        """Return the shift to the brightest light about the first tracking star."""
        lead = self._leads[int(np.argmax(self._weights()))]
        x, y = self._x[lead] + self._shift[0], self._y[lead] + self._shift[1] - y0
        reach = _SEARCH_FWHM * self._fwhm
        x0, x1 = int(max(0, x - reach)), int(min(band.shape[1], x + reach + 1))
        a0, a1 = int(max(0, y - reach)), int(min(band.shape[0], y + reach + 1))
        if x1 - x0 < 3 or a1 - a0 < 3:
            return self._shift
        smooth = cv2.GaussianBlur(band[a0:a1, x0:x1], (0, 0), self._fwhm / 2.3548)
        if self._mask is not None:
            hidden = (self._mask[y0 + a0 : y0 + a1, x0:x1] & np.uint16(BAD_BITS)) != 0
            smooth = np.where(hidden, -np.inf, smooth)
        row, column = np.unravel_index(int(np.nanargmax(smooth)), smooth.shape)
        return np.array([x0 + column - self._x[lead], y0 + a0 + row - self._y[lead]], dtype=np.float64)

    def _measured(self, band: F32Array, y0: int, mask: MaskArray, shift: F64Array) -> F64Array:
        from ulvar.photometry import _kernels

        out = np.empty((len(self._x), _kernels.COLUMNS))
        _kernels.aperture_sums(
            band, mask, np.uint16(BAD_BITS), np.uint16(MaskBit.SATURATED), np.uint16(MaskBit.NONLINEAR),
            self._x + shift[0], self._y + shift[1] - y0, self._radii, _ROUND, self._inner, self._outer, self._starts,
            self._near, 0, out,
        )  # fmt: skip
        return out


_ROUND = np.array([1.0, 1.0, 0.0])


def tracked_flags(tracked: Tracked, leads: Sequence[bool], doubled: np.ndarray) -> np.ndarray:
    """Return `StarFlag` bits, shape (frames, stars): of the pixels, of frames that repeat the one before, of tracking stars not seen."""
    flags = tracked.result.flags.reshape(tracked.x.shape).copy()
    flags[doubled] |= int(StarFlag.DOUBLED)
    flags[np.ix_(tracked.held, np.asarray(leads, dtype=bool))] |= int(StarFlag.LOST)
    return flags
