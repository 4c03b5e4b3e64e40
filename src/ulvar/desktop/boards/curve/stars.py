"""Which further stars stand under the light curve, how far shifted and how large."""

from __future__ import annotations

from PySide6.QtCore import QLocale
from PySide6.QtWidgets import QHBoxLayout, QWidget

from ulvar.desktop.models.curves import Curves
from ulvar.desktop.parts.inputs import Choice, Number
from ulvar.desktop.parts.widgets import label
from ulvar.flows import ShownStar
from ulvar.lightcurves import LightCurve

# Below the lowest shift stands "as needed".
_LOWEST, _HIGHEST = -20.0, 20.0


class StarsRow(QWidget):
    """Stars to show or to hide; shift and scale of the chosen one of those that are shown."""

    chosen = ""

    def __init__(self, curves: Curves, curve: LightCurve) -> None:
        super().__init__()
        self._curves = curves
        table, shown = curves.series(), curves.stars()
        self.names = names = [name for name in (table.names() if table is not None else []) if name != curve.name]
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        self.stars = Choice()
        self.stars.addItem("Stars", "")
        for name in names:
            self.stars.addItem(("✓ " if name in shown else "   ") + name, name)
        self.stars.setToolTip(
            "Further stars under the curve, relative to the comparison stars: choose one to show or hide it"
        )
        self.stars.setAccessibleName("Further stars")
        self.stars.activated.connect(self._toggle)
        self.stars.setMaximumWidth(130)
        row.addWidget(self.stars)
        self.which, self.shift, self.times = Choice(), Number(), Number()
        there = [name for name in names if name in shown]
        if there:
            if StarsRow.chosen not in there:
                StarsRow.chosen = there[0]
            for name in there:
                self.which.addItem(name, name)
            self.which.setCurrentIndex(there.index(StarsRow.chosen))
            self.which.setToolTip("The star that is shifted and drawn larger")
            self.which.setAccessibleName("Star to shift")
            self.which.activated.connect(self._choose)
            self.which.setMaximumWidth(130)
            how = shown[StarsRow.chosen]
            self._number(
                self.shift,
                _LOWEST - 0.01,
                _HIGHEST,
                0.05,
                " mag",
                "How far the star is shifted from its own magnitudes, mag",
                "Shifted by, mag",
            )
            self.shift.setSpecialValueText("as needed")
            self.shift.setValue(_LOWEST - 0.01 if how.shift_mag is None else how.shift_mag)
            self._number(
                self.times,
                0.1,
                100.0,
                1.0,
                "×",
                "Deviations from the star's median are drawn so many times as large",
                "Times as large",
            )
            self.times.setValue(how.times)
            for widget in (self.which, label("shifted by"), self.shift, label("drawn"), self.times):
                row.addWidget(widget)
        row.addStretch(1)

    def _number(self, field: Number, low: float, high: float, step: float, suffix: str, tip: str, name: str) -> None:
        field.setLocale(QLocale.c())
        field.setRange(low, high)
        field.setDecimals(2)
        field.setSingleStep(step)
        field.setSuffix(suffix)
        field.setToolTip(tip)
        field.setAccessibleName(name)
        field.setFixedWidth(104)
        field.editingFinished.connect(self._place)

    def _toggle(self, place: int) -> None:
        name = str(self.stars.itemData(place))
        if name:
            on = name not in self._curves.stars()
            if on:
                StarsRow.chosen = name
            self._curves.show_star(name, ShownStar() if on else None)

    def _choose(self, place: int) -> None:
        StarsRow.chosen = str(self.which.itemData(place))
        self._curves.changed.emit()

    def _place(self) -> None:
        shift = self.shift.value()
        how = ShownStar(None if shift < _LOWEST else shift, self.times.value())
        name = str(self.which.currentData())
        if how != self._curves.stars().get(name):
            self._curves.show_star(name, how)
