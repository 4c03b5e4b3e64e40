"""Frames of a calibration set held against each other before they are combined."""

from __future__ import annotations

import math
import warnings
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.combine import RowSource
from ulvar.engine import F32Array, F64Array, true_minus
from ulvar.frames import Role, difference_noise, median, robust_spread, row_medians

# A thumb is made of thin bands of rows: a few percent of the pixels tell levels to a small part of the noise.
_BANDS = 12
_BAND_ROWS = 4
_COLUMNS = 16


@dataclass(frozen=True)
class Thumb:
    """Cell levels of one frame.

    Attributes
    ----------
    cells : float64 array, shape (bands, columns)
        Median of each cell [ADU].
    noise_adu : float
        Noise of a pixel, from neighbouring columns [ADU].
    """

    cells: F64Array
    noise_adu: float

    @property
    def level_adu(self) -> float:
        """Median over the cells [ADU]."""
        return median(self.cells)


@dataclass(frozen=True)
class OddFrame:
    """A frame that does not look like its fellows.

    Attributes
    ----------
    index : int
        Its place in the set.
    code : str
        ``light_leak``, ``level``, ``pattern`` or ``no_pixels``.
    reason : str
        In words, with the number.
    amount : float
        How far off: [ADU], or a fraction of the level for flats.
    """

    index: int
    code: str
    reason: str
    amount: float


@dataclass(frozen=True)
class Comparison:
    """What comparing a set shows.

    Attributes
    ----------
    odd : tuple of OddFrame
    levels_adu : float64 array, shape (frames,)
    drift_adu : float
        Steady change of the level from the first frame to the last [ADU]; 0 when there is none to speak of.
    noise_adu : float
        Typical noise of a pixel of one frame [ADU].
    """

    odd: tuple[OddFrame, ...]
    levels_adu: F64Array
    drift_adu: float
    noise_adu: float


def make_thumb(source: RowSource, subtract: F32Array | None = None) -> Thumb:
    """Return cell levels of a frame, after a plane was subtracted if one is given."""
    height, width = source.height, source.width
    rows = min(_BAND_ROWS, height)
    starts = [int(y) // 2 * 2 for y in np.linspace(0, height - rows, min(_BANDS, height))]
    every = _bands(source, starts, rows)
    if subtract is not None:
        every -= np.stack([subtract[y0 : y0 + rows] for y0 in starts])
    noises = [noise for noise in map(difference_noise, every) if math.isfinite(noise)]
    edges = np.linspace(0, width, min(_COLUMNS, width) + 1).astype(int)
    widths = np.diff(edges)
    cells = np.empty((len(starts), len(widths)))
    for size in np.unique(widths):
        # Cells of one width are sorted in one go.
        of = np.flatnonzero(widths == size)
        values = every[:, :, edges[of][:, None] + np.arange(size)].transpose(0, 2, 1, 3)
        cells[:, of] = row_medians(values.reshape(len(starts), len(of), -1))
    return Thumb(cells, float(np.median(noises)) if noises else math.nan)


def _bands(source: RowSource, starts: Sequence[int], rows: int) -> F32Array:
    # What is packed in tiles is opened once for all of them where the source can.
    at_once = getattr(source, "bands", None)
    return np.asarray(at_once(starts, rows) if at_once is not None else [source.rows(y, y + rows) for y in starts])


def _spread(values: F64Array) -> float:
    finite = values[np.isfinite(values)]
    return robust_spread(finite) if finite.size else 0.0


def compare_frames(kind: Role, thumbs: Sequence[Thumb]) -> Comparison:
    """Hold the frames of a set against each other.

    Parameters
    ----------
    kind : Role
        Of flats only the pattern is compared, relative to each one's level; of the others level and pattern.
    thumbs : sequence of Thumb
        In the order of time.

    Returns
    -------
    Comparison
        With fewer than three frames nothing is odd: there is no majority to hold one against.

    Notes
    -----
    A frame is odd when it lies further from the median of the set than six robust deviations of its fellows
    *and* further than a part of the noise of one pixel, below which it would do no harm: 0.4 of it for the
    level, 0.6 for the pattern, which in a set of ten move the master by a fifth of its own noise at most; for
    flats 0.2 % of the level, the error that a master flat may have.
    """
    cells = np.array([t.cells for t in thumbs])
    noise = median(np.array([t.noise_adu for t in thumbs]))
    levels = np.array([t.level_adu for t in thumbs])
    odd: list[OddFrame] = []
    for i, level in enumerate(levels):
        if not math.isfinite(level):
            odd.append(OddFrame(i, "no_pixels", "it has no pixels with a value", math.nan))
    good = np.flatnonzero(np.isfinite(levels))
    if len(good) < 3:
        return Comparison(tuple(odd), levels, 0.0, noise)
    drift = 0.0
    with warnings.catch_warnings():
        # A cell in which no frame has data stays NaN and says nothing.
        warnings.simplefilter("ignore", RuntimeWarning)
        if kind is Role.FLAT:
            odd += _odd_flats(cells, levels, good)
        else:
            odd += _odd_darks(cells, levels, good, noise)
            drift = _drift(levels, {o.index for o in odd}, noise)
    return Comparison(tuple(sorted(odd, key=lambda o: o.index)), levels, drift, noise)


def _odd_darks(cells: F64Array, levels: F64Array, good: np.ndarray, noise: float) -> list[OddFrame]:
    found = []
    middle = np.nanmedian(cells[good], axis=0)
    away = cells - middle
    shifts = np.nanmedian(away, axis=(1, 2))
    pattern = away - shifts[:, None, None]
    rough = np.sqrt(np.nanmean(pattern**2, axis=(1, 2)))
    usual = np.median(rough[good])
    spread = _spread(shifts[good])
    step = np.abs(np.diff(shifts[good]))
    # A level that wanders slowly is not odd frame by frame; the scatter from frame to frame is what counts.
    spread = max(spread, 1.05 * float(np.median(step)) if step.size else 0.0)
    for i in good:
        largest = float(np.nanmax(np.abs(pattern[i])))
        shift = float(shifts[i] - np.median(shifts[good]))
        uneven = rough[i] > 5 * usual and largest > 0.6 * noise
        off = abs(shift) > 6 * spread and abs(shift) > 0.4 * noise
        if not (uneven or off):
            continue
        peak = float(np.nanmax(away[i]))
        if peak > 0 and peak >= -float(np.nanmin(away[i])):
            reason = f"up to {peak:.1f} ADU brighter than the others: light got in"
            found.append(OddFrame(int(i), "light_leak", reason, peak))
        elif off:
            word = true_minus(f"{shift:+.1f}")
            found.append(OddFrame(int(i), "level", f"its level is {word} ADU from the others", shift))
        else:
            found.append(OddFrame(int(i), "pattern", f"its pattern differs by {largest:.1f} ADU", largest))
    return found


def _odd_flats(cells: F64Array, levels: F64Array, good: np.ndarray) -> list[OddFrame]:
    found = []
    relative = cells / levels[:, None, None]
    middle = np.nanmedian(relative[good], axis=0)
    away = relative / middle - 1
    rough = np.sqrt(np.nanmean(away**2, axis=(1, 2)))
    usual = np.median(rough[good])
    for i in good:
        largest = float(np.nanmax(np.abs(away[i])))
        if rough[i] > 5 * usual and rough[i] > 0.002:
            reason = f"its pattern differs by up to {100 * largest:.1f} %: cloud, stars or stray light"
            found.append(OddFrame(int(i), "pattern", reason, largest))
    return found


def _drift(levels: F64Array, left_out: set[int], noise: float) -> float:
    """Return the change of a level that runs one way through the set, 0 when it does not."""
    index = np.array([i for i in range(len(levels)) if i not in left_out and math.isfinite(levels[i])])
    if len(index) < 5:
        return 0.0
    values = levels[index]
    slope, start = np.polyfit(index.astype(float), values, 1)
    left = values - (slope * index + start)
    change = float(slope * (index[-1] - index[0]))
    error = float(np.std(left, ddof=2)) * math.sqrt(12 / len(index))
    # Five errors of the fit, and a tenth of the pixel noise: less does no harm.
    return change if abs(change) > 5 * error and abs(change) > 0.1 * noise else 0.0
