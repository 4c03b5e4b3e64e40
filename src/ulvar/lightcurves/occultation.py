"""When a star went out and came back: occultations in fast series."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array, Failed, counted
from ulvar.frames import robust_spread

# A dip that chance makes more often than this in such a series is none.
_CHANCE = 1e-3
# Steps of the times that are tried, of a frame.
_FINE = 40
# At most so many frames before and behind an edge are looked at.
_WIDEST = 60


@dataclass(frozen=True)
class Occultation:
    """A star that went out for a while.

    Attributes
    ----------
    out_s, back_s : float
        When the light went and came [s], on the scale of the times given.
    out_error_s, back_error_s : float
        Half of the interval that holds each with 68 % [s].
    duration_s, duration_error_s : float
    level, low : float
        Light outside and during it.
    level_error, low_error : float
    drop_mag : float
        How much fainter the star was; infinite, where nothing was left.
    snr : float
        Depth over its error, the series' own red noise allowed for.
    chance : float
        How often noise alone makes such a dip somewhere in the series.
    frames : int
        Frames during it, in part or wholly.
    model : float64 array, shape (n,)
        Light of each frame [as given].
    """

    out_s: float
    back_s: float
    out_error_s: float
    back_error_s: float
    duration_s: float
    duration_error_s: float
    level: float
    low: float
    level_error: float
    low_error: float
    drop_mag: float
    snr: float
    chance: float
    frames: int
    model: F64Array


def _dimmed(time: F64Array, exposure: float, out: F64Array | float, back: F64Array | float) -> F64Array:
    """Share of each frame's exposure that lies between two times, shape of the broadcast arguments."""
    begin, end = time - exposure / 2, time + exposure / 2
    return np.clip((np.minimum(end, back) - np.maximum(begin, out)) / exposure, 0.0, 1.0)


def fit_occultation(
    time_s: F64Array, flux: F64Array, exposure_s: float, *, longest_s: float | None = None
) -> Occultation | Failed:
    """Find the dip that stands out most, and time both of its edges.

    Parameters
    ----------
    time_s : float64 array, shape (n,)
        Middles of the frames [s], ascending.
    flux : float64 array, shape (n,)
        Light of the star, in any unit; frames that are NaN do not count.
    exposure_s : float
        Of a frame [s]: an edge within it leaves part of the light.
    longest_s : float, optional
        No dip is longer; half of the series by default.

    Returns
    -------
    Occultation, or Failed when noise alone might have made the deepest dip; the reason tells what would have been seen.

    Notes
    -----
    All dips with both edges in the series are compared by the likelihood of two levels. The times then follow from the likelihood of
    light that goes and comes at once, with what each exposure holds of it, on a grid of a fortieth of a frame: median and 68 % of
    the posterior with equal weight for all times, levels and noise inside and outside taken from the frames that lie wholly there, of
    few frames the low level integrated over. The chance allows for as many independent dips as the series has starts and, of each,
    lengths in doubles.
    """
    good = np.isfinite(time_s) & np.isfinite(flux)
    t, f = np.asarray(time_s, dtype=np.float64)[good], np.asarray(flux, dtype=np.float64)[good]
    n = len(t)
    if n < 20:
        return Failed(f"only {counted(n, 'frame')}, at least 20 are needed for an occultation")
    if (np.diff(t) < 0).any():
        raise ValueError("times must ascend")
    white = robust_spread(np.diff(f), about=0.0) / math.sqrt(2)
    if not white > 0:
        return Failed("the light does not scatter: it is not a measurement")
    longest = n // 2
    step = float(np.median(np.diff(t)))
    if longest_s is not None:
        longest = max(1, min(longest, math.ceil(longest_s / step)))
    from ulvar.lightcurves import _kernels

    gain, first, last = _kernels.best_box(f, longest)
    inside = last - first
    if inside < 1:
        return Failed("no dip was found")
    red = _redness(np.delete(f, slice(max(0, first - 1), last + 1)), inside, white)
    snr = math.sqrt(gain) / (white * red)
    trials = n * max(1.0, math.log2(longest) + 1)
    chance = min(1.0, trials * 0.5 * math.erfc(snr / math.sqrt(2)))
    if chance > _CHANCE:
        needed = _needed_snr(trials)
        level = float(np.median(f))
        words = []
        for seconds in (step, 1.0, 5.0):
            frames = max(1, round(seconds / step))
            if frames < n // 2 and (seconds == step or frames > 1) and level > 0:
                depth = needed * white * _redness(f, frames, white) / math.sqrt(frames) / level
                words.append(f"{percent_of(depth)} of the light for {seconds:.3g} s")
        return Failed(
            "no dip stands out of the noise" + (f"; one of {', of '.join(words)} would have been seen" if words else "")
        )
    return _timed(t, f, exposure_s, first, last, white, red, snr, chance, good)


def percent_of(share: float) -> str:
    """Return a share in words; more than all of it cannot be lost."""
    return "more than all" if share > 1 else f"{100 * share:.2g} %"


def _needed_snr(trials: float) -> float:
    low, high = 0.0, 12.0
    for _ in range(50):
        middle = (low + high) / 2
        if trials * 0.5 * math.erfc(middle / math.sqrt(2)) > _CHANCE:
            low = middle
        else:
            high = middle
    return high


def _redness(values: F64Array, size: int, white: float) -> float:
    """Return by how much means of `size` values scatter more than independent ones would; 1 at least."""
    count = len(values) // size
    if size < 2 or count < 8:
        return 1.0
    means = values[: count * size].reshape(count, size).mean(axis=1)
    return max(1.0, robust_spread(means) * math.sqrt(size) / white)


def _timed(
    t: F64Array, f: F64Array, exposure: float, first: int, last: int, white: float, red: float, snr: float,
    chance: float, good: np.ndarray,
) -> Occultation:  # fmt: skip
    n, inside = len(t), last - first
    outside = np.ones(n, dtype=bool)
    outside[max(0, first - 1) : last + 1] = False
    level, out_sigma = float(f[outside].mean()), float(f[outside].std(ddof=1))
    core = f[first + 1 : last - 1]
    in_sigma = out_sigma
    if len(core) >= 20:
        # A faint star has less noise of its own photons.
        in_sigma = float(core.std(ddof=1))
    low = float(core.mean()) if len(core) >= 3 else float(f[first:last].mean())
    depth = max(level - low, white)
    reach = int(min(_WIDEST, max(3, math.ceil(12 * (out_sigma / depth) ** 2))))
    step = exposure / _FINE if exposure > 0 else float(np.median(np.diff(t))) / _FINE
    frame = max(exposure, float(np.median(np.diff(t))))
    edge_out, edge_back = (t[first - 1] + t[first]) / 2, (t[last - 1] + t[last]) / 2
    if inside > 2 * reach + 4:
        core_error = in_sigma / math.sqrt(max(1, len(core)))
        out, out_error = _edge(t, f, exposure, edge_out, reach, frame, step, level, low, out_sigma, in_sigma, +1)
        back, back_error = _edge(t, f, exposure, edge_back, reach, frame, step, level, low, out_sigma, in_sigma, -1)
        length, length_error = back - out, math.hypot(out_error, back_error)
    else:
        found = _both(t, f, exposure, first, last, reach, frame, level, out_sigma, in_sigma)
        out, out_error, back, back_error, length, length_error, low, core_error = found
    model = np.full(len(good), np.nan)
    share = _dimmed(t, max(exposure, 1e-9), out, back)
    model[good] = level - (level - low) * share
    return Occultation(
        out_s=out, back_s=back, out_error_s=out_error, back_error_s=back_error, duration_s=length,
        duration_error_s=length_error, level=level, low=low, level_error=out_sigma * red / math.sqrt(n - inside),
        low_error=core_error * red, drop_mag=-2.5 * math.log10(low / level) if low > 0 and level > 0 else math.inf, snr=snr,
        chance=chance, frames=int((share > 0).sum()), model=model,
    )  # fmt: skip


def _interval(grid: F64Array, weight: F64Array) -> tuple[float, float]:
    """Return median, and half of the central 68 %, of a posterior on a grid."""
    total = np.cumsum(weight)
    total = (total - 0.5 * weight) / total[-1]
    q = np.interp([0.1587, 0.5, 0.8413], total, grid)
    return float(q[1]), float((q[2] - q[0]) / 2)


def _edge(
    t: F64Array, f: F64Array, exposure: float, near: float, reach: int, frame: float, step: float, level: float, low: float,
    out_sigma: float, in_sigma: float, sign: int,
) -> tuple[float, float]:  # fmt: skip
    """Return time and error of one edge; `sign` is +1 where the light goes."""
    span = (reach + 1) * frame
    some = np.abs(t - near) <= span + frame
    grid = np.arange(near - span, near + span + step / 2, step)
    far = 1e3 * span
    out, back = (grid, near + far) if sign > 0 else (near - far, grid)
    share = _dimmed(t[some][None, :], exposure, np.reshape(out, (-1, 1)), np.reshape(back, (-1, 1)))
    sigma2 = out_sigma**2 * (1 - share) + in_sigma**2 * share
    chi2 = ((f[some] - level + (level - low) * share) ** 2 / sigma2 + np.log(sigma2)).sum(axis=1)
    return _interval(grid, np.exp(-0.5 * (chi2 - chi2.min())))


def _both(
    t: F64Array, f: F64Array, exposure: float, first: int, last: int, reach: int, frame: float, level: float,
    out_sigma: float, in_sigma: float,
) -> tuple[float, float, float, float, float, float, float, float]:  # fmt: skip
    """Return times and errors of both edges together, duration and low level with theirs: of a short dip, where they depend on each other."""
    reach = min(reach, 12)
    fine = frame / (20 if reach <= 4 else 6)
    edges = (t[first - 1] + t[first]) / 2, (t[last - 1] + t[last]) / 2
    out = np.arange(edges[0] - (reach + 1) * frame, edges[1] + frame, fine)
    back = np.arange(edges[0] - frame, edges[1] + (reach + 1) * frame + fine / 2, fine)
    some = (t > out[0] - frame) & (t < back[-1] + frame)
    share = _dimmed(t[some][None, None, :], exposure, out[:, None, None], back[None, :, None])
    valid = (back[None, :] - out[:, None]) >= 0.25 * fine
    sigma2 = out_sigma**2 * (1 - share) + in_sigma**2 * share
    below = level - f[some]
    # The depth follows linearly, of equal weight from nothing to all of the light; it is integrated over.
    a, b = (share**2 / sigma2).sum(axis=-1), (share * below / sigma2).sum(axis=-1)
    a = np.maximum(a, 1e-300)
    best = np.clip(b / a, 0.0, max(level, below.max()))
    log = -0.5 * ((below - best[..., None] * share) ** 2 / sigma2 + np.log(sigma2)).sum(axis=-1) - 0.5 * np.log(a)
    weight = np.where(valid, np.exp(log - log[valid].max()), 0.0)
    gone, gone_error = _interval(out, weight.sum(axis=1))
    there, there_error = _interval(back, weight.sum(axis=0))
    lengths = (back[None, :] - out[:, None]).ravel()
    order = np.argsort(lengths)
    length, length_error = _interval(lengths[order], weight.ravel()[order])
    share_of = weight / weight.sum()
    depth = float((share_of * best).sum())
    depth_error = math.sqrt(max(0.0, float((share_of * (1 / a + best**2)).sum()) - depth**2))
    return gone, gone_error, there, there_error, length, length_error, level - depth, depth_error
