"""Plate, page Places: all that has a name on the sky, and where it is in the exposure on screen."""

from __future__ import annotations

import math
from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QInputDialog, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import Rows, label, table
from ulvar.desktop.picture.tools import sexagesimal


class PlacesPage(QWidget):
    """Targets, comparison stars, marks and bodies, each with its place."""

    def __init__(self, model: Model, theme: Theme, command: Callable[[str], object]) -> None:
        super().__init__()
        self._model, self._command = model, command
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        column.addWidget(
            label("A click in the table goes there. Type coordinates or a name into Ctrl+K to go anywhere.", wrap=True)
        )
        row = QHBoxLayout()
        self.mark = QPushButton("Mark a place")
        self.mark.setToolTip(
            "Click any place of the picture: it is marked in every exposure, also where nothing is seen"
        )
        self.mark.clicked.connect(lambda: command("mark place"))
        self.rename = QPushButton("Rename…")
        self.rename.setToolTip("Call the chosen mark otherwise")
        self.rename.clicked.connect(self._ask_name)
        self.remove = QPushButton("Remove")
        self.remove.setToolTip("Take the chosen mark away")
        self.remove.clicked.connect(self._remove)
        self.chart = QPushButton("Finder chart…")
        self.chart.setToolTip("The field with catalogue stars, targets and marks, as PDF, PNG or SVG")
        self.chart.clicked.connect(lambda: command("chart"))
        for button in (self.mark, self.rename, self.remove, self.chart):
            row.addWidget(button)
        row.addStretch(1)
        column.addLayout(row)
        self.rows = Rows(["Name", "What", "RA, Dec", "x, y here"], words=True, left=(0, 1, 2, 3))
        self.rows.theme = theme
        self.table = table(self.rows, "Named places", on_row=self._chosen)
        column.addWidget(self.table, 1)

    def refresh(self) -> None:
        """Fill the table."""
        self._fill()
        self._enable()

    def show_current(self, raw: str) -> None:
        """Tell where all is in the exposure on screen."""
        chosen = self.rows.key(self.table.currentIndex().row())
        self._fill()
        row = self.rows.row_of(chosen)
        if row >= 0:
            blocked = self.table.selectionModel().blockSignals(True)
            self.table.selectRow(row)
            self.table.selectionModel().blockSignals(blocked)
        self._enable()

    def _fill(self) -> None:
        model = self._model
        raw, rows, keys = model.current, [], []
        facts = model.facts(raw)
        stars = model.night.stars(model.series_of_exposure(raw)) if model.night is not None else []
        found = [
            (f"star {s.name}", s.name, s.role, s.ra, s.dec, model.numbers.star_pixels(raw).get(s.name)) for s in stars
        ]
        marks = model.sky.place_pixels(raw)
        found += [(f"mark {m.name}", m.name, "mark", m.ra, m.dec, marks.get(m.name)) for m in model.sky.places()]
        places = model.sky.body_pixels(raw)
        for body in model.sky.bodies()[0]:
            on_sky = body.sky_at(facts.mid_utc if facts else None)
            found.append((f"body {body.name}", body.name, "moving body", *on_sky, places.get(body.name)))
        for key, name, what, ra, dec, at in found:
            where, sky = "not in it", "by pixels"
            if at is not None and facts is not None and -0.5 <= at[0] < facts.width and -0.5 <= at[1] < facts.height:
                where = f"{at[0] + 1:.1f}, {at[1] + 1:.1f}"
            if ra is not None and dec is not None:
                sky = sexagesimal(ra, dec).replace("RA ", "").replace("Dec ", "") if math.isfinite(ra) else "not known"
            rows.append((name, what, sky, where))
            keys.append(key)
        self.rows.fill(rows, keys)

    def _picked(self) -> str:
        key = self.rows.key(self.table.currentIndex().row())
        return key.removeprefix("mark ") if key.startswith("mark ") else ""

    def _enable(self) -> None:
        for button in (self.rename, self.remove):
            button.setEnabled(bool(self._picked()))

    def _chosen(self, key: str) -> None:
        self._enable()
        if key:
            self._command(f"look at {key}")

    def _remove(self) -> None:
        self._model.message.emit(self._model.sky.unmark(self._picked()))

    def _ask_name(self) -> None:
        old = self._picked()
        dialog = QInputDialog(self)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.setLabelText("Name of the mark:")
        dialog.setTextValue(old)
        dialog.textValueSelected.connect(lambda new: self._model.message.emit(self._model.sky.rename(old, new)))
        dialog.open()
