"""Calibrating exposures: (light - dark) / flat, or with a bias in the dark's place."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ulvar.calibration._kernels import EMPTY, subtract_divide
from ulvar.calibration.defects import dark_defects, flat_defects
from ulvar.calibration.masters import Master
from ulvar.engine import F32Array, MaskArray
from ulvar.frames import Frame, MaskBit, mark


@dataclass(frozen=True)
class Calibrator:
    """Masters matched for one group of lights, ready to apply.

    Attributes
    ----------
    zero : Master or None
        The dark, or the bias when there is no dark.
    flat : Master or None
    inverse_flat : float32 array or None
        1 / flat; NaN where the flat has no light.
    defects : uint16 array or None
        `MaskBit` plane of hot and cold pixels.
    """

    zero: Master | None
    flat: Master | None
    inverse_flat: F32Array | None
    defects: MaskArray | None

    @property
    def steps(self) -> tuple[str, ...]:
        """What it does, in order."""
        steps = []
        if self.zero is not None:
            steps.append(f"{self.zero.kind.value} subtracted ({self.zero.count} frames)")
        if self.flat is not None:
            steps.append(f"flat divided ({self.flat.count} frames)")
        return tuple(steps)

    def __call__(self, frame: Frame) -> Frame:
        """Return the calibrated frame; the input is not modified.

        Raises
        ------
        ValueError
            If the frame's size is not that of the masters.
        """
        for master in (self.zero, self.flat):
            if master is not None and master.data.shape != frame.data.shape:
                raise ValueError("the frame's size is not that of the masters")
        data = np.ascontiguousarray(frame.data, dtype=np.float32)
        out = np.empty_like(data)
        dark = EMPTY if self.zero is None else self.zero.data.reshape(-1)
        flat = EMPTY if self.inverse_flat is None else self.inverse_flat.reshape(-1)
        subtract_divide(data.reshape(-1), dark, flat, out.reshape(-1))
        mask = np.zeros(out.shape, dtype=np.uint16) if frame.mask is None else frame.mask.copy()
        if self.defects is not None:
            mask |= self.defects
        mark(mask, ~np.isfinite(out), MaskBit.NO_DATA)
        # The level at which pixels saturate is that of the raw frame; it lives on in the mask only.
        facts = replace(frame.facts, saturation_adu=None)
        return Frame(data=out, facts=facts, mask=mask if mask.any() else None, steps=frame.steps + self.steps)


def make_calibrator(
    *, dark: Master | None = None, bias: Master | None = None, flat: Master | None = None
) -> Calibrator:
    """Prepare masters for use.

    Parameters
    ----------
    dark : Master, optional
        Holds the bias; of the lights' exposure time.
    bias : Master, optional
        Used only without a dark.
    flat : Master, optional

    Raises
    ------
    ValueError
        If there is nothing to apply or the masters' sizes differ.
    """
    zero = dark if dark is not None else bias
    if zero is None and flat is None:
        raise ValueError("there is no master to calibrate with")
    if zero is not None and flat is not None and zero.data.shape != flat.data.shape:
        raise ValueError("the masters' sizes differ")
    shape = (zero or flat).data.shape  # type: ignore[union-attr]
    defects = np.zeros(shape, dtype=np.uint16)
    inverse = None
    if dark is not None:
        mark(defects, dark_defects(dark.data), MaskBit.HOT)
    if flat is not None:
        with np.errstate(divide="ignore", invalid="ignore"):
            inverse = np.where(flat.data > 0.05, 1.0 / flat.data, np.nan).astype(np.float32)
        mark(defects, flat_defects(flat.data), MaskBit.COLD)
    return Calibrator(zero=zero, flat=flat, inverse_flat=inverse, defects=defects if defects.any() else None)
