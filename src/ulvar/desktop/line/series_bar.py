"""The series of the night over its line: which one is worked on, and the others one click away."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QMenu, QSizePolicy, QToolButton, QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.widgets import label
from ulvar.engine import counted
from ulvar.flows import Series

_LONGEST_PX = 190


class SeriesBar(QWidget):
    """One button a series, the chosen one pressed; what does not fit stands in a menu at the end."""

    def __init__(self, model: Model) -> None:
        super().__init__()
        self._model = model
        self.setFixedHeight(26)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Series of the night")
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(2)
        self.heading = label("Series", "unit")
        self._row.addWidget(self.heading)
        self._group = QButtonGroup(self)
        self.buttons: dict[str, QToolButton] = {}
        self.more = QToolButton()
        self.more.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.more.setToolTip("The other series of this night")
        self.more.setMenu(QMenu(self.more))
        self.more.menu().aboutToShow.connect(self._list)
        self._hidden: list[str] = []
        self._row.addWidget(self.more)
        self._row.addStretch(1)
        self._shown: tuple = ()
        self.refresh()

    def refresh(self) -> None:
        """Show the series as they are now."""
        series, chosen = self._model.all_series(), self._model.chosen_series()
        told = tuple((one.key, one.title, len(one.members)) for one in series)
        if told != self._shown:
            self._shown = told
            self._build(series)
        for key, button in self.buttons.items():
            button.setChecked(chosen is not None and key == chosen.key)
        self._fit()

    def _build(self, series: list[Series]) -> None:
        for button in self.buttons.values():
            self._group.removeButton(button)
            self._row.removeWidget(button)
            button.deleteLater()
        self.buttons = {}
        self.heading.setVisible(bool(series))
        for place, one in enumerate(series):
            button = QToolButton()
            button.setCheckable(True)
            # A night of one series names it too; there is nothing to press then.
            button.setEnabled(len(series) > 1)
            metrics = button.fontMetrics()
            name = metrics.elidedText(one.title, Qt.TextElideMode.ElideMiddle, _LONGEST_PX)
            button.setText(f"{name}   {len(one.members)}")
            button.setToolTip(f"{_told(one)} Keys , and . step through the series.")
            button.setAccessibleName(f"Series {one.title}")
            button.clicked.connect(lambda _, key=one.key: self._choose(key))
            self._group.addButton(button)
            self._row.insertWidget(1 + place, button)
            self.buttons[one.key] = button

    def _choose(self, key: str) -> None:
        self._model.go_to_series(key)
        self.refresh()

    def _fit(self) -> None:
        """Keep in sight what fits, the chosen series always; the others go to the menu."""
        chosen = self._model.chosen_series()
        order = sorted(self.buttons, key=lambda key: chosen is None or key != chosen.key)
        room = self.width() - self.heading.sizeHint().width() - 8
        needed = sum(self.buttons[key].sizeHint().width() + 2 for key in order)
        if needed > room:
            room -= self.more.fontMetrics().horizontalAdvance("+88 ▾") + 12
        kept: set[str] = set()
        used = 0
        for key in order:
            used += self.buttons[key].sizeHint().width() + 2
            if used <= room or not kept:
                kept.add(key)
        hidden = [key for key in self.buttons if key not in kept]
        for key, button in self.buttons.items():
            button.setVisible(key in kept)
        self.more.setVisible(bool(hidden))
        self.more.setText(f"+{len(hidden)} ▾")
        self._hidden = hidden

    def _list(self) -> None:
        """Fill the menu with what is not in sight."""
        menu = self.more.menu()
        menu.clear()
        titles = {key: title for key, title, _ in self._shown}
        for key in self._hidden:
            menu.addAction(titles[key], lambda key=key: self._choose(key))

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Show as many as fit."""
        super().resizeEvent(event)
        self._fit()


def _told(series: Series) -> str:
    seconds = sum(f.exposure_s or 0.0 for f in series.members)
    exposures = counted(len(series.members), "exposure") + (f", {seconds / 60:.0f} min in all" if seconds else "")
    return f"{series.title}: {exposures}."
