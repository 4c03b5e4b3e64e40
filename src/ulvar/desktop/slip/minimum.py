"""The result of the light curve: the timed minimum."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PySide6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout

from ulvar.desktop.parts.widgets import decimals_for, hairline, label


def show_minimum(place: QVBoxLayout, fit: Mapping[str, Any]) -> QLabel:
    """Put the timed minimum and what was fitted with it into a layout; returns the label with the time."""
    place.setSpacing(4)
    head = QHBoxLayout()
    head.addWidget(label("Minimum", "section"), 1)
    head.addWidget(label("BJD_TDB", "unit"))
    place.addLayout(head)
    places = decimals_for(fit["mid_error_d"])
    result = label(f"{fit['mid_bjd_tdb']:,.{places}f}".replace(",", "\u2009"), "result")
    place.addWidget(result)
    seconds = fit["mid_error_d"] * 86400
    place.addWidget(label(f"± {fit['mid_error_d']:.{places}f} d = {seconds:.{1 if seconds < 10 else 0}f} s", "value"))
    rows = []
    if "kwee_van_woerden_mid" in fit:
        off = (fit["kwee_van_woerden_mid"] - fit["mid_bjd_tdb"]) * 86400
        # Of a second way to time it the difference is told, with its own error.
        error = fit["kwee_van_woerden_error_d"] * 86400
        rows.append(("Kwee–van Woerden, from the fit", f"{off:+.0f} ± {error:.0f} s"))
    rows.append(("Depth", f"{fit['depth_mag']:.3f} ± {fit['depth_error_mag']:.3f} mag"))
    rows.append(("Duration", f"{24 * fit['duration_d']:.2f} ± {24 * fit['duration_error_d']:.2f} h"))
    rows.append(("Residual scatter", f"{1000 * fit['rms_mag']:.1f} mmag"))
    for name, text in rows:
        line = QHBoxLayout()
        line.addWidget(label(name, wrap=True), 1)
        line.addWidget(label(text.replace("-", "−"), "value"))
        place.addLayout(line)
    place.addSpacing(6)
    place.addWidget(hairline())
    place.addSpacing(4)
    return result
