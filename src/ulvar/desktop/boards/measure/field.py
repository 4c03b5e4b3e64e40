"""Measure, page Field: what all stars scatter by, beside what noise lets expect, and which of them vary."""

from __future__ import annotations

import math
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.models.starpick import give_role
from ulvar.desktop.models.tables import TABLE_KINDS
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import Rows, label, number, table
from ulvar.engine import counted, place_words
from ulvar.flows import FIELD_COLUMNS
from ulvar.frames import write_table_again
from ulvar.photometry import FieldSearch, FieldStar

_MMAG = 2500 / math.log(10)
# Lines of the noise's parts: words, and the token of their colour.
_LINES = {
    "photons": ("photons", "comparison"), "sky": ("sky", "mute"), "read": ("read-out", "soft"),
    "scintillation": ("air", "check"), "flat": ("flat", "good"), "sum": ("sum", "text"),
}  # fmt: skip


class FieldPage(QWidget):
    """Scatter over brightness, the parts of the noise, variable stars."""

    def __init__(self, parent: QWidget, model: Model, theme: Theme, command: Callable[[str], object]) -> None:
        super().__init__(parent)
        self._model, self._command = model, command
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.words = label("", "value", wrap=True)
        column.addWidget(self.words)
        row = QHBoxLayout()
        self.run = QPushButton("Measure the whole field")
        self.run.setToolTip("Every star of the reference in every exposure, with the aperture that is set")
        self.run.clicked.connect(lambda: command("run field"))
        self.target = QPushButton("Make it the target")
        self.target.setToolTip("The chosen star becomes the target of this series")
        self.target.clicked.connect(lambda: self._give("target"))
        self.save = QPushButton("Save…")
        self.save.setToolTip("All stars with their scatter, as a CSV table")
        self.save.clicked.connect(self._save)
        for button in (self.run, self.target, self.save):
            row.addWidget(button)
        row.addStretch(1)
        column.addLayout(row)
        self.plot = Plot(
            theme,
            x_label="brightness, mag (brighter to the left)",
            y_label="scatter, mmag",
            on_pick=self._chosen,
            ticks=8,
        )
        self.plot.empty = "Each star of the field is a point here once the field is measured."
        self.plot.y_words = lambda value, step: f"{10**value:,.{1 if value < 0 else 0}f}".replace(",", "\u2009")
        self.plot.setMinimumHeight(200)
        column.addWidget(self.plot, 3)
        self.rows = Rows(["Star", "Brightness\nmag", "Scatter\nmmag", "Usual\nmmag", "Times\nusual", "Slow\nσ"])
        self.rows.theme = theme
        self.table = table(
            self.rows,
            "Stars that vary",
            on_row=self._chosen,
            tip="Slow: by how many deviations neighbouring points resemble each other",
        )
        column.addWidget(self.table, 2)

    def refresh(self) -> None:
        """Fill plot and table."""
        search = self._model.field.field()
        chosen = self._model.field.chosen
        self._model.field.mark("field", chosen)
        for button in (self.target, self.save):
            button.setVisible(search is not None)
        if search is None:
            self.words.setText("Every star of the field can be target and comparison at once: what varies is found.")
            self.plot.series, self.plot.curves = [], []
            self.rows.fill([], [])
            self.plot.update()
            return
        found = search.variables
        names = ", ".join(star.verdict.name for star in found[:4]) + (" and others" if len(found) > 4 else "")
        self.words.setText(
            f"{counted(len(search.stars), 'star')} in {counted(search.exposures, 'exposure')}; "
            + (f"{len(found)} vary: {names}." if len(found) > 1 else f"{names} varies." if found else "none varies.")
        )
        self._draw(search)
        rows = [
            (
                s.verdict.name, number(magnitude_of(s), 2), number(_MMAG * s.verdict.scatter, 1),
                number(_MMAG * s.verdict.usual, 1), number(s.verdict.ratio, 1), number(s.verdict.slow_sigma, 1),
            )
            for s in found
        ]  # fmt: skip
        blocked = self.table.selectionModel().blockSignals(True)
        self.rows.fill(rows, [s.verdict.name for s in found])
        row = self.rows.row_of(chosen)
        if row >= 0:
            self.table.selectRow(row)
        self.table.selectionModel().blockSignals(blocked)
        self.target.setEnabled(bool(chosen))

    def _draw(self, search: FieldSearch) -> None:
        told = [s for s in search.stars if s.verdict.scatter > 0 and s.verdict.level > 0]
        steady, vary = ([s for s in told if s.varies == v] for v in (False, True))
        self.plot.series = [
            Points(
                np.array([magnitude_of(s) for s in group]), np.log10([_MMAG * s.verdict.scatter for s in group]),
                keys=[s.verdict.name for s in group], token=token, name=name,
            )
            for group, token, name in ((steady, "soft", ""), (vary, "check", ""))
            if group
        ]  # fmt: skip
        self.plot.curves, self.plot.notes = [], []
        if not told:
            return
        levels = np.array([s.verdict.level for s in told])
        flux = np.geomspace(levels.min(), levels.max(), 80)
        low = min(float(np.log10(_MMAG * s.verdict.scatter)) for s in told) - 0.5
        for name, values in search.noise.terms(flux).items():
            words, token = _LINES[name]
            y = np.log10(_MMAG * values)
            y = np.where(y > low, y, np.nan)
            self.plot.curves.append((-2.5 * np.log10(flux), y, token))
            seen = np.flatnonzero(np.isfinite(y))
            if len(seen):
                at = seen[len(seen) // 8] if name == "sum" else seen[-1 - len(seen) // 10]
                self.plot.notes.append((float(-2.5 * np.log10(flux[at])), float(y[at]), words, token))
        self.plot.current = self._model.field.chosen
        self.plot.update()

    def _chosen(self, name: str) -> None:
        if not name:
            return
        self._model.field.mark("field", name)
        self.plot.current = name
        self.plot.update()
        self.target.setEnabled(True)
        self._command(f"look at field {name}")

    def _give(self, role: str) -> None:
        place = self._model.field.place(self._model.field.chosen, self._model.current)
        if place is None:
            self._model.message.emit("Choose a star in the plot or the table first.")
            return
        self._model.message.emit(give_role(self._model, place, role))

    def _save(self) -> None:
        night, series = self._model.night, self._model.chosen_series()
        product = self._model.products("field").get(series.key) if series is not None else None
        if night is None or product is None:
            return
        chosen, _ = QFileDialog.getSaveFileName(
            self, "Save the table", str(night.folder / f"{product.source}-field.csv"), TABLE_KINDS
        )
        if not chosen:
            return
        path = Path(chosen)
        try:
            write_table_again(Path(product.output), path, FIELD_COLUMNS)
        except OSError as error:
            self._model.message.emit(f"{path.name} could not be written: {place_words(error)}.")
        except ValueError as error:
            self._model.message.emit(f"{error}.")
        else:
            self._model.message.emit(f"Saved {path.name} in {path.parent}.")

    def show_current(self, raw: str) -> None:
        """Nothing here hangs on the exposure on screen."""


def magnitude_of(star: FieldStar) -> float:
    """Return the brightness of a star of the field, of one ADU at 0 [mag]."""
    return -2.5 * math.log10(star.verdict.level) if star.verdict.level > 0 else math.nan
