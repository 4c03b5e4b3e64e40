"""Pixels that calibration cannot save: found in masters, repaired from their neighbours, always marked."""

from __future__ import annotations

from dataclasses import dataclass, field

import cv2
import numpy as np

from ulvar.calibration.options import DefectOptions
from ulvar.engine import BoolArray, F32Array, MaskArray
from ulvar.frames import MaskBit, mark, median, sorted_quantiles

# A run of a column is defective when this share of this many rows is.
_RUN_ROWS = 32
_RUN_SHARE = 0.6


@dataclass(frozen=True)
class Defects:
    """Where a sensor is defective.

    Attributes
    ----------
    mask : uint16 array, shape (height, width)
        Bits `MaskBit.HOT`, `COLD`, `COLUMN`.
    counts : dict
        ``hot``, ``cold``, ``columns`` (column runs), ``clusters`` (four and more defective pixels that touch,
        columns apart).
    """

    mask: MaskArray
    counts: dict[str, int] = field(default_factory=dict)

    @property
    def any(self) -> bool:
        """Whether there is a defect at all."""
        return bool(self.mask.any())


def _spread(values: F32Array) -> float:
    sample = values.ravel()[:: max(1, values.size // 1_000_000)]
    finite = sample[np.isfinite(sample)]
    if finite.size == 0:
        return 0.0
    low, high = sorted_quantiles(np.sort(finite), (0.15865, 0.84135))
    return float(high - low) / 2


def _cells(plane: F32Array, mosaic: bool) -> list[tuple[slice, slice]]:
    if not mosaic:
        return [(slice(None), slice(None))]
    return [(slice(dy, None, 2), slice(dx, None, 2)) for dy in (0, 1) for dx in (0, 1)]


def _filled(plane: F32Array) -> F32Array:
    if np.isfinite(plane).all():
        return np.ascontiguousarray(plane)
    return np.nan_to_num(plane, nan=float(np.nan_to_num(median(plane)))).astype(np.float32)


def dark_excess(dark: F32Array, *, mosaic: bool = False) -> F32Array:
    """Return how far each pixel of a master dark stands over its surroundings, in robust deviations.

    Parameters
    ----------
    dark : float32 array, shape (height, width)
        Master dark [ADU].
    mosaic : bool
        Whether neighbours have different colours; each is then held against those of its own.

    Returns
    -------
    float32 array of the same shape
        Zero everywhere for a frame without spread. Counting pixels over a threshold in it is instant, which
        is what lets the count follow while the threshold moves.
    """
    out = np.zeros(dark.shape, dtype=np.float32)
    for cell in _cells(dark, mosaic):
        part = _filled(dark[cell])
        residual = cv2.medianBlur(part, 5)
        np.subtract(part, residual, out=residual)
        spread = _spread(residual)
        if spread > 0:
            np.divide(residual, np.float32(spread), out=out[cell])
    return out


def flat_response(flat: F32Array, *, mosaic: bool = False) -> F32Array:
    """Return each pixel of a master flat over the median of its surroundings, float32.

    The surroundings are the median of 5 x 5 pixels or, where that is larger, the lower of those 4 px to the left and to
    the right: in a dead column the first is dark too, and would be its own reference.
    """
    out = np.ones(flat.shape, dtype=np.float32)
    for cell in _cells(flat, mosaic):
        part, into = _filled(flat[cell]), out[cell]
        # Band by band, each with the rows that its medians reach: what passes stays in the cache.
        for first in range(0, len(part), _BAND_ROWS):
            last = min(first + _BAND_ROWS, len(part))
            begin = max(first - 2, 0)
            around = cv2.medianBlur(part[begin : last + 2], 5)[first - begin : last - begin]
            sides = np.minimum(np.roll(around, -4, axis=1), np.roll(around, 4, axis=1))
            reference = np.maximum(around, sides)
            np.divide(part[first:last], reference, out=into[first:last], where=reference > 0)
    return out


# Rows of a plane that are worked on at once where the whole would not stay in the cache.
_BAND_ROWS = 128


def find_defects(
    *,
    dark: F32Array | None = None,
    flat: F32Array | None = None,
    excess: F32Array | None = None,
    options: DefectOptions | None = None,
    mosaic: bool = False,
) -> Defects:
    """Find hot and cold pixels and columns.

    Parameters
    ----------
    dark, flat : float32 array, optional
        Masters.
    excess : float32 array, optional
        `dark_excess` of the dark, where it is known already.
    options : DefectOptions, optional
    mosaic : bool
        As `dark_excess`.

    Raises
    ------
    ValueError
        If nothing is given, or sizes differ.
    """
    rules = options or DefectOptions()
    planes = [p for p in (dark, flat, excess) if p is not None]
    if not planes:
        raise ValueError("there is no master to look for defects in")
    shape = planes[0].shape
    if any(p.shape != shape for p in planes):
        raise ValueError("the masters' sizes differ")
    mask = np.zeros(shape, dtype=np.uint16)
    hot = np.zeros(shape, dtype=np.bool_)
    cold = np.zeros(shape, dtype=np.bool_)
    if excess is None and dark is not None:
        excess = dark_excess(dark, mosaic=mosaic)
    if excess is not None:
        hot = np.asarray(excess > rules.hot_sigma)
    if flat is not None:
        response = flat_response(flat, mosaic=mosaic)
        cold = np.asarray(~(response > rules.cold_below) | (response > rules.bright_above))
    mark(mask, hot, MaskBit.HOT)
    mark(mask, cold, MaskBit.COLD)
    runs = 0
    if rules.columns and shape[0] >= _RUN_ROWS:
        column, runs = _column_runs(hot | cold)
        mark(mask, column, MaskBit.COLUMN)
        clusters = _clusters((hot | cold) & ~column)
    else:
        clusters = _clusters(hot | cold)
    counts = {"hot": int(hot.sum()), "cold": int(cold.sum()), "columns": runs, "clusters": clusters}
    return Defects(mask, counts)


def _column_runs(bad: BoolArray) -> tuple[BoolArray, int]:
    from scipy import ndimage

    columns = np.flatnonzero(bad.sum(axis=0) >= _RUN_SHARE * _RUN_ROWS)
    marked = np.zeros(bad.shape, dtype=np.bool_)
    runs = 0
    for x in columns:
        share = ndimage.uniform_filter1d(bad[:, x].astype(np.float32), _RUN_ROWS, mode="nearest")
        dense = share >= _RUN_SHARE
        if not dense.any():
            continue
        # A dense window reaches half its length to both sides of its middle.
        grown = ndimage.binary_dilation(dense, iterations=_RUN_ROWS // 2)
        marked[:, x] = grown
        runs += int(ndimage.label(grown)[1])
    return marked, runs


def _clusters(bad: BoolArray) -> int:
    from scipy import ndimage

    if not bad.any():
        return 0
    labels, count = ndimage.label(bad, structure=np.ones((3, 3)))
    sizes = np.bincount(labels.ravel())[1:] if count else np.empty(0)
    return int((sizes >= 4).sum())


def repair(data: F32Array, mask: MaskArray, *, bits: int, mosaic: bool = False) -> int:
    """Replace marked pixels by the median of their good neighbours, in place; returns how many.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        Changed where the mask says so.
    mask : uint16 array
        Pixels with any of `bits` are repaired and get `MaskBit.REPAIRED` too; no marked pixel is a source.
        Pixels without data are neither repaired nor used.
    bits : int
        Bits of `MaskBit`.
    mosaic : bool
        Neighbours are then those of the same colour.

    Notes
    -----
    The neighbourhood grows from 3 x 3 to 9 x 9 until it holds three good pixels; a pixel without is left as
    it is and keeps its mark.
    """
    from ulvar.calibration._kernels import repair_pixels

    wanted = (mask & np.uint16(bits)) != 0
    wanted &= (mask & np.uint16(MaskBit.NO_DATA)) == 0
    ys, xs = np.nonzero(wanted)
    if not len(ys):
        return 0
    bad = np.uint16(bits | MaskBit.NO_DATA | MaskBit.SATURATED)
    done = repair_pixels(data, mask, bad, ys, xs, 2 if mosaic else 1)
    mark(mask, (ys[done], xs[done]), MaskBit.REPAIRED)  # type: ignore[arg-type]
    return int(done.sum())
