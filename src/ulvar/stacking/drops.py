"""Variable-pixel reconstruction: exposures of many places within a pixel, put together on a finer grid."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.combine import RowSource
from ulvar.engine import F32Array, F64Array, Progress, StopToken, silent
from ulvar.engine.threads import in_parts
from ulvar.registration import PixelMap
from ulvar.registration.resample import nodes_of, step_for

# Rows of the grid that are worked on at once.
_BAND = 256
# A weight that varies by more than this, one deviation, over the part that most exposures show, is uneven.
_UNEVEN = 0.25
# Where the weight reaches this much of what it reaches over most of the grid, no edge of an exposure is near.
_WITHIN = 0.8


@dataclass(frozen=True)
class DropInput:
    """One exposure.

    Attributes
    ----------
    source : RowSource
        Its own pixels [ADU], NaN where they are not good.
    way : PixelMap
        Onto the grid.
    factor, addend_adu : float
        Bring what a pixel of the grid gathers to the reference [ADU].
    weight : float
    noise_adu : float
        Of one of its pixels.
    """

    source: RowSource
    way: PixelMap
    factor: float
    addend_adu: float
    weight: float
    noise_adu: float


@dataclass(frozen=True)
class Dropped:
    """A reconstruction.

    Attributes
    ----------
    data, noise, weight : float32 array, shape (height, width)
        Light of a pixel [ADU], its standard error by the exposures' noise [ADU], and the weight that fell on it over the
        largest.
    correlation : float
        Noise of a large area over what the noise of its pixels, were they independent, would make.
    unevenness : float
        How much the weight varies over the part that most exposures show, one deviation over the mean.
    empty : float
        Share of that part on which nothing fell.
    """

    data: F32Array
    noise: F32Array
    weight: F32Array
    correlation: float
    unevenness: float
    empty: float

    @property
    def problem(self) -> str:
        """Why the exposures do not support so fine a grid, in a sentence; empty where they do."""
        if self.empty > 0.001:
            return f"nothing fell on {100 * self.empty:.1f} % of the pixels: take a larger drop, or larger pixels"
        if self.unevenness > _UNEVEN:
            return (
                f"the weight of the pixels varies by {100 * self.unevenness:.0f} %: there are too few exposures, or they lie too "
                "much alike within a pixel; take a larger drop, or larger pixels"
            )
        return ""


def noise_correlation(drop: float, scale: float) -> float:
    """Return by how much the noise of large areas exceeds that of independent pixels.

    Fruchter & Hook 2002 (PASP 114, 144), equations 9 and 10, for exposures that lie evenly within a pixel.

    Parameters
    ----------
    drop : float
        Side of a drop over that of a pixel of the exposure.
    scale : float
        Pixels of the grid for one of the exposure.

    Examples
    --------
    >>> round(noise_correlation(1.0, 1.0), 3)
    1.5
    """
    ratio = drop * scale
    return ratio / (1 - 1 / (3 * ratio)) if ratio >= 1 else 1 / (1 - ratio / 3)


def reconstruct(
    inputs: Sequence[DropInput],
    shape: tuple[int, int],
    *,
    drop: float,
    scale: float,
    budget_bytes: int = 512 * 1024**2,
    progress: Progress = silent,
    stop: StopToken | None = None,
) -> Dropped:
    """Let the pixels of exposures drop onto a grid, shrunken (Fruchter & Hook 2002, PASP 114, 144, section 3).

    Parameters
    ----------
    inputs : sequence of DropInput
    shape : (int, int)
        Height and width of the grid [px].
    drop : float
        Side of a drop over that of a pixel, over 0 and up to 1.
    scale : float
        Pixels of the grid for one of the exposures, which the told correlation of noise is for.
    budget_bytes, progress, stop
        As `ulvar.combine.combine_sources`; at least one band of 256 rows is held.

    Raises
    ------
    ValueError
        For a drop of another size, or nothing to drop.
    """
    from ulvar.stacking._kernels import drop_rows

    if not 0 < drop <= 1:
        raise ValueError("a drop is larger than 0 and not larger than a pixel")
    if not inputs:
        raise ValueError("there is nothing to reconstruct from")
    height, width = shape
    data, noise, weight = (np.empty(shape, dtype=np.float32) for _ in range(3))
    placed = [_placed(one) for one in inputs]
    bands = max(1, min(-(-height // _BAND), budget_bytes // max(1, 24 * width * _BAND)))
    size = _BAND * bands
    for start in range(0, height, size):
        end = min(start + size, height)
        sums, weights, squares = (np.zeros((end - start, width)) for _ in range(3))
        for done, (one, (across, down, step)) in enumerate(zip(inputs, placed)):
            if stop is not None:
                stop.check()
            progress(start * len(inputs) + done * (end - start), height * len(inputs), "Dropping pixels")
            first, last = _rows_for(one, down, step, start, end)
            if first >= last:
                continue
            rows = one.source.rows(first, last)
            # Nodes are those of the whole exposure; its rows begin further down.
            moved = _from_row(across, first, step), _from_row(down, first, step)

            def part(
                a: int,
                b: int,
                rows: F32Array = rows,
                moved: tuple[F64Array, F64Array] = moved,
                one: DropInput = one,
                step: int = step,
                start: int = start,
                planes: tuple = (sums, weights, squares),
            ) -> None:
                drop_rows(
                    rows, *moved, step, drop / 2, one.factor, one.addend_adu, one.weight, (one.noise_adu * one.factor) ** 2,
                    start + a, *(plane[a:b] for plane in planes),
                )  # fmt: skip

            in_parts(part, end - start, smallest=64)
        with np.errstate(invalid="ignore", divide="ignore"):
            data[start:end] = np.where(weights > 0, sums / weights, np.nan)
            noise[start:end] = np.where(weights > 0, np.sqrt(squares) / weights, np.nan)
        weight[start:end] = weights
    progress(height * len(inputs), height * len(inputs), "Dropping pixels")
    unevenness, empty = _evenness(weight)
    largest = float(weight.max()) or 1.0
    return Dropped(
        data, noise, np.asarray(weight / np.float32(largest)), noise_correlation(drop, scale), unevenness, empty
    )


def _placed(one: DropInput) -> tuple[F64Array, F64Array, int]:
    """Return where an exposure's pixels lie on the grid, at nodes, and how far apart these are."""
    shape = one.source.height, one.source.width
    step = step_for(one.way, shape)
    x, y = np.meshgrid(nodes_of(shape[1], step), nodes_of(shape[0], step))
    return (*one.way(x, y), step)


def _rows_for(one: DropInput, down: F64Array, step: int, start: int, end: int) -> tuple[int, int]:
    """Return the rows of an exposure of which something may fall on rows of the grid."""
    reach = np.flatnonzero((down.max(axis=1) >= start - step) & (down.min(axis=1) <= end + step))
    if not len(reach):
        return 0, 0
    first, last = max((int(reach[0]) - 1) * step, 0), min((int(reach[-1]) + 2) * step, one.source.height)
    return first, last


def _from_row(nodes: F64Array, first: int, step: int) -> F64Array:
    return np.ascontiguousarray(nodes[first // step :])


def _evenness(weight: F32Array) -> tuple[float, float]:
    """Return how the weight varies, and how much of the area is empty, where most exposures lie: near its median and up."""
    fallen = weight[weight > 0]
    if not fallen.size:
        return math.inf, 1.0
    # The part is told by means over 8 x 8 pixels, in which holes do not show.
    height, width = weight.shape[0] // 8 * 8, weight.shape[1] // 8 * 8
    if not height or not width:
        return float(fallen.std() / fallen.mean()), float((weight == 0).mean())
    blocks = weight[:height, :width].reshape(height // 8, 8, width // 8, 8)
    means = blocks.mean(axis=(1, 3))
    inner = means > _WITHIN * np.quantile(means, 0.9)
    chosen = blocks.transpose(0, 2, 1, 3)[inner].reshape(int(inner.sum()), 64)
    # Differences from the mean of each block: edges of exposures are no unevenness of the grid.
    spread = float(np.sqrt(((chosen - chosen.mean(axis=1, keepdims=True)) ** 2).mean()))
    return spread / float(chosen.mean()), float((chosen == 0).mean())
