"""The result of the light curve: what its model tells."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

from PySide6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout

from ulvar.desktop.parts.fitwords import FIT_ROWS, told_value
from ulvar.desktop.parts.widgets import decimals_for, hairline, label
from ulvar.engine import true_minus

# The value that stands large, by model, and what it is called.
_FIRST = {
    "eclipse": ("mid", "Minimum"), "transit": ("mid", "Middle of the transit"), "sine": ("period_d", "Period"),
    "polynomial": ("minimum", "Faintest"),
}  # fmt: skip


def show_result(place: QVBoxLayout, fit: Mapping[str, Any]) -> QLabel | None:
    """Put what a model tells into a layout, the first thing large; returns its label."""
    values = {k: v for k, v in fit["values"].items() if v is not None}
    errors = {k: v if v is not None else math.nan for k, v in fit["errors"].items()}
    key, title = _FIRST[fit["model"]]
    if key not in values and "maximum" in values:
        key, title = "maximum", "Brightest"
    place.setSpacing(4)
    result = None
    if key in values:
        head = QHBoxLayout()
        head.addWidget(label(title, "section"), 1)
        head.addWidget(label("d" if key == "period_d" else "BJD_TDB", "unit"))
        place.addLayout(head)
        error = errors[key]
        known = math.isfinite(error) and error > 0
        places = decimals_for(error) if known else 5
        result = label(f"{values[key]:,.{places}f}".replace(",", "\u2009"), "result")
        place.addWidget(result)
        if known:
            seconds = error * 86400
            shown = f"{seconds / 60:.1f} min" if seconds > 600 else f"{seconds:.{1 if seconds < 10 else 0}f} s"
            place.addWidget(label(f"± {error:.{places}f} d = {shown}", "value"))
    rows = []
    if "kwee_van_woerden_mid" in fit:
        off = (fit["kwee_van_woerden_mid"] - fit["mid_bjd_tdb"]) * 86400
        # Of a second way to time it the difference is told, with its own error.
        error = fit["kwee_van_woerden_error_d"] * 86400
        places = 1 if error < 2 else 0
        rows.append(
            ("Kwee–van Woerden, from the fit", f"{round(off, places) + 0.0:+.{places}f} ± {error:.{places}f} s")
        )
    for name, (words, unit, factor) in FIT_ROWS.items():
        if name in values and name != key:
            rows.append((words, told_value(factor * values[name], factor * errors[name], unit)))
    rows.append(("Residual scatter", f"{1000 * fit['rms_mag']:.1f} mmag"))
    if fit["red_noise_factor"] > 1.005:
        rows.append(("Errors grow by red noise", f"{fit['red_noise_factor']:.1f} times"))
    for name, text in rows:
        line = QHBoxLayout()
        line.addWidget(label(name, wrap=True), 1)
        line.addWidget(label(true_minus(text), "value"))
        place.addLayout(line)
    place.addSpacing(6)
    place.addWidget(hairline())
    place.addSpacing(4)
    return result
