"""Round numbers on the axes of plots."""

from __future__ import annotations

import math

from ulvar.engine import true_minus


def nice_ticks(low: float, high: float, count: int) -> list[float]:
    """Return about `count` round numbers inside a range, at least two: one number is no scale."""
    if not (math.isfinite(low) and math.isfinite(high)) or high <= low:
        return []
    rough = (high - low) / max(1, count)
    power = 10 ** math.floor(math.log10(rough))
    steps = [m * power for m in (0.2, 0.25, 0.5, 1, 2, 2.5, 5, 10)]
    widest = next((i for i, step in enumerate(steps) if rough <= step * 1.0001), len(steps) - 1)
    ticks: list[float] = []
    for step in steps[widest::-1]:
        first, last = math.ceil(low / step - 1e-9), math.floor(high / step + 1e-9)
        ticks = [k * step for k in range(first, last + 1)]
        if len(ticks) >= 2:
            break
    return ticks


def log_ticks(low: float, high: float, count: int) -> list[float]:
    """Return the logarithms of round numbers (1, 2, 5, 10...) between two logarithms."""
    powers = range(math.floor(low) - 1, math.ceil(high) + 1)
    every = [power + math.log10(step) for power in powers for step in (1, 2, 5)]
    inside = [place for place in every if low <= place <= high]
    return inside if len(inside) >= 2 else nice_ticks(low, high, count)


def tick_text(value: float, step: float) -> str:
    """Return a tick's text with as many decimals as its step needs and a true minus."""
    places = max(0, -math.floor(math.log10(step) + 1e-9)) if step > 0 else 0
    if step > 0 and abs(step * 10**places - round(step * 10**places)) > 1e-6:
        places += 1
    # Digits in groups of three from five digits on, as everywhere.
    grouped = f"{value:,.{places}f}" if abs(value) >= 10_000 else f"{value:.{places}f}"
    return true_minus(grouped.replace(",", "\u2009"))


def clock_text(hours: float, step: float) -> str:
    """Return hours since a midnight as a time of day, with minutes."""
    minutes = round(hours * 60) % 1440
    return f"{minutes // 60:02d}:{minutes % 60:02d}"
