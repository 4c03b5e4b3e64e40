"""A frame in memory: pixels, mask, facts, and the steps already applied."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import IntFlag

import numpy as np

from ulvar.engine import F32Array, MaskArray
from ulvar.frames.facts import ExposureFacts


class MaskBit(IntFlag):
    """Why a pixel is not an ordinary pixel (bits of the uint16 mask plane)."""

    NO_DATA = 1
    SATURATED = 2
    NONLINEAR = 4
    HOT = 8
    COLD = 16
    COLUMN = 32
    COSMIC = 64
    TRAIL = 128
    REPAIRED = 256


def mark(mask: MaskArray, where: np.ndarray, bit: MaskBit) -> None:
    """Set `bit` in `mask` (changed in place) where `where` is true."""
    mask[where] |= np.uint16(bit)


class FrameError(Exception):
    """A file that cannot be used, with the file and the reason in plain words."""

    def __init__(self, path: str, reason: str) -> None:
        super().__init__(f"{path}: {reason}")
        self.path = path
        self.reason = reason

    def __reduce__(self) -> tuple[type[FrameError], tuple[str, str]]:
        return FrameError, (self.path, self.reason)


@dataclass(frozen=True)
class Frame:
    """One exposure's pixels.

    Attributes
    ----------
    data : float32 array, shape (height, width)
        [ADU]; NaN where there is no data.
    mask : uint16 array of the same shape, or None
        Bits of `MaskBit`; None when every pixel is ordinary.
    facts : ExposureFacts
    steps : tuple of str
        What was done to the pixels, in order.
    """

    data: F32Array
    facts: ExposureFacts
    mask: MaskArray | None = None
    steps: tuple[str, ...] = field(default=())

    def above_pedestal(self) -> F32Array:
        """Return the pixels without the constant that calibration added on purpose, which is no sky [ADU].

        The array itself where nothing was added.
        """
        pedestal = np.float32(self.facts.pedestal_adu)
        return self.data - pedestal if pedestal else self.data
