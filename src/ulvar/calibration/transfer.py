"""Photon transfer: gain and read noise of a camera from pairs of flats and of bias frames.

References
----------
Janesick, J. R. 2001, Scientific Charge-Coupled Devices, SPIE Press (chapter 2: variance against signal of pairs).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F32Array, F64Array, Failed

_TILE = 48


@dataclass(frozen=True)
class PairPoint:
    """What a pair of alike frames tells.

    Attributes
    ----------
    signal_adu : float
        Level above the level without light [ADU].
    variance_adu2 : float
        Temporal variance of one frame [ADU^2], fixed patterns gone with the difference.
    error_adu2 : float
        Its standard error [ADU^2].
    """

    signal_adu: float
    variance_adu2: float
    error_adu2: float


@dataclass(frozen=True)
class Transfer:
    """Gain and read noise of a camera setting.

    Attributes
    ----------
    gain_e_per_adu, gain_error : float
        [e-/ADU].
    read_noise_e, read_noise_error : float
        [e-]; NaN without bias frames.
    points : tuple of PairPoint
        What the line was laid through; ``used`` says which.
    used : tuple of bool
        A pair near the ceiling, where the variance falls, is not used.
    """

    gain_e_per_adu: float
    gain_error: float
    read_noise_e: float
    read_noise_error: float
    points: tuple[PairPoint, ...]
    used: tuple[bool, ...]


def _tiles(plane: F32Array | F64Array) -> F64Array:
    height, width = plane.shape
    ny, nx = max(1, height // _TILE), max(1, width // _TILE)
    ty, tx = height // ny, width // nx
    cut = np.asarray(plane[: ny * ty, : nx * tx], dtype=np.float64)
    return cut.reshape(ny, ty, nx, tx).transpose(0, 2, 1, 3).reshape(ny * nx, ty * tx)


def measure_pair(first: F32Array, second: F32Array, *, zero_adu: float = 0.0) -> PairPoint:
    """Return signal and temporal variance of two frames taken alike.

    Parameters
    ----------
    first, second : float32 array, shape (height, width)
        The middle of the frame is enough. The second is scaled to the first's level where there is light.
    zero_adu : float
        The level without light [ADU].

    Raises
    ------
    ValueError
        If sizes differ.

    Notes
    -----
    The variance is that of the difference, halved, tile by tile; the mean over tiles without the outermost
    deviants keeps cosmic rays out, at no bias: tiles are judged by their variance's own known scatter.
    """
    if first.shape != second.shape:
        raise ValueError("the frames of a pair differ in size")
    a = first.astype(np.float64) - zero_adu
    b = second.astype(np.float64) - zero_adu
    level_a, level_b = float(np.nanmedian(a)), float(np.nanmedian(b))
    lit = level_a > 0 and level_b > 0 and zero_adu > 0
    factor = level_a / level_b if lit else 1.0
    difference = _tiles(a - factor * b)
    difference -= np.nanmean(difference, axis=1, keepdims=True)
    # Var(a - f b) is f (1 + f) / 2 of twice the variance when photons rule, (1 + f^2) / 2 when reading does;
    # for the few percent that lamps change between two frames both are f to a part in a thousand.
    pixels = difference.shape[1]
    variances = np.nansum(difference**2, axis=1) / (pixels - 1) / (1 + factor**2)
    middle = float(np.median(variances))
    scatter = middle * math.sqrt(2 / (pixels - 1))
    good = np.abs(variances - middle) < 4 * scatter
    kept = variances[good] if good.sum() >= 3 else variances
    # Tiles of unequal brightness have unequal variance; their mean belongs to the mean signal of the same tiles.
    signals = np.nanmean(_tiles(0.5 * (a + b)), axis=1)
    signal = float(signals[good].mean() if good.sum() >= 3 else signals.mean())
    value = float(kept.mean())
    return PairPoint(signal, value, value * math.sqrt(2 / max(1, pixels * len(kept))))


def fit_transfer(
    flats: Sequence[PairPoint], biases: Sequence[PairPoint] = (), *, saturation_adu: float | None = None
) -> Transfer | Failed:
    """Lay the photon-transfer line: variance = read noise^2 + signal / gain.

    Parameters
    ----------
    flats, biases : sequence of PairPoint
        Of one camera setting. One pair of flats and one of bias frames are enough.
    saturation_adu : float, optional
        Pairs above 0.7 of it are not used.

    Returns
    -------
    Transfer, or Failed with what is missing.
    """
    limit = 0.7 * saturation_adu if saturation_adu else math.inf
    usable = [p.signal_adu < limit and p.variance_adu2 > 0 for p in flats]
    chosen = [p for p, good in zip(flats, usable) if good]
    if not chosen:
        return Failed("there is no pair of flats below 70 % of saturation")
    zero = zero_error = math.nan
    if biases:
        weights = np.array([1 / p.error_adu2**2 for p in biases])
        zero = float(np.average([p.variance_adu2 for p in biases], weights=weights))
        zero_error = float(1 / math.sqrt(weights.sum()))
    signal = np.array([p.signal_adu for p in chosen])
    variance = np.array([p.variance_adu2 for p in chosen])
    weight = np.array([1 / p.error_adu2**2 for p in chosen])
    if not biases and len(chosen) < 2:
        return Failed(
            "one pair of flats without bias frames does not tell the gain: take bias frames, or a second level"
        )
    if biases:
        over = variance - zero
        slope = float((weight * signal * over).sum() / (weight * signal**2).sum())
        slope_error = math.sqrt(1 / (weight * signal**2).sum() + (zero_error / float(signal.mean())) ** 2)
        read2, read2_error = zero, zero_error
    else:
        design = np.column_stack([np.ones_like(signal), signal])
        normal = np.linalg.inv(design.T @ (weight[:, None] * design))
        read2, slope = (float(v) for v in normal @ design.T @ (weight * variance))
        read2_error, slope_error = math.sqrt(normal[0, 0]), math.sqrt(normal[1, 1])
    if slope <= 0:
        return Failed("the variance does not grow with the signal: are these flats raw frames of one setting?")
    gain = 1 / slope
    gain_error = gain * slope_error / slope
    read = gain * math.sqrt(read2) if read2 > 0 else math.nan
    read_error = math.nan
    if read2 > 0:
        read_error = read * math.hypot(0.5 * read2_error / read2, gain_error / gain)
    return Transfer(gain, gain_error, read, read_error, tuple(flats), tuple(usable))
