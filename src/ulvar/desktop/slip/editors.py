"""The widgets by which a setting of the slip is changed."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QLocale, Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QWidget,
)

from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.inputs import Choice, Number
from ulvar.desktop.parts.widgets import decimals_of, label
from ulvar.desktop.slip.fields import Field


class Editors:
    """Builds the rows of settings; what was changed goes through `store`.

    Parameters
    ----------
    parent : QWidget
        Windows to choose a file open over it.
    model : Model
    store : callable
        Takes section, name and value.
    rebuild : callable
        Builds the slip anew, where a row shows more than its own widget.
    """

    def __init__(
        self, parent: QWidget, model: Model, store: Callable[[str, str, object], object], rebuild: Callable[[], object]
    ) -> None:
        self._parent, self._model, self._store, self._rebuild = parent, model, store, rebuild

    def row(self, field: Field) -> QHBoxLayout:
        """Return a setting with its name and the widget to change it."""
        row = QHBoxLayout()
        row.setSpacing(8)
        value = getattr(getattr(self._model.settings(), field.section), field.name)
        kind = field.told.kind
        if kind == "check" or field.term:
            box = QCheckBox(field.title)
            box.setToolTip(field.tip)
            if kind == "check":
                box.setChecked(bool(value))
                box.toggled.connect(lambda on: self._store(field.section, field.name, on))
            else:
                box.setChecked(field.term in value)
                box.toggled.connect(lambda on: self._toggle_term(field, field.term, on))
            row.addWidget(box)
            return row
        row.addWidget(label(field.title, wrap=True), 1)
        editor: QWidget
        if kind == "choice":
            editor = self._choice(field, value)
        elif kind == "file":
            editor = self._file(field, value)
        elif kind in ("region", "regions"):
            editor = self._region(field, value)
        elif kind == "folder":
            editor = self._folder(field, value)
        elif kind in ("text", "numbers"):
            editor = self._text(field, value)
        else:
            editor = self._number(field, value)
        unit = self.unit(field)
        editor.setToolTip(f"{field.tip} ({unit})" if unit else field.tip)
        editor.setAccessibleName(field.title)
        editor.setObjectName(f"{field.section}.{field.name}")
        row.addWidget(editor)
        if kind == "file" and value and field.name != "catalogue":
            row.addWidget(self._no_file(field))
        return row

    def unit(self, field: Field) -> str:
        """Return a setting's unit as it is now."""
        return field.unit_of(self._model.settings()) if field.unit_of is not None else field.told.unit

    def _number(self, field: Field, value: Any) -> QDoubleSpinBox:
        told = field.told
        spin = Number()
        spin.setLocale(QLocale.c())
        spin.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        spin.setAlignment(Qt.AlignmentFlag.AlignRight)
        spin.setRange(*told.span)
        nothing = told.span[0] if told.unset else 0.0
        wanted = nothing if value is None else float(value) * told.scale
        spin.setDecimals(max(told.decimals, decimals_of(wanted)))
        unit = self.unit(field)
        if unit:
            spin.setSuffix(f" {unit}")
        words = max((*(spin.textFromValue(v) + spin.suffix() for v in (spin.value(), wanted)), told.unset), key=len)
        spin.setFixedWidth(max(96, spin.fontMetrics().horizontalAdvance(words) + 34))
        if told.unset:
            # The lowest number stands for none.
            spin.setSpecialValueText(told.unset)
        spin.setValue(wanted)
        shown = spin.value()

        def changed() -> None:
            # Going through a field with Tab ends its editing too; what nobody changed stays as it is stored.
            nonlocal shown
            if spin.value() != shown:
                shown = spin.value()
                unset = told.unset and shown == spin.minimum()
                self._store(field.section, field.name, None if unset else shown / told.scale)

        spin.editingFinished.connect(changed)
        return spin

    def _choice(self, field: Field, value: Any) -> QComboBox:
        box = Choice()
        for index, (key, (text, sentence)) in enumerate(field.told.choices.items()):
            box.addItem(text, key)
            box.setItemData(index, f"{sentence[:1].upper()}{sentence[1:]}", Qt.ItemDataRole.ToolTipRole)
        box.setCurrentIndex(max(0, box.findData(value)))
        box.setFixedWidth(160)
        box.activated.connect(lambda index: self._store(field.section, field.name, box.itemData(index)))
        return box

    def _region(self, field: Field, value: Any) -> QWidget:
        """A field to type a region, with a button to draw it; several are told by their number."""
        place = QWidget()
        row = QHBoxLayout(place)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        if field.told.kind == "region":
            line = QLineEdit(value)
            line.setPlaceholderText("[x1:x2,y1:y2]")
            line.setFixedWidth(98)
            line.setAccessibleName(field.title)
            line.setToolTip(field.tip)
            line.editingFinished.connect(lambda: self._store(field.section, field.name, line.text().strip()))
            row.addWidget(line)
        else:
            count = QPushButton(f"{len(value)} ×" if value else "none")
            count.setEnabled(bool(value))
            count.setToolTip("Remove them all: " + ", ".join(value) if value else "There is none")

            def none_left() -> None:
                self._store(field.section, field.name, [])
                self._rebuild()

            count.clicked.connect(none_left)
            row.addWidget(count)
        draw = QPushButton("Draw")
        draw.setToolTip("Drag a rectangle on the picture")
        draw.clicked.connect(lambda: self._model.region_wanted.emit(field.name))
        row.addWidget(draw)
        return place

    def _folder(self, field: Field, value: str) -> QWidget:
        button = QPushButton(Path(value).name if value else "The night's own")
        button.setMaximumWidth(152)

        def choose() -> None:
            path = QFileDialog.getExistingDirectory(
                self._parent, "Folder of the calibrated exposures", value or str(Path.home())
            )
            self._store(field.section, field.name, path)
            self._rebuild()

        button.clicked.connect(choose)
        return button

    def _text(self, field: Field, value: Any) -> QLineEdit:
        numbers = field.told.kind == "numbers"
        line = QLineEdit(", ".join(f"{v:g}" for v in value) if numbers else str(value))
        line.setFixedWidth(120)
        shown = line.text()

        def changed() -> None:
            nonlocal shown
            if line.text() == shown:
                return
            shown = line.text()
            wanted: object = line.text().strip()
            if numbers:
                try:
                    wanted = [float(t) for t in line.text().replace(",", " ").split()]
                except ValueError:
                    self._model.message.emit(f"{field.title}: numbers with commas between, such as 0.012, 0.003.")
                    return
            self._store(field.section, field.name, wanted)

        line.editingFinished.connect(changed)
        return line

    def _file(self, field: Field, value: str) -> QWidget:
        button = QPushButton(Path(value).name if value else "Choose…")
        button.setMaximumWidth(152)
        choose = self._choose_catalogue if field.name == "catalogue" else lambda old: self._choose_file(field, old)
        button.clicked.connect(lambda: choose(value))
        return button

    def _no_file(self, field: Field) -> QWidget:
        """Return the button that takes a file back, where there need be none."""
        back = QPushButton("×")
        back.setFixedWidth(28)
        back.setToolTip(f"{field.title}: no file")
        back.setAccessibleName(f"No file for {field.title}")
        back.clicked.connect(lambda: self._take(field, ""))
        return back

    def _choose_catalogue(self, value: str) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self._parent, "Choose a star catalogue", value, "Tables (*.csv *.parquet);;All files (*)"
        )
        if path:
            chosen = str(Path(path).parent) if path.endswith(".parquet") else path
            self._model.matching.choose_catalogue(chosen)
            self._rebuild()

    def _choose_file(self, field: Field, value: str) -> None:
        start = str(Path(value).parent) if value else ""
        path, _ = QFileDialog.getOpenFileName(self._parent, field.title, start, "Tables (*.csv);;All files (*)")
        if path:
            self._take(field, path)

    def _take(self, field: Field, path: str) -> None:
        self._store(field.section, field.name, path)
        self._rebuild()

    def _toggle_term(self, field: Field, term: str, on: bool) -> None:
        terms = [t for t in self._model.settings().curve.detrend if t != term] + ([term] if on else [])
        self._store(field.section, field.name, terms)
