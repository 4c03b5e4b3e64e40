"""Calibrating exposures, step by step in the order that the sensor's arithmetic asks for."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np

from ulvar.calibration.cosmic import clean_cosmic_rays
from ulvar.calibration.defects import Defects, dark_excess, find_defects, repair
from ulvar.calibration.levels import bias_taken_off
from ulvar.calibration.masters import Master
from ulvar.calibration.options import CalibrateOptions
from ulvar.engine import F32Array, MaskArray, counted
from ulvar.frames import Frame, MaskBit, mark

_REPAIRED = MaskBit.HOT | MaskBit.COLD | MaskBit.COLUMN


@dataclass(frozen=True)
class Calibrator:
    """Masters matched for one group of lights, ready to apply.

    Attributes
    ----------
    zero : Master or None
        The dark, or the bias when there is no dark.
    flat : Master or None
    zero_plane : float32 array or None
        What is subtracted: the dark, the bias, or the bias with a dark put on it.
    thermal : float32 array or None
        The dark without its bias, where it is scaled for each light; `zero_plane` is then the bias.
    scale : float
        What `thermal` is multiplied with when it follows the exposure times.
    inverse_flat : float32 array or None
        1 / flat; NaN where the flat has no light.
    defects : Defects or None
    options : CalibrateOptions
    steps : tuple of str
        What it does, in order.
    threads : int
        Threads for one frame; 1 in worker processes, which fill the cores with frames.
    """

    zero: Master | None
    flat: Master | None
    zero_plane: F32Array | None
    inverse_flat: F32Array | None
    defects: Defects | None
    options: CalibrateOptions = field(default_factory=CalibrateOptions)
    thermal: F32Array | None = None
    scale: float = 1.0
    steps: tuple[str, ...] = ()
    threads: int = 1

    def __call__(self, frame: Frame) -> Frame:
        """Return the calibrated frame; the input is not modified.

        Raises
        ------
        ValueError
            If the frame's size is not that of the masters, or a region lies outside the frame.
        """
        options = self.options
        data = options.preparation.apply(frame.data)
        given = frame.mask
        if given is not None and options.preparation.trim is not None:
            given = given[options.preparation.trim.slices]
        for plane in (self.zero_plane, self.inverse_flat):
            if plane is not None and plane.shape != data.shape:
                raise ValueError("the frame's size is not that of the masters")
        data = np.ascontiguousarray(data, dtype=np.float32)
        steps = [*frame.steps, *self.steps]
        zero = self.zero_plane
        if self.thermal is not None and zero is not None:
            factor = self.scale
            if options.dark_scale == "noise":
                full = frame.facts.saturation_adu or float(np.nanmax(data))
                # A full pixel shows less than its dark current.
                unfull = np.where(data < 0.95 * full, data - zero, np.float32(np.nan))
                factor = noise_scale(unfull, self.thermal, start=self.scale)
            zero = zero + np.float32(factor) * self.thermal
            steps.append(f"dark scaled by {factor:.4f}")
        out = np.empty_like(data)
        lost = self._subtract_divide(data, zero, out)
        mask = self._mask(given, out.shape)
        mosaic = bool(frame.facts.cfa)
        if lost or options.overlays:
            for region in options.overlays:
                if not region.inside(out.shape[1], out.shape[0]):
                    raise ValueError(f"the overlay {region.text} lies outside the frame")
                out[region.slices] = np.nan
                steps.append(f"overlay {region.text} masked")
            mask = np.zeros(out.shape, dtype=np.uint16) if mask is None else mask
            mark(mask, ~np.isfinite(out), MaskBit.NO_DATA)
        if options.repair and mask is not None:
            count = repair(out, mask, bits=_REPAIRED, mosaic=mosaic)
            steps.append(f"{count} defective pixels repaired")
        if options.cosmic:
            mask = np.zeros(out.shape, dtype=np.uint16) if mask is None else mask
            count = clean_cosmic_rays(
                out, mask, gain_e_per_adu=frame.facts.gain_e_per_adu, read_noise_e=frame.facts.read_noise_e,
                sigma=options.cosmic_sigma, contrast=options.cosmic_contrast, mosaic=mosaic,
            )  # fmt: skip
            steps.append(f"{count} cosmic-ray pixels repaired")
        pedestal = pedestal_for(out, options.pedestal)
        if pedestal:
            out += np.float32(pedestal)
            steps.append(f"pedestal of {pedestal:g} ADU added")
        # The levels at which pixels bend and saturate are those of the raw frame; they live on in the mask only.
        divided = self.flat is not None and math.isfinite(self.flat.noise_adu)
        facts = replace(
            frame.facts, saturation_adu=None, nonlinear_adu=None, pedestal_adu=frame.facts.pedestal_adu + pedestal, width=out.shape[1],
            height=out.shape[0], flat_noise=self.flat.noise_adu if self.flat is not None and divided else frame.facts.flat_noise,
        )  # fmt: skip
        return Frame(data=out, facts=facts, mask=mask if mask is not None and mask.any() else None, steps=tuple(steps))

    def _mask(self, given: MaskArray | None, shape: tuple[int, ...]) -> MaskArray | None:
        if self.defects is None or not self.defects.any:
            return None if given is None else given.copy()
        return self.defects.mask.copy() if given is None else given | self.defects.mask

    def _subtract_divide(self, data: F32Array, zero: F32Array | None, out: F32Array) -> int:
        from ulvar.calibration._kernels import EMPTY, subtract_divide

        flat = EMPTY if self.inverse_flat is None else self.inverse_flat.reshape(-1)
        dark = EMPTY if zero is None else zero.reshape(-1)
        pixels, result = data.reshape(-1), out.reshape(-1)
        if self.threads == 1:
            return int(subtract_divide(pixels, dark, flat, result))
        edges = np.linspace(0, pixels.size, self.threads + 1).astype(int)

        def part(k: int) -> int:
            a, b = edges[k], edges[k + 1]
            return int(subtract_divide(pixels[a:b], dark[a:b], flat[a:b], result[a:b]))

        with ThreadPoolExecutor(self.threads) as pool:
            return sum(pool.map(part, range(self.threads)))


def pedestal_for(data: F32Array, wanted: float | Literal["off", "auto"]) -> float:
    """Return the constant to add [ADU]: the one wanted; for ``auto`` 0 unless more than 1 pixel in 10,000 is negative.

    The automatic one is a round number of ADU that leaves one pixel in 10,000 negative at most.
    """
    if wanted == "off":
        return 0.0
    if wanted != "auto":
        return float(wanted)
    sample = data.ravel()[:: max(1, data.size // 2_000_000)]
    finite = sample[np.isfinite(sample)]
    if finite.size == 0 or float((finite < 0).mean()) <= 1e-4:
        return 0.0
    return math.ceil(-float(np.quantile(finite, 1e-4)) / 10) * 10.0


def noise_scale(light: F32Array, thermal: F32Array, *, start: float) -> float:
    """Return the factor of the dark that takes most of the hot pixels out of a light.

    Parameters
    ----------
    light : float32 array, shape (height, width)
        Light with the bias taken off [ADU]; NaN where it is saturated.
    thermal : float32 array of the same shape
        Dark with the bias taken off [ADU].
    start : float
        Factor from the exposure times; it stays when there are fewer than 30 hot pixels to tell by.

    Notes
    -----
    At hot pixels the light's excess over its four neighbours is the factor times the dark's; the weighted
    median of the ratios is the least-absolute-deviations slope, which stars on hot pixels do not move.
    """
    excess = dark_excess(thermal)
    ys, xs = np.nonzero(excess[1:-1, 1:-1] > 15)
    if len(ys) < 30:
        return start
    ys, xs = ys + 1, xs + 1

    def over(plane: F32Array) -> np.ndarray:
        around = [plane[ys - 1, xs], plane[ys + 1, xs], plane[ys, xs - 1], plane[ys, xs + 1]]
        return np.asarray(plane[ys, xs] - np.median(around, axis=0), dtype=np.float64)

    mine, theirs = over(light), over(thermal)
    good = np.isfinite(mine) & (theirs > 0)
    if good.sum() < 30:
        return start
    ratio, weight = mine[good] / theirs[good], theirs[good]
    order = np.argsort(ratio)
    total = np.cumsum(weight[order])
    return float(ratio[order][np.searchsorted(total, 0.5 * total[-1])])


def make_calibrator(
    *,
    dark: Master | None = None,
    bias: Master | None = None,
    flat: Master | None = None,
    options: CalibrateOptions | None = None,
    scale: float = 1.0,
    known_defects: MaskArray | None = None,
    mosaic: bool = False,
    threads: int = 1,
) -> Calibrator:
    """Prepare masters for use.

    Parameters
    ----------
    dark : Master, optional
        Of the lights' exposure time, unless it is scaled.
    bias : Master, optional
        Used without a dark, with a dark that is scaled, and with one whose bias was taken off before (its level
        lies below half of the bias's).
    flat : Master, optional
    options : CalibrateOptions, optional
    scale : float
        Factor of a dark of another exposure.
    known_defects : uint16 array, optional
        The camera's own list, as a plane of `MaskBit`.
    mosaic : bool
        Whether the sensor is a colour mosaic.
    threads : int
        As `Calibrator`.

    Raises
    ------
    ValueError
        If there is nothing to apply, sizes differ, or a dark is to be scaled without a bias.
    """
    rules = options or CalibrateOptions()
    if dark is None and bias is None and flat is None and rules.preparation.idle:
        raise ValueError("there is no master to calibrate with")
    if scale != 1.0 and dark is not None and bias is None:
        raise ValueError("a dark is scaled only with a bias")
    planes = [m.data for m in (dark, bias, flat) if m is not None]
    if any(p.shape != planes[0].shape for p in planes):
        raise ValueError("the masters' sizes differ")
    if known_defects is not None and planes and known_defects.shape != planes[0].shape:
        raise ValueError("the defect list is of another size than the masters")
    steps = list(rules.preparation.steps)
    zero, thermal = None, None
    if dark is not None and bias is not None and scale != 1.0:
        zero, thermal = bias.data, dark.data if without_bias(dark, bias) else dark.data - bias.data
        steps += [
            f"bias subtracted ({counted(bias.count, 'frame')})",
            f"dark subtracted, scaled ({counted(dark.count, 'frame')})",
        ]
    elif dark is not None and bias is not None and without_bias(dark, bias):
        zero = bias.data + dark.data
        steps += [
            f"bias subtracted ({counted(bias.count, 'frame')})",
            f"dark subtracted ({counted(dark.count, 'frame')})",
        ]
    elif dark is not None:
        zero = dark.data
        steps.append(f"dark subtracted ({counted(dark.count, 'frame')})")
    elif bias is not None:
        zero = bias.data
        steps.append(f"bias subtracted ({counted(bias.count, 'frame')})")
    inverse = None
    if flat is not None:
        inverse = np.full(flat.data.shape, np.nan, dtype=np.float32)
        np.divide(np.float32(1.0), flat.data, out=inverse, where=flat.data > 0.05)
        steps.append(f"flat divided ({counted(flat.count, 'frame')})")
    defects = None
    slim = flat
    if flat is not None:
        # The flat itself is not needed any more; of 60 megapixels it would hold a quarter of a gigabyte.
        slim = replace(flat, data=np.empty((0, 0), dtype=np.float32))
    if rules.mark_defects and (dark is not None or flat is not None):
        defects = find_defects(
            dark=None if dark is None else dark.data, flat=None if flat is None else flat.data, options=rules.defects,
            mosaic=mosaic,
        )  # fmt: skip
    if known_defects is not None:
        merged = known_defects if defects is None else known_defects | defects.mask
        defects = Defects(merged, {**(defects.counts if defects else {}), "listed": int((known_defects != 0).sum())})
    return Calibrator(
        zero=dark if dark is not None else bias, flat=slim, zero_plane=zero, inverse_flat=inverse,
        defects=defects if defects is not None and defects.any else None, options=rules, thermal=thermal, scale=scale,
        steps=tuple(steps), threads=threads,
    )  # fmt: skip


def without_bias(dark: Master, bias: Master) -> bool:
    """Whether a master dark had its bias taken off before, told by the pixels (see `levels.bias_taken_off`)."""
    step = max(1, dark.data.size // 500_000)
    level_dark = float(np.nanmedian(dark.data.ravel()[::step]))
    level_bias = float(np.nanmedian(bias.data.ravel()[::step]))
    return bias_taken_off(level_dark, level_bias)
