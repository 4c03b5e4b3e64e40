"""The plain NumPy way of combining, kept simple so that it can be believed."""

import warnings

import numpy as np


def sigma_clipped(values: np.ndarray, low: float, high: float, usual: float, first: float) -> np.ndarray:
    """Return which of one pixel's values are kept, by iterated clipping about the median."""
    keep = np.isfinite(values)
    spread = max(first, usual)
    for step in range(12):
        centre = np.median(values[keep])
        new = keep & (values >= centre - low * spread) & (values <= centre + high * spread)
        if new.sum() < 2:
            break
        changed = (new != keep).any()
        keep = new
        if step > 0 and not changed:
            break
        own = max(np.std(values[keep], ddof=1), usual)
        spread = min(spread, own) if step > 0 else own
    return keep


def nan_median(stack: np.ndarray) -> np.ndarray:
    """Median along the frames, NaN where there is no value."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)
        return np.nanmedian(stack, axis=0)


def _inside(values: np.ndarray, centre: float, floor: float, ceiling: float) -> np.ndarray:
    """Return which values lie between so much below and so much above a centre."""
    return np.asarray((values >= centre - floor) & (values <= centre + ceiling))


def winsorized(values: np.ndarray, low: float, high: float, usual: float, first: float) -> np.ndarray:
    """Return which values are kept when the spread is that of data pulled in to 1.5 of it (Huber 1981)."""
    centre, spread = np.median(values), first
    for _ in range(10):
        if spread <= 0:
            return np.ones(len(values), dtype=bool)
        new = 1.134 * np.std(np.clip(values, centre - 1.5 * spread, centre + 1.5 * spread), ddof=1)
        done = abs(new - spread) < 5e-4 * spread
        spread = new
        if done:
            break
    spread = max(spread, usual)
    return _inside(values, centre, low * spread, high * spread)


def by_median_deviation(values: np.ndarray, low: float, high: float, usual: float) -> np.ndarray:
    """Return which values are kept by 1.4826 times the median absolute deviation."""
    centre = np.median(values)
    spread = max(1.4826 * np.median(np.abs(values - centre)), usual)
    if len(values) < 4 or spread <= 0:
        return np.ones(len(values), dtype=bool)
    return _inside(values, centre, low * spread, high * spread)


def off_a_line(values: np.ndarray, low: float, high: float) -> np.ndarray:
    """Return which sorted values are kept: the ends go one by one while they lie off the line through the rest."""
    lo, hi = 0, len(values)
    for _ in range(12):
        if hi - lo < 5:
            break
        places = np.arange(lo, hi)
        residuals = values[lo:hi] - np.polyval(np.polyfit(places, values[lo:hi], 1), places)
        deviation = np.abs(residuals).mean()
        if deviation <= 0:
            break
        first, last = residuals[0] < -low * deviation, residuals[-1] > high * deviation
        lo, hi = lo + int(first), hi - int(last)
        if not (first or last):
            break
    kept = np.zeros(len(values), dtype=bool)
    kept[lo:hi] = True
    return kept
