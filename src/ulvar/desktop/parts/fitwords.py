"""What a fitted model tells of a light curve, in words with units and errors."""

from __future__ import annotations

import math
from collections.abc import Mapping

from ulvar.desktop.parts.widgets import decimals_for

# Name of a value: words, unit, factor.
FIT_ROWS = {
    "depth_mag": ("Depth", "mag", 1.0), "duration_d": ("Duration", "h", 24.0), "ingress_d": ("Ingress", "min", 1440.0),
    "ratio": ("Ratio of radii", "", 1.0), "impact": ("Impact", "", 1.0), "u1": ("u1", "", 1.0), "u2": ("u2", "", 1.0),
    "amplitude_mag": ("Full range", "mag", 1.0), "minimum": ("Faintest", "d", 1.0), "maximum": ("Brightest", "d", 1.0),
    "range_mag": ("Range", "mag", 1.0),
}  # fmt: skip
# All that is told, the most wanted first.
ALL_ROWS = {"mid": ("Middle", "BJD_TDB", 1.0), "period_d": ("Period", "d", 1.0)} | FIT_ROWS


def told_value(value: float, error: float, unit: str) -> str:
    """Return a value with its error, as many decimals as the error has digits to tell."""
    if not (math.isfinite(error) and error > 0):
        return f"{value:.4g} {unit}".strip()
    places = decimals_for(error)
    return f"{value:,.{places}f} ± {error:.{places}f} {unit}".strip().replace(",", "\u2009")


def fine_value(value: float, error: float) -> str:
    """Return a period with its error to that one's second digit, however many decimals that takes."""
    if not (math.isfinite(error) and error > 0):
        return f"{value:.8g}"
    places = max(3, min(12, 1 - math.floor(math.log10(error))))
    return f"{value:.{places}f} ± {error:.{places}f}"


def fit_words(values: Mapping[str, float], errors: Mapping[str, float]) -> list[tuple[str, str]]:
    """Return (words, value with error) of what a model tells, the most wanted first."""
    return [
        (words, told_value(factor * values[name], factor * errors[name], unit))
        for name, (words, unit, factor) in ALL_ROWS.items()
        if name in values and math.isfinite(values[name])
    ]
