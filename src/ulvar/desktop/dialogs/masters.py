"""Masters made elsewhere: what they are masters of, and of how many frames."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import QLocale
from PySide6.QtGui import QDoubleValidator, QIntValidator
from PySide6.QtWidgets import QComboBox, QGridLayout, QLineEdit, QWidget

from ulvar.desktop.dialogs.base import Panel
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.inputs import Choice
from ulvar.desktop.parts.widgets import label
from ulvar.engine import OutputExists
from ulvar.frames import ExposureFacts, FrameError, Role, scan_file


class MastersPanel(Panel):
    """One line a file; what the header tells is filled in."""

    def __init__(self, parent: QWidget, model: Model, paths: Sequence[Path]) -> None:
        super().__init__(
            parent, "Add masters to the library",
            "They are copied; the files stay as they are. Say what each is a master of, and of how many frames, where the "
            "header does not.", "Add",
        )  # fmt: skip
        self.setMinimumWidth(640)
        self._model = model
        grid = QGridLayout()
        grid.setHorizontalSpacing(10)
        for column, text in enumerate(("File", "Master", "Frames", "Exposure time\ns", "Filter")):
            grid.addWidget(label(text, "unit"), 0, column)
        self.lines: list[tuple[Path, ExposureFacts, QComboBox, QLineEdit, QLineEdit, QLineEdit]] = []
        problems = []
        for path in paths:
            try:
                facts = scan_file(str(path))
            except FrameError as error:
                problems.append(f"{path.name}: {error.reason}.")
                continue
            row = len(self.lines) + 1
            grid.addWidget(label(path.name), row, 0)
            role = Choice()
            for kind in (Role.BIAS, Role.DARK, Role.FLAT, Role.DARK_FLAT):
                role.addItem(kind.plural, kind.value)
            role.setCurrentIndex(max(-1, role.findData(facts.role.value)))
            role.setPlaceholderText("choose")
            role.setAccessibleName(f"{path.name}: master of")
            role.setToolTip("What the file is a master of")
            count = QLineEdit(str(facts.count) if facts.count > 1 else "")
            count.setValidator(QIntValidator(1, 100_000, count))
            count.setPlaceholderText("how many")
            exposure = QLineEdit("" if facts.exposure_s is None else f"{facts.exposure_s:g}")
            numbers = QDoubleValidator(0, 1e6, 6, exposure)
            numbers.setLocale(QLocale.c())
            exposure.setValidator(numbers)
            band = QLineEdit(facts.filter)
            for field, words, tip in (
                (count, "frames", "How many frames it was made of"), (exposure, "exposure time", "Exposure time, s"),
                (band, "filter", "Of a flat: its filter"),
            ):  # fmt: skip
                field.setAccessibleName(f"{path.name}: {words}")
                field.setToolTip(tip)
            for column, widget in enumerate((role, count, exposure, band), 1):
                grid.addWidget(widget, row, column)
            self.lines.append((path, facts, role, count, exposure, band))
        grid.setColumnStretch(0, 1)
        self.body.addLayout(grid)
        if problems:
            self.tell(" ".join(problems))

    def apply(self) -> None:
        """Copy them into the library; what fails is told and stays in the window."""
        library = self._model.matching.library()
        if library is None:
            return
        problems, done = [], []
        for path, facts, role, count, exposure, band in self.lines:
            given: dict[str, str] = {}
            if role.currentData() is None:
                problems.append(f"{path.name}: choose what it is a master of.")
                continue
            if role.currentData() != facts.role.value:
                given["role"] = str(role.currentData())
            for name, text, old in (
                ("count", count.text(), str(facts.count)),
                ("exposure_s", exposure.text(), "" if facts.exposure_s is None else f"{facts.exposure_s:g}"),
                ("filter", band.text().strip(), facts.filter),
            ):
                if text and text != old:
                    given[name] = text
            try:
                done.append(library.add(path, given=given).name)
            except OutputExists:
                problems.append(f"{path.name}: the library has this master already; retire or rename it first.")
            except (FrameError, ValueError, OSError) as error:
                problems.append(f"{path.name}: {getattr(error, 'reason', error)}.")
        self._model.matching.library_changed()
        if problems:
            self.tell(" ".join(problems))
            return
        self._model.message.emit(
            f"{len(done)} masters are in the library." if len(done) != 1 else f"{done[0]} is in the library."
        )
        self.accept()
