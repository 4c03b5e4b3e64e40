"""The foot of the sky view: stretch, histogram, read-out."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.parts.inputs import Choice
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.picture.histogram import Histogram
from ulvar.desktop.picture.pictures import Picture
from ulvar.desktop.picture.stretch import COLOURS, STRETCHES, Stretch, auto_stretch


class SkyFoot(QWidget):
    """Chooses the stretch and remembers it: for each kind of exposure one, or automatic for each exposure."""

    changed = Signal(object)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("skybar")
        self.setFixedHeight(64)
        self.current = Stretch()
        self._kept: dict[str, Stretch] = {}
        self._kind = ""
        self._column = column = QVBoxLayout(self)
        column.setContentsMargins(12, 4, 12, 4)
        column.setSpacing(2)
        self._row = row = QHBoxLayout()
        row.setSpacing(6)
        self.stretch_box = Choice()
        for name, sentence in STRETCHES.items():
            self.stretch_box.addItem(name)
            self.stretch_box.setItemData(self.stretch_box.count() - 1, sentence, Qt.ItemDataRole.ToolTipRole)
        self.stretch_box.setCurrentText("Asinh")
        self.stretch_box.setFixedWidth(76)
        self.stretch_box.setToolTip("How levels become grey; the data are not changed")
        self.stretch_box.setAccessibleName("Stretch")
        self.stretch_box.currentTextChanged.connect(lambda name: self._set(replace(self.current, name=name, knee=None)))
        self.colour_box = Choice()
        self.colour_box.addItems(list(COLOURS))
        self.colour_box.setFixedWidth(76)
        self.colour_box.setToolTip("Colours from dark to bright; Contours shows steps of equal brightness")
        self.colour_box.setAccessibleName("Colours")
        self.colour_box.currentTextChanged.connect(lambda name: self._set(replace(self.current, colours=name)))
        self.histogram = Histogram(theme)
        self.histogram.changed.connect(self._set)
        self.keep = QPushButton("Same levels")
        self.keep.setCheckable(True)
        self.keep.setToolTip(
            "On: the same levels for all exposures of this kind, so that a cloud or dawn shows. Off: levels for each exposure."
        )
        self.keep.toggled.connect(self._keep_toggled)
        self.auto = QPushButton("Auto")
        self.auto.setToolTip("Choose black and white from the sky level and its noise (L)")
        self.auto.clicked.connect(self.auto_levels)
        for widget in (self.stretch_box, self.colour_box):
            row.addWidget(widget)
        row.addWidget(self.histogram, 1)
        row.addWidget(self.keep)
        row.addWidget(self.auto)
        column.addLayout(row)
        self.read_out = QLabel("")
        self.read_out.setProperty("kind", "label")
        self.read_out.setMinimumWidth(40)
        self.read_out.setToolTip("Pixels count from 1 at the lower left, as headers and regions do")
        column.addWidget(self.read_out)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Where it is narrow, what the finder has too gives way: first the colours, then the levels' buttons."""
        super().resizeEvent(event)
        edges = self._column.contentsMargins()
        room = event.size().width() - edges.left() - edges.right() + self._row.spacing()
        for widget in (self.stretch_box, self.histogram, self.auto, self.keep, self.colour_box):
            wanted = max(widget.minimumWidth(), widget.sizeHint().width())
            room -= min(wanted, widget.maximumWidth()) + self._row.spacing()
            if widget in (self.keep, self.colour_box):
                widget.setVisible(room >= 0)

    def show_picture(self, picture: Picture | None, kind: str, saturation: float | None) -> Stretch:
        """Take a picture of a kind and return the stretch that it is shown with."""
        self._kind = kind
        self.histogram.saturation = saturation
        if picture is None:
            self.histogram.show_picture(None, self.current)
            return self.current
        self.colour_box.setEnabled(not picture.balance)
        known = self._kept.get(kind)
        self.current = known or auto_stretch(picture.sample, replace(self.current, knee=None))
        self.keep.blockSignals(True)
        self.keep.setChecked(known is not None)
        self.keep.blockSignals(False)
        self.histogram.show_picture(picture, self.current)
        return self.current

    def beside(self, picture: Picture) -> Stretch:
        """Return the stretch of a second picture, by its own levels."""
        self.histogram.second = picture.sample
        self.histogram.update()
        return auto_stretch(picture.sample, replace(self.current, knee=None))

    def forget(self) -> None:
        """Levels for each exposure again."""
        self._kept.clear()

    def auto_levels(self) -> None:
        """Choose floor and ceiling anew, for each exposure its own."""
        self._kept.pop(self._kind, None)
        if self.histogram.picture is not None:
            fresh = auto_stretch(self.histogram.picture.sample, replace(self.current, knee=None))
            self._show(fresh)
            self.histogram.show_picture(self.histogram.picture, fresh)
        self.keep.blockSignals(True)
        self.keep.setChecked(False)
        self.keep.blockSignals(False)

    def invert(self, on: bool) -> None:
        """Swap black and white, or not."""
        self._show(replace(self.current, inverted=on))

    def _keep_toggled(self, on: bool) -> None:
        if on:
            self._kept[self._kind] = self.current
        else:
            self.auto_levels()

    def _set(self, stretch: Stretch) -> None:
        """What the user chose holds for all exposures of the kind."""
        moved = (stretch.floor, stretch.ceiling, stretch.knee) != (
            self.current.floor,
            self.current.ceiling,
            self.current.knee,
        )
        if moved and stretch.name == self.current.name:
            self.keep.blockSignals(True)
            self.keep.setChecked(True)
            self.keep.blockSignals(False)
            self._kept[self._kind] = stretch
        elif self._kind in self._kept:
            self._kept[self._kind] = stretch
        self._show(stretch)

    def _show(self, stretch: Stretch) -> None:
        self.current = stretch
        self.histogram.stretch = stretch
        self.histogram.update()
        self.changed.emit(stretch)

    def set_theme(self, theme: Theme) -> None:
        """Take another theme."""
        self.histogram.theme = theme
        self.histogram.update()
