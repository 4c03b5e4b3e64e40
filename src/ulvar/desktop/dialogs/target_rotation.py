"""A target over nights, page Rotation: a Fourier series of a minor planet's light, with a level for each night."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.models.nights import TargetNights, Turned
from ulvar.desktop.parts.fitwords import told_value
from ulvar.desktop.parts.inputs import Choice, Number
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import label
from ulvar.desktop.parts.zoomed import ZoomPlot
from ulvar.engine import Failed, counted


class TargetRotation(QWidget):
    """Range and order, scatter over periods, the folded light with the series."""

    wanted: tuple[float, float, int, str, float] = (2.0, 60.0, 0, "", 0.15)

    def __init__(self, nights: TargetNights, theme: Theme) -> None:
        super().__init__()
        self._nights = nights
        low, high, order, path, slope = TargetRotation.wanted
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout()
        self.low, self.high = self._number(low, 0.01, 1e5, 3, " h"), self._number(high, 0.01, 1e5, 3, " h")
        self.order = Choice()
        self.order.addItem("harmonics by the points", 0)
        for number in range(1, 11):
            self.order.addItem(f"{number} harmonics" if number > 1 else "1 harmonic", number)
        self.order.setCurrentIndex(self.order.findData(order))
        self.order.setToolTip("How many harmonics the series has; by default the points choose from 2 to 6")
        self.order.setAccessibleName("Harmonics")
        self.go = QPushButton("Find the rotation")
        self.go.setToolTip("Each night and filter has a level of its own")
        self.go.clicked.connect(self._find)
        for part in (label("Between"), self.low, label("and"), self.high, self.order, self.go):
            row.addWidget(part)
        row.addStretch(1)
        column.addLayout(row)
        row = QHBoxLayout()
        self.path = QLineEdit(path)
        self.path.setPlaceholderText("ephemeris of the body: jd, sun_au, earth_au, phase_deg")
        self.path.setToolTip(
            "A table; with it times lose the light's way, magnitudes distance and phase. Empty: neither"
        )
        self.path.setAccessibleName("Ephemeris of the body")
        self.pick = QPushButton("Choose…")
        self.pick.setToolTip("Choose the table of the ephemeris")
        self.pick.clicked.connect(self._pick)
        self.slope = self._number(slope, -1, 1, 2, "")
        self.slope.setToolTip("Slope G of the phase function")
        self.slope.setAccessibleName("Slope G")
        for one, stretch in (
            (label("Corrections"), 0),
            (self.path, 1),
            (self.pick, 0),
            (label("Slope G"), 0),
            (self.slope, 0),
        ):
            row.addWidget(one, stretch)
        column.addLayout(row)
        self.words = label("", "value", wrap=True)
        column.addWidget(self.words)
        self.valleys = ZoomPlot(theme, x_label="rotation period, h", y_label="scatter about the series, mmag")
        self.valleys.empty = "Find the rotation to see which periods the points allow."
        self.valleys.setMinimumHeight(110)
        column.addWidget(self.valleys, 2)
        self.folded = Plot(theme, x_label="rotation phase", y_label="light less levels, mag", y_down=True)
        self.folded.empty = "The light is folded with the rotation here."
        self.folded.setMinimumHeight(150)
        self.folded.x_range = (0.0, 1.0)
        column.addWidget(self.folded, 3)
        self.plots: list[Plot] = [self.valleys, self.folded]
        self._show()

    def _number(self, value: float, low: float, high: float, places: int, unit: str) -> Number:
        field = Number()
        field.setRange(low, high)
        field.setDecimals(places)
        field.setSuffix(unit)
        field.setValue(value)
        field.setToolTip("A rotation period, h")
        field.setAccessibleName("Limit of rotation periods, h")
        return field

    def _pick(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Ephemeris of the body", str(self._nights.folder or Path.home()))
        if name:
            self.path.setText(name)

    def _find(self) -> None:
        low, high, order = self.low.value(), self.high.value(), int(self.order.currentData())
        if not low < high:
            self.words.setText("The first period is shorter than the second.")
            return
        TargetRotation.wanted = (low, high, order, self.path.text().strip(), self.slope.value())
        self._nights.turn(low, high, order or None, self.path.text().strip(), self.slope.value())

    def _show(self) -> None:
        turned = self._nights.turned
        if isinstance(turned, Failed):
            self.words.setText(turned.reason[:1].upper() + turned.reason[1:] + ".")
        if not isinstance(turned, Turned):
            return
        found = turned.rotation
        words = (
            f"{told_value(found.period_h, found.period_error_h, 'h')}, full range {found.amplitude_mag:.3f} mag, {found.order} harmonics, "
            f"scatter {1000 * found.rms_mag:.1f} mmag of {counted(len(turned.time), 'point')}."
        )
        if found.ambiguous:
            beside = ", ".join(f"{one:.5g}" for one in found.rivals[:6])
            words += (
                f" Not sure: as likely are {beside} h."
                if beside
                else " Not sure: a fifth of the phases was never seen."
            )
        self.words.setText(words)
        order = np.argsort(found.periods_h)
        x, y = found.periods_h[order], 1000 * found.scatter_mag[order]
        self.valleys.series = [Points(x, y, keys=[""] * len(x), line=True)]
        self.valleys.home = self.valleys.x_range = (float(x[0]), float(x[-1]))
        self.valleys.marker = found.period_h
        self.valleys.notes = [(one, float(np.nanmin(y)), f"{one:.5g} h", "check") for one in found.rivals[:3]]
        phase = (turned.time - found.origin) * 24 / found.period_h % 1
        self.folded.series = [Points(phase, turned.magnitude, turned.error)]
        fine = np.linspace(0, 1, 400)
        self.folded.curves = [(fine, found.at(found.origin + fine * found.period_h / 24), "cur")]
        self.folded.x_label = f"rotation phase of {found.period_h:.6g} h"
        if not math.isfinite(found.period_error_h):
            self.words.setText(words + " Its error is not known.")
