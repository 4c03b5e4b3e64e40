"""A light curve for an observers' association: what its text form requires, checked while it is typed, and the text itself."""

from __future__ import annotations

import math
from pathlib import Path

from PySide6.QtCore import QSettings
from PySide6.QtGui import QFont
from PySide6.QtWidgets import QFormLayout, QHBoxLayout, QLineEdit, QPlainTextEdit, QWidget

from ulvar.desktop.dialogs.base import Panel
from ulvar.desktop.dialogs.saving import ask_place
from ulvar.desktop.parts.inputs import Choice
from ulvar.desktop.parts.widgets import label
from ulvar.engine import counted, reason_words
from ulvar.flows import ExchangeError, ExchangeFacts, exchange_text, write_exchange
from ulvar.lightcurves import LightCurve
from ulvar.photometry import SeriesTable

_FORMS = (("variable-star", "of variable stars"), ("minor-planet", "of minor planets"))
# Key: words, tip, form that it is of alone, whether it stays between sessions.
_FIELDS = (
    ("observer", "Observer", "Your code at the association; of a minor planet the observers' names", "", True),
    ("target", "Name of the target", "As the association calls it", "", False),
    ("filter", "Filter", "As in the headers, or the form's own letters", "", False),
    ("chart", "Chart", "Of the comparison stars, as the association numbers them", "variable-star", False),
    ("number", "Number of the body", "Of a minor planet; 0 where it has none", "minor-planet", False),
    ("contact", "Contact", "Who answers questions", "minor-planet", True),
    ("ra", "Right ascension", "Of the body in the middle of the session, hours or degrees as the form has it", "minor-planet", False),
    ("dec", "Declination", "Of the body in the middle of the session", "minor-planet", False),
    ("notes", "Notes", "A few words that go along", "", False),
)  # fmt: skip
# As much of the text is shown [lines].
_SHOWN = 40


class ExchangePanel(Panel):
    """Fields of the form at the left, the text as it will be at the right.

    Parameters
    ----------
    parent : QWidget
    curve : LightCurve
    settings : QSettings
        Where the observer's own facts stay.
    beside : Path
        A first place for files.
    filter_ : str
        Of the exposures.
    table : SeriesTable, optional
        Whose check stars can be told along.
    """

    def __init__(
        self, parent: QWidget, curve: LightCurve, settings: QSettings, beside: Path, filter_: str, table: SeriesTable | None = None
    ) -> None:  # fmt: skip
        super().__init__(
            parent,
            "Light curve for an association",
            "The points in the open text form of an association of observers.",
            "Save the text…",
        )
        self.setMinimumSize(900, 560)
        self._curve, self._settings, self._beside, self._table = curve, settings, beside, table
        row = QHBoxLayout()
        self._form = form = QFormLayout()
        self.form = Choice()
        for key, words in _FORMS:
            self.form.addItem(words, key)
        self.form.setCurrentIndex(max(0, self.form.findData(str(settings.value("exchange/form", "variable-star")))))
        self.form.setToolTip("For observers of which kind of body")
        self.form.setAccessibleName("Association of observers")
        form.addRow("Association", self.form)
        self.fields: dict[str, QLineEdit] = {}
        for key, words, tip, _, stays in _FIELDS:
            field = QLineEdit(str(settings.value(f"exchange/{key}", "")) if stays else "")
            field.setToolTip(tip)
            field.setAccessibleName(words)
            form.addRow(words, field)
            self.fields[key] = field
        self.fields["target"].setText(curve.name)
        self.fields["filter"].setText(filter_)
        self.check = Choice()
        self.check.addItem("none", "")
        for name in table.names("check") if table is not None else []:
            self.check.addItem(name, name)
        self.check.setToolTip("A star that is known to be constant, told beside each point")
        self.check.setAccessibleName("Check star")
        form.addRow("Check star", self.check)
        holder = QWidget()
        holder.setLayout(form)
        holder.setFixedWidth(360)
        row.addWidget(holder)
        self.text = QPlainTextEdit()
        mono = QFont("monospace")
        mono.setStyleHint(QFont.StyleHint.Monospace)
        self.text.setFont(mono)
        self.text.setReadOnly(True)
        self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.text.setAccessibleName("The text as it will be")
        self.text.setToolTip("The beginning of the text as it will be")
        row.addWidget(self.text, 1)
        self.body.addLayout(row, 1)
        self.count = label("")
        self.body.addWidget(self.count)
        for field in self.fields.values():
            field.textChanged.connect(self._show)
        self.form.currentIndexChanged.connect(self._show)
        self.check.currentIndexChanged.connect(self._show)
        self._show()

    def facts(self) -> ExchangeFacts:
        """Return what is typed.

        Raises
        ------
        ValueError
            If the number is none.
        """
        told = {key: field.text().strip() for key, field in self.fields.items()}
        try:
            number = int(told["number"] or 0)
        except ValueError:
            raise ValueError(f"'{told['number']}' is no number of a body") from None
        name = str(self.check.currentData() or "")
        rows = self._table.star(name) if self._table is not None and name else []
        magnitudes = {row.file: -2.5 * math.log10(row.flux) for row in rows if row.flux > 0 and not row.flags}
        return ExchangeFacts(
            told["observer"], told["target"], told["filter"], name, magnitudes, told["chart"], told["notes"], number, told["contact"], told["ra"],
            told["dec"],
        )  # fmt: skip

    def _show(self) -> None:
        """Show the fields of the form, the text, and what is missing."""
        form = str(self.form.currentData())
        for key, _, _, of, _ in _FIELDS:
            self._form.setRowVisible(self.fields[key], of in ("", form))
        self._form.setRowVisible(self.check, form == "variable-star" and self.check.count() > 1)
        try:
            text = exchange_text(form, self._curve, self.facts())
        except (ExchangeError, ValueError) as error:
            self.tell(f"{str(error)[:1].upper()}{str(error)[1:]}.")
            self.text.setPlainText("")
            self.count.setText("")
            self.action.setEnabled(False)
            return
        self.tell("")
        lines = text.splitlines()
        self.text.setPlainText("\n".join(lines[:_SHOWN] + (["…"] if len(lines) > _SHOWN else [])))
        self.count.setText(f"{counted(int(self._curve.good.sum()), 'point')}; what is left out or flagged is not told.")
        self.action.setEnabled(True)

    def apply(self) -> None:
        """Ask for a place and write the text."""
        form = str(self.form.currentData())
        stem = "-".join(self.fields["target"].text().split()) or "target"
        path = ask_place(self, self._settings, self._beside, "Save the text", f"{stem}-{form}.txt", "Text (*.txt)")
        if path is None:
            return
        self._settings.setValue("exchange/form", form)
        for key, _, _, _, stays in _FIELDS:
            if stays:
                self._settings.setValue(f"exchange/{key}", self.fields[key].text().strip())
        try:
            write_exchange(path, form, self._curve, self.facts(), replace=True)
        except OSError as error:
            self.tell(f"{path.name} could not be written: {reason_words(error)}.")
        else:
            self.accept()
