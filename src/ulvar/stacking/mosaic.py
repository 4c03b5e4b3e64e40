"""Mosaics of pointings: levels matched where exposures overlap, and combining part by part."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from ulvar.combine import CombinedMaps, Method, Rejection, RowSource, combine_sources, suited
from ulvar.engine import F32Array, F64Array, Progress, StopToken, silent
from ulvar.frames import median, robust_spread
from ulvar.registration import PixelMap
from ulvar.stacking.local import Surface, SurfaceRows
from ulvar.stacking.options import STACK_REJECTION, Normalise, Weighting
from ulvar.stacking.stack import Stacked, StackInput, combined_noise, normalisation, stack_weights

# Parts that are combined by themselves are so many pixels wide and high.
_TILE = 1024
# Levels are compared in blocks of so many pixels a side, at most so many in a row, each with so many good pixels at least.
_BLOCK, _BLOCKS, _LEAST = 24, 16, 60
# Slopes that overlaps tell nothing of, the one common to all among them, stay small: as if known to this [ADU a grid].
_RIDGE = 1e-3
# Rounds in which levels are fitted, the last two without what lies off.
_TURNS = 14
# Values this many deviations off what was combined are no part of a feathered seam either.
_FAR_SIGMA, _SLACK = 5.0, 0.5


@dataclass(frozen=True)
class Window:
    """Where a part lies on a grid: first column and row, behind the last ones [px]."""

    x0: int
    y0: int
    x1: int
    y1: int

    @property
    def shape(self) -> tuple[int, int]:
        """Height and width [px]."""
        return self.y1 - self.y0, self.x1 - self.x0

    def common(self, other: Window) -> Window | None:
        """Return what lies in both, or None."""
        found = Window(max(self.x0, other.x0), max(self.y0, other.y0), min(self.x1, other.x1), min(self.y1, other.y1))
        return found if found.x0 < found.x1 and found.y0 < found.y1 else None


@dataclass(frozen=True)
class MosaicInput:
    """An exposure on its part of the grid.

    Attributes
    ----------
    entry : StackInput
        Its rows are those of the part.
    window : Window
    way : PixelMap
        From the exposure's own pixels to the grid's.
    size : (int, int)
        Its height and width [px].
    """

    entry: StackInput
    window: Window
    way: PixelMap
    size: tuple[int, int]

    def depth(self, tile: Window) -> F32Array:
        """Return how far inside the exposure pixels of the grid lie [px of the exposure], negative outside."""
        x, y = np.meshgrid(np.arange(tile.x0, tile.x1, dtype=np.float64), np.arange(tile.y0, tile.y1, dtype=np.float64))
        u, v = self.way.inverse()(x, y)
        height, width = self.size
        edges = np.minimum(np.minimum(u, width - 1 - u), np.minimum(v, height - 1 - v)) + 0.5
        return np.asarray(np.nan_to_num(edges, nan=-1.0), dtype=np.float32)


class _PartRows:
    """Some rows and columns of a source."""

    def __init__(self, source: RowSource, window: Window, part: Window) -> None:
        self._source = source
        self.height, self.width = part.shape
        self._x0, self._y0 = part.x0 - window.x0, part.y0 - window.y0
        self._own = source.height, source.width

    def rows(self, y0: int, y1: int) -> F32Array:
        """Return rows, NaN beyond the source."""
        band = np.full((y1 - y0, self.width), np.nan, dtype=np.float32)
        top, bottom = max(y0 + self._y0, 0), min(y1 + self._y0, self._own[0])
        left, right = max(self._x0, 0), min(self._x0 + self.width, self._own[1])
        if top < bottom and left < right:
            rows = self._source.rows(top, bottom)[:, left:right]
            band[top - self._y0 - y0 : bottom - self._y0 - y0, left - self._x0 : right - self._x0] = rows
        return band


def _differences(first: MosaicInput, second: MosaicInput, factors: tuple[float, float]) -> tuple[F64Array, F64Array]:
    """Return by how much the second exposure lies over the first in blocks of their overlap [ADU], and where, (n, 2) [px].

    Stars and the sky behind are in both and go out of the difference.
    """
    common = first.window.common(second.window)
    if common is None:
        return np.empty(0), np.empty((0, 2))
    height, width = common.shape
    found, places = [], []
    tops = _spaced(height)
    for top in tops:
        y = common.y0 + top
        one, other = (
            part.entry.source.rows(y - part.window.y0, min(y + _BLOCK, common.y1) - part.window.y0)[
                :, common.x0 - part.window.x0 : common.x1 - part.window.x0
            ]
            for part in (first, second)
        )
        apart = np.float32(factors[1]) * other - np.float32(factors[0]) * one
        for left in _spaced(width):
            block = apart[:, left : left + _BLOCK]
            good = block[np.isfinite(block)]
            if good.size > block.size / 2 and good.size >= _LEAST:
                found.append(median(good))
                places.append((common.x0 + left + block.shape[1] / 2, y + block.shape[0] / 2))
    return np.array(found), np.array(places).reshape(-1, 2)


def _spaced(length: int) -> list[int]:
    """Return where blocks of a length begin: side by side, or strewn where there would be too many."""
    count = max(min(length // _BLOCK, _BLOCKS), 1)
    return [round(v) for v in np.linspace(0, max(length - _BLOCK, 0), count)]


def match_levels(
    inputs: Sequence[MosaicInput],
    factors: Sequence[float],
    grid: tuple[int, int],
    base: int,
    stop: StopToken | None = None,
) -> list[Surface]:
    """Return what is added to each exposure, after its factor, for levels to be equal where exposures overlap.

    Parameters
    ----------
    inputs : sequence of MosaicInput
    factors : sequence of float
    grid : (int, int)
        Height and width of the grid [px].
    base : int
        The exposure whose level, at its middle, stays.
    stop : StopToken, optional

    Notes
    -----
    One fit of a level and a slope for each exposure to the differences in all overlaps, medians of blocks of pixels: of least
    absolute deviations by reweighted least squares (Schlossmacher 1973, JASA 68, 857), then of least squares without the blocks
    that lie off by over four spreads.
    """
    height, width = grid
    pairs, terms, differences = [], [], []
    for i in range(len(inputs)):
        if stop is not None:
            stop.check()
        for j in range(i + 1, len(inputs)):
            found, places = _differences(inputs[i], inputs[j], (factors[i], factors[j]))
            pairs.append(np.tile((i, j), (len(found), 1)))
            x, y = places.T
            terms.append(
                np.column_stack([np.ones(len(found)), 2 * x / max(width - 1, 1) - 1, 2 * y / max(height - 1, 1) - 1])
            )
            differences.append(found)
    count = len(inputs)
    solved, linked = np.zeros((count, 3)), {base}
    middles = [
        ((w.x0 + w.x1) / max(width - 1, 1) - 1, (w.y0 + w.y1) / max(height - 1, 1) - 1)
        for w in (i.window for i in inputs)
    ]
    if sum(len(d) for d in differences):
        (i, j), t, d = np.concatenate(pairs).T, np.concatenate(terms), np.concatenate(differences)
        linked |= set(i.tolist()) | set(j.tolist())
        weight = np.ones(len(d))
        for turn in range(_TURNS):
            solved = _levels_by(i, j, t * weight[:, None], d * weight, count, middles, base)
            off = np.abs(d - (t * (solved[i] - solved[j])).sum(axis=1))
            usual = robust_spread(off[weight > 0], about=0.0) + 1e-6
            # At first the sum of deviations is made small, which few of any size do not pull; then those far off are out.
            weight = 1 / np.sqrt(np.maximum(off, usual)) if turn < _TURNS - 2 else (off <= 4 * usual).astype(np.float64)
            weight /= np.sqrt((weight**2).mean())
    target = inputs[base].entry.sky_adu * factors[base]
    return [
        Surface(tuple(float(v) for v in solved[k]), 1)
        if k in linked
        # What overlaps with nothing is brought to the same level of sky.
        else Surface((target - factors[k] * one.entry.sky_adu, 0.0, 0.0), 1)
        for k, one in enumerate(inputs)
    ]


def _levels_by(
    i: np.ndarray, j: np.ndarray, terms: F64Array, differences: F64Array, count: int, middles: Sequence[tuple[float, float]], base: int
) -> F64Array:  # fmt: skip
    """Solve for level and slopes of each exposure, shape (count, 3)."""
    normal, right = np.zeros((3 * count, 3 * count)), np.zeros((count, 3))
    outer = terms[:, :, None] * terms[:, None, :]
    axes = np.arange(3)
    for a, b, sign in ((i, i, 1.0), (j, j, 1.0), (i, j, -1.0), (j, i, -1.0)):
        rows, columns = 3 * a[:, None, None] + axes[None, :, None], 3 * b[:, None, None] + axes[None, None, :]
        np.add.at(normal, (rows, columns), sign * outer)
    np.add.at(right, i, terms * differences[:, None])
    np.add.at(right, j, -terms * differences[:, None])
    # The level of one exposure stays at its middle, and slopes that nothing tells stay near nought.
    place = np.array([1.0, *middles[base]])
    own = slice(3 * base, 3 * base + 3)
    normal[own, own] += 1e3 * len(differences) * np.outer(place, place)
    slopes = np.delete(np.arange(3 * count), np.arange(0, 3 * count, 3))
    normal[slopes, slopes] += _RIDGE * max(len(differences) / count, 1.0)
    # An exposure that overlaps with nothing leaves a row of noughts.
    normal += 1e-12 * np.trace(normal) * np.eye(3 * count)
    return np.asarray(np.linalg.solve(normal, right.ravel())).reshape(count, 3)


def stack_mosaic(
    inputs: Sequence[MosaicInput],
    grid: tuple[int, int],
    *,
    reference: int = 0,
    rejection: Rejection | None = None,
    weighting: Weighting = Weighting.SNR,
    feather_px: float = 0.0,
    maps: bool = False,
    budget_bytes: int = 512 * 1024**2,
    threads: int = 1,
    progress: Progress = silent,
    stop: StopToken | None = None,
) -> Stacked:
    """Combine exposures that each lie on a part of one grid.

    Parameters
    ----------
    inputs : sequence of MosaicInput
    grid : (int, int)
        Height and width [px].
    reference : int
        The exposure whose brightness and level are kept.
    rejection : Rejection, optional
        Its limits follow, where none are given, from how many exposures there are at each part.
    weighting : Weighting
    feather_px : float
        Over so many pixels exposures fade in from their edges; 0 for none.
    maps : bool
    budget_bytes, threads, progress, stop
        As `ulvar.combine.combine_sources`.

    Raises
    ------
    ValueError
        If there is nothing to stack.
    """
    if not inputs:
        raise ValueError("there is nothing to stack")
    chosen = rejection or STACK_REJECTION
    entries = [one.entry for one in inputs]
    # Levels are matched by overlaps.
    scaling = normalisation(entries, reference, Normalise.SCALE)
    factors = [factor for factor, _ in scaling]
    weights = stack_weights(entries, factors, weighting)
    surfaces = match_levels(inputs, factors, grid, reference, stop)
    sigma = np.array([one.entry.noise_adu * f for one, f in zip(inputs, factors)])
    height, width = grid
    data, noise = (np.full(grid, np.nan, dtype=np.float32) for _ in range(2))
    kept = np.zeros(grid, dtype=np.uint16)
    told = None
    if maps:
        told = CombinedMaps(
            np.zeros(grid, dtype=np.uint16), np.zeros(grid, dtype=np.uint16), np.zeros(grid, dtype=np.float32)
        )
    rejected, seen = np.zeros(len(inputs)), np.zeros(len(inputs))
    tiles = [
        Window(x, y, min(x + _TILE, width), min(y + _TILE, height))
        for y in range(0, height, _TILE)
        for x in range(0, width, _TILE)
    ]
    most, told_limits = 0, suited(chosen, 1)
    for done, tile in enumerate(tiles):
        if stop is not None:
            stop.check()
        progress(done, len(tiles), "Combining")
        near = [k for k, one in enumerate(inputs) if one.window.common(tile) is not None]
        if not near:
            continue
        sources = [
            SurfaceRows(
                _PartRows(inputs[k].entry.source, inputs[k].window, tile),
                factors[k],
                surfaces[k],
                (tile.x0, tile.y0),
                grid,
            )
            for k in near
        ]
        limits = suited(chosen, len(near))
        if len(near) > most:
            most, told_limits = len(near), limits
        median = limits.method is Method.MEDIAN
        own = weights[near] / weights[near].sum()
        combined = combine_sources(
            sources, rejection=limits, weights=None if median else [float(w) for w in own], maps=maps, budget_bytes=budget_bytes,
            threads=threads, stop=stop,
        )  # fmt: skip
        at = slice(tile.y0, tile.y1), slice(tile.x0, tile.x1)
        spread = combined_noise(combined, sigma[near], None if median else own)
        data[at], kept[at] = combined.data, combined.kept
        # Where there is one value alone, its exposure's noise is what is known of it.
        noise[at] = np.where(combined.kept > 1, spread, _noise_of_one(sources, sigma[near], combined.kept == 1))
        if told is not None and combined.maps is not None:
            told.rejected_low[at], told.rejected_high[at] = combined.maps.rejected_low, combined.maps.rejected_high
            told.weight[at] = combined.maps.weight
        for k, count in zip(near, combined.rejected_low + combined.rejected_high):
            common = inputs[k].window.common(tile)
            assert common is not None
            rejected[k] += count
            # Of what it covers, not of the whole tile.
            seen[k] += common.shape[0] * common.shape[1]
        if feather_px > 0 and not median:
            data[at] = _feathered(
                sources, [inputs[k] for k in near], tile, weights[near], sigma[near], combined.data, feather_px
            )
    progress(len(tiles), len(tiles), "Combining")
    return Stacked(
        data=data, noise=noise, kept=kept, weights=weights, rejected_fractions=rejected / np.maximum(seen, 1),
        rejection=told_limits, scaling=tuple(scaling),
        surfaces=tuple(surfaces), maps=told,
    )  # fmt: skip


def _noise_of_one(sources: Sequence[RowSource], sigma: F64Array, alone: np.ndarray) -> F32Array:
    """Return, where one exposure alone has a value, its noise [ADU]; NaN elsewhere."""
    noise = np.full(alone.shape, np.nan, dtype=np.float32)
    if alone.any():
        for source, own in zip(sources, sigma):
            there = np.isfinite(source.rows(0, alone.shape[0])) & alone
            noise[there] = own
    return noise


def _feathered(
    sources: Sequence[RowSource], inputs: Sequence[MosaicInput], tile: Window, weights: F64Array, sigma: F64Array, combined: F32Array,
    feather_px: float,
) -> F32Array:  # fmt: skip
    """Return a part anew, each exposure counting less towards its edges; what stands off the part as it was does not count."""
    light, total = np.zeros(tile.shape), np.zeros(tile.shape)
    filled = np.nan_to_num(combined)
    high, low = cv2.dilate(filled, np.ones((3, 3), np.uint8)), cv2.erode(filled, np.ones((3, 3), np.uint8))
    slack = _SLACK * (high - low)
    for source, one, weight, noise in zip(sources, inputs, weights, sigma):
        values = source.rows(0, tile.shape[0])
        there = np.isfinite(values)
        values = np.nan_to_num(values)
        ramp = np.clip(one.depth(tile) / feather_px, 1e-3, 1.0)
        good = there & (np.abs(values - filled) <= _FAR_SIGMA * noise + slack)
        share = np.where(good, weight * ramp, 0.0)
        light += share * values
        total += share
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(total > 0, light / total, combined).astype(np.float32)
