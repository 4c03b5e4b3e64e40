"""Plate, what its measuring pages share: a plot over the night's time with its scale, a table, a row of buttons."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from pathlib import Path

import numpy as np
from PySide6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.models.tables import TABLE_KINDS
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.ticks import clock_text
from ulvar.desktop.parts.widgets import Rows, label, table
from ulvar.engine import place_words
from ulvar.frames import is_table_name


def utc_hours(times: Sequence[datetime]) -> np.ndarray:
    """Return times as hours since the midnight before the first, so that a night has no jump in it."""
    if not times:
        return np.empty(0)
    midnight = times[0].replace(hour=0, minute=0, second=0, microsecond=0)
    return np.array([(when - midnight).total_seconds() / 3600 for when in times])


class MeasuredPage(QWidget):
    """Words, buttons, a plot of what is chosen against time, and a table of all exposures."""

    headers: Sequence[str] = ()
    title = ""

    def __init__(
        self, model: Model, theme: Theme, command: Callable[[str], object], *, choices: Mapping[str, str]
    ) -> None:
        super().__init__()
        self._model, self._command = model, command
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.words = label("", "value", wrap=True)
        self.means = label("", wrap=True)
        column.addWidget(self.words)
        self.buttons = QHBoxLayout()
        column.addLayout(self.buttons)
        column.addWidget(self.means)
        self.what = QComboBox()
        for key, text in choices.items():
            self.what.addItem(text, key)
        self.what.setToolTip("What the plot shows against time")
        self.what.setAccessibleName("What the plot shows")
        self.what.currentIndexChanged.connect(lambda _: self.draw())
        self.above = QHBoxLayout()
        self.above.addWidget(self.what)
        self.above.addStretch(1)
        column.addLayout(self.above)
        self.plot = Plot(theme, x_label="UTC", y_label="", on_pick=model.set_current)
        self.plot.x_words = clock_text
        self.plot.setMinimumHeight(150)
        column.addWidget(self.plot, 2)
        self.rows = Rows(self.headers)
        self.rows.theme = theme
        self.table = table(self.rows, self.title, on_row=model.set_current)
        column.addWidget(self.table, 3)

    def add_button(self, text: str, tip: str, run: Callable[[], object]) -> QPushButton:
        """Add a button to the row under the words."""
        button = QPushButton(text)
        button.setToolTip(tip)
        button.clicked.connect(lambda: run())
        self.buttons.addWidget(button)
        return button

    def show_series(self, keys: Sequence[str], times: Sequence[datetime], values: np.ndarray, errors: np.ndarray | None,
                    off: Sequence[bool], unit: str) -> None:  # fmt: skip
        """Plot values against time; those that stand off are told apart."""
        kinds = ["ruled" if bad else "kept" for bad in off]
        points = Points(utc_hours(times), values, errors, kinds=kinds, keys=list(keys))
        self.plot.series = [points] if len(keys) else []
        self.plot.y_label = unit
        self.plot.update()

    def draw(self) -> None:
        """Plot what is chosen."""
        raise NotImplementedError

    def show_row(self, raw: str) -> None:
        """Mark an exposure in the table and the plot."""
        row = self.rows.row_of(raw)
        if row >= 0 and self.table.currentIndex().row() != row:
            self.table.selectRow(row)
        self.plot.current = raw
        self.plot.update()

    def ask_where(self, name: str) -> Path | None:
        """Ask for the file that a table goes to; its ending chooses the format."""
        night = self._model.night
        assert night is not None
        chosen, kind = QFileDialog.getSaveFileName(self, "Save the table", str(night.folder / name), TABLE_KINDS)
        if not chosen:
            return None
        path = Path(chosen)
        if not is_table_name(path):
            # The ending of the format that was picked in the list.
            path = Path(chosen + kind.partition("*")[2].rstrip(")"))
        return path

    def write(self, name: str, write: Callable[[Path], object]) -> None:
        """Save a table where the user says, and say so."""
        path = self.ask_where(name)
        if path is None:
            return
        try:
            write(path)
        except OSError as error:
            self._model.message.emit(f"{path.name} could not be written: {place_words(error)}.")
        else:
            self._model.message.emit(f"Saved {path.name} in {path.parent}.")
