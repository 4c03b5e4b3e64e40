"""Combining aligned arrays with rejection, band by band inside a memory budget."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import lru_cache
from statistics import NormalDist

import numpy as np

from ulvar.combine.contrast import combined_again, local_contrast, taken_back
from ulvar.combine.rejection import Method, Rejection
from ulvar.combine.sources import RowsOf, RowSource
from ulvar.engine import F32Array, F64Array, I64Array, Progress, StopToken, row_bands, silent


def _fill(source: RowSource, y0: int, y1: int, out: F32Array) -> None:
    # Some sources can write their rows where they are wanted, which saves a copy of them all.
    into = getattr(source, "rows_into", None)
    if into is not None:
        into(y0, y1, out)
    else:
        out[...] = source.rows(y0, y1)


@dataclass
class ScaledRows(RowsOf):
    """A source with a plane subtracted and a factor applied: ``(rows - subtract) * factor + add``."""

    subtract: F32Array | None = None
    factor: float = 1.0
    add: float = 0.0

    def rows(self, y0: int, y1: int) -> F32Array:
        """Return rows ``y0 <= y < y1``."""
        band = np.empty((y1 - y0, self.width), dtype=np.float32)
        self.rows_into(y0, y1, band)
        return band

    def rows_into(self, y0: int, y1: int, out: F32Array) -> None:
        """Write rows ``y0 <= y < y1`` into `out`."""
        _fill(self.source, y0, y1, out)
        if self.subtract is not None:
            out -= self.subtract[y0:y1]
        if self.factor != 1.0:
            out *= np.float32(self.factor)
        if self.add != 0.0:
            out += np.float32(self.add)


@dataclass(frozen=True)
class CombinedMaps:
    """What happened to the values of each pixel, arrays of shape (height, width).

    Attributes
    ----------
    rejected_low, rejected_high : uint16 array
        Values rejected.
    weight : float32 array
        Weight of what was kept, over the weight of all frames.
    """

    rejected_low: np.ndarray
    rejected_high: np.ndarray
    weight: F32Array


@dataclass(frozen=True)
class Combined:
    """The result of a combination.

    Attributes
    ----------
    data : float32 array, shape (height, width)
        Combined values; NaN where no frame had data.
    spread : float32 array of the same shape
        Sample standard deviation over the frames kept; NaN where fewer than two were.
    kept : uint16 array of the same shape
        How many frames were kept.
    rejected_low, rejected_high : int64 array, shape (frames,)
        Pixels rejected per frame.
    maps : CombinedMaps, optional
        Where they were asked for.
    """

    data: F32Array
    spread: F32Array
    kept: np.ndarray
    rejected_low: I64Array
    rejected_high: I64Array
    maps: CombinedMaps | None = None

    @property
    def rejected_fraction(self) -> float:
        """Rejected pixels over all pixels given."""
        frames = len(self.rejected_low)
        return float((self.rejected_low.sum() + self.rejected_high.sum()) / max(1, frames * self.data.size))

    @property
    def rejected_fractions(self) -> F64Array:
        """Rejected fraction of each frame, shape (frames,)."""
        return (self.rejected_low + self.rejected_high) / max(1, self.data.size)


def judged_together(frames: int) -> int:
    """Return how many pixels of a row are judged together: their usual spread is the least that any is judged by.

    Parameters
    ----------
    frames : int
        Of the stack. The values of all of them in such a run should stay in the second-level cache; else long runs are
        better, which are read from memory one after the other.
    """
    return 768 if frames <= 300 else 256


@lru_cache(maxsize=64)
def _plan(frames: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return the sorting pairs and, per count of valid values, an order statistic and its spread factor.

    With k values cut from each end, ``(v[n-1-k] - v[k]) / z`` estimates the spread; z is the expected
    distance of those order statistics for a unit normal (Blom 1958, alpha = 3/8).
    """
    from ulvar.combine import _kernels

    ks = np.full(frames + 1, -1, dtype=np.int64)
    zs = np.ones(frames + 1, dtype=np.float64)
    for n in range(4, frames + 1):
        k = max(1, int(0.16 * n))
        ks[n] = k
        zs[n] = -2.0 * NormalDist().inv_cdf((k + 1 - 0.375) / (n + 0.25))
    return _kernels.merge_network(frames), ks, zs


def combine_stack(
    stack: F32Array,
    *,
    rejection: Rejection,
    weights: Sequence[float] | None = None,
    maps: bool = False,
) -> Combined:
    """Combine ``stack[frame, y, x]`` along its first axis.

    Parameters
    ----------
    stack : float32 array, shape (frames, height, width)
        NaN marks pixels without data. Not modified.
    rejection : Rejection
        Both limits are given. With three frames or fewer nothing can be rejected: there is no spread to judge by.
    weights : sequence of float, optional
        One per frame, for the mean of what is kept; equal by default. The median takes none.
    maps : bool
        Whether to tell what happened at each pixel, too.

    Returns
    -------
    Combined

    Raises
    ------
    ValueError
        If there are no frames, a limit is missing, or weights do not fit, are negative, or come with the median.

    Examples
    --------
    >>> frames = np.array([[[1.0]], [[2.0]], [[3.0]], [[2.0]], [[90.0]]], dtype=np.float32)
    >>> float(combine_stack(frames, rejection=Rejection(Method.SIGMA, 3, 3)).data[0, 0])
    2.0
    """
    frames, height, width = stack.shape
    factors = _weights(weights, frames, rejection)
    result = _empty(frames, height, width, maps)
    if _looks_again(rejection):
        _combine_forgiving(stack, 0, 0, factors, rejection, result, 0)
    else:
        _combine_into(stack, factors, rejection, result, 0)
    return result


def _weights(weights: Sequence[float] | None, frames: int, rejection: Rejection) -> F64Array:
    if frames == 0:
        raise ValueError("there is nothing to combine")
    if rejection.low is None or rejection.high is None:
        raise ValueError("a limit of the rejection is missing: find it for the count of frames first")
    if weights is None:
        return np.ones(frames)
    if rejection.method is Method.MEDIAN:
        raise ValueError("the median takes no weights")
    factors = np.asarray(weights, dtype=np.float64)
    if factors.shape != (frames,) or not np.all(np.isfinite(factors)) or factors.min() < 0 or factors.sum() <= 0:
        raise ValueError("weights must be one number per frame, none negative, not all zero")
    return factors


def _empty(frames: int, height: int, width: int, maps: bool) -> Combined:
    return Combined(
        maps=_empty_maps(height, width) if maps else None,
        data=np.empty((height, width), dtype=np.float32),
        spread=np.empty((height, width), dtype=np.float32),
        kept=np.empty((height, width), dtype=np.uint16),
        rejected_low=np.zeros(frames, dtype=np.int64),
        rejected_high=np.zeros(frames, dtype=np.int64),
    )


def _empty_maps(height: int, width: int) -> CombinedMaps:
    shape = (height, width)
    return CombinedMaps(np.empty(shape, np.uint16), np.empty(shape, np.uint16), np.empty(shape, np.float32))


_NO_MAPS = _empty_maps(0, 0)


def _combine_into(
    stack: F32Array, weights: F64Array, rejection: Rejection, into: Combined, y0: int, begin: int = 0, count: int = -1
) -> None:
    """Combine `count` rows of a stack, all without a count, from row `begin` on into those from `y0` on."""
    from ulvar.combine import _kernels, _kernels_bounds

    assert rejection.low is not None and rejection.high is not None
    rows = slice(y0, y0 + (stack.shape[1] if count < 0 else count))
    maps = into.maps or _NO_MAPS
    low = np.zeros(stack.shape[0], dtype=np.int64)
    high = np.zeros(stack.shape[0], dtype=np.int64)
    _kernels.combine_rows(
        stack, begin, judged_together(stack.shape[0]), weights, float(weights.sum()), bool((weights == weights[0]).all()),
        getattr(_kernels_bounds, rejection.method.name), float(rejection.low), float(rejection.high), rejection.few,
        *_plan(stack.shape[0]), into.data[rows], into.spread[rows], into.kept[rows], low, high, maps.rejected_low[rows],
        maps.rejected_high[rows], maps.weight[rows],
    )  # fmt: skip
    # Bands may run in several threads; adding whole small arrays under the interpreter's lock is safe.
    into.rejected_low[...] += low
    into.rejected_high[...] += high


def _looks_again(rejection: Rejection) -> bool:
    return rejection.slack > 0 and rejection.method not in (Method.MEAN, Method.MEDIAN)


def _part(whole: Combined, y0: int, y1: int) -> Combined:
    """Return rows of a result, with counts of their own and, where the result has no maps, with maps of their own."""
    rows, frames = slice(y0, y1), len(whole.rejected_low)
    maps = whole.maps
    return Combined(
        whole.data[rows],
        whole.spread[rows],
        whole.kept[rows],
        np.zeros(frames, dtype=np.int64),
        np.zeros(frames, dtype=np.int64),
        _empty_maps(y1 - y0, whole.data.shape[1])
        if maps is None
        else CombinedMaps(maps.rejected_low[rows], maps.rejected_high[rows], maps.weight[rows]),
    )


def _combine_forgiving(
    stack: F32Array, before: int, behind: int, weights: F64Array, rejection: Rejection, into: Combined, y0: int
) -> None:
    """Combine rows, and take back what was rejected near stars for no more than the seeing.

    The stack holds, but at the picture's edges, one more row `before` and `behind` those that are written: what is near a
    row's stars is told by the rows beside it.
    """
    rows = stack.shape[1]
    result = _part(into, y0, y0 + rows - before - behind)
    _combine_into(stack, weights, rejection, result, 0, before, rows - before - behind)
    _forgive(stack, before, behind, weights, rejection, result)
    # Bands may run in several threads; adding whole small arrays under the interpreter's lock is safe.
    into.rejected_low[...] += result.rejected_low
    into.rejected_high[...] += result.rejected_high


def _forgive(
    stack: F32Array, before: int, behind: int, weights: F64Array, rejection: Rejection, result: Combined
) -> None:
    assert result.maps is not None
    frames, rows, width = stack.shape
    inner = stack[:, before : rows - behind]
    lows, highs = result.maps.rejected_low, result.maps.rejected_high
    # Few pixels are meant: going through a flat array of yes and no is the quick way to them.
    ys, xs = np.divmod(np.flatnonzero((lows | highs) != 0), width)
    if not len(ys):
        return
    parts = [result.data]
    for row in ([0] if before else []) + ([rows - 1] if behind else []):
        beside = _empty(frames, 1, width, maps=False)
        _combine_into(stack, weights, rejection, beside, 0, row, 1)
        parts.insert(0 if row == 0 else len(parts), beside.data)
    noise = result.spread[ys, xs] / np.sqrt(np.maximum(result.kept[ys, xs], 1)).astype(np.float32)
    slack = np.float32(rejection.slack) * local_contrast(np.concatenate(parts), noise, ys + before, xs)
    ys, xs, slack = ys[slack > 0], xs[slack > 0], slack[slack > 0]
    keep, below, above = taken_back(inner[:, ys, xs], lows[ys, xs], highs[ys, xs], slack)
    changed = (below | above).any(axis=0)
    if not changed.any():
        return
    ys, xs = ys[changed], xs[changed]
    keep, below, above = keep[:, changed], below[:, changed], above[:, changed]
    again, spreads, counts, share = combined_again(inner[:, ys, xs], keep, weights)
    result.data[ys, xs], result.spread[ys, xs], result.kept[ys, xs] = again, spreads, counts
    lows[ys, xs] -= below.sum(axis=0).astype(np.uint16)
    highs[ys, xs] -= above.sum(axis=0).astype(np.uint16)
    result.maps.weight[ys, xs] = share
    result.rejected_low[...] -= below.sum(axis=1)
    result.rejected_high[...] -= above.sum(axis=1)


def combine_sources(
    sources: Sequence[RowSource],
    *,
    rejection: Rejection,
    weights: Sequence[float] | None = None,
    maps: bool = False,
    budget_bytes: int = 512 * 1024**2,
    threads: int = 1,
    progress: Progress = silent,
    stop: StopToken | None = None,
) -> Combined:
    """Combine sources of rows without ever holding more than a band of each.

    Parameters
    ----------
    sources : sequence of RowSource
        All of one size.
    rejection, weights, maps
        As `combine_stack`.
    budget_bytes : int
        Memory for the bands in flight [bytes]; the result itself comes on top.
    threads : int
        Bands worked on at once; reading one overlaps with combining another.
    progress : Progress
        Called with rows done and rows in all.
    stop : StopToken, optional
        Looked at before each band.

    Returns
    -------
    Combined

    Raises
    ------
    ValueError
        As `combine_stack`, or if sizes differ.
    StopRequested
        If stop was asked.
    """
    if not sources:
        raise ValueError("there is nothing to combine")
    height, width = sources[0].height, sources[0].width
    for source in sources:
        if (source.height, source.width) != (height, width):
            raise ValueError(f"sizes differ: {source.width} x {source.height} and {width} x {height} px")
    factors = _weights(weights, len(sources), rejection)
    result = _empty(len(sources), height, width, maps)
    # A band costs its stack and one frame's rows while they are read in.
    row_bytes = 4 * width * (len(sources) + 2)
    # Small bands stay in the cache and keep threads evenly busy.
    rows_wanted = max(1, min(64, height))
    bands = list(row_bands(height, row_bytes, min(budget_bytes // max(1, threads), row_bytes * rows_wanted)))
    done, again = 0, _looks_again(rejection)
    # Memory of bands that are done serves the next ones: fresh memory would be cleared by the system page by page.
    spare: list[F32Array] = []
    most = len(sources) * width * (max(y1 - y0 for y0, y1 in bands) + (2 if again else 0))

    def work(band: tuple[int, int]) -> int:
        if stop is not None:
            stop.check()
        y0, y1 = band
        first, last = (max(y0 - 1, 0), min(y1 + 1, height)) if again else band
        held = spare.pop() if spare else np.empty(most, dtype=np.float32)
        stack = held[: len(sources) * (last - first) * width].reshape(len(sources), last - first, width)
        for index, source in enumerate(sources):
            _fill(source, first, last, stack[index])
        if again:
            _combine_forgiving(stack, y0 - first, last - y1, factors, rejection, result, y0)
        else:
            _combine_into(stack, factors, rejection, result, y0)
        spare.append(held)
        return y1 - y0

    if threads == 1:
        for band in bands:
            done += work(band)
            progress(done, height, "Combining rows")
    else:
        with ThreadPoolExecutor(threads) as pool:
            for rows in pool.map(work, bands):
                done += rows
                progress(done, height, "Combining rows")
    return result
