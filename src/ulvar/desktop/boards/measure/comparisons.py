"""Measure, page Comparisons: every star of the field as a comparison star, and what speaks against it."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.models.fieldstars import candidate_name
from ulvar.desktop.models.model import Model
from ulvar.desktop.models.starpick import give_role
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import Rows, label, number, table
from ulvar.engine import counted, percent, true_minus
from ulvar.photometry import Candidate

# So many rows are shown: nobody looks through thousands of faint ones.
_MOST_ROWS = 400


class ComparisonsPage(QWidget):
    """Candidates, the best first, with their reasons."""

    def __init__(self, parent: QWidget, model: Model, theme: Theme, command: Callable[[str], object]) -> None:
        super().__init__(parent)
        self._model, self._command = model, command
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.words = label("", "value", wrap=True)
        column.addWidget(self.words)
        row = QHBoxLayout()
        self.add = QPushButton("Comparison")
        self.add.setToolTip("Give the chosen star the role of a comparison star (Enter in the table)")
        self.add.clicked.connect(lambda: self._give("comparison"))
        self.check = QPushButton("Check")
        self.check.setToolTip("Measured like a comparison star, but only to be looked at")
        self.check.clicked.connect(lambda: self._give("check"))
        self.out = QPushButton("No role")
        self.out.setToolTip("The chosen star is no comparison star any more (Delete in the table)")
        self.out.clicked.connect(lambda: self._give(""))
        self.best = QPushButton("Propose")
        self.best.setToolTip("Takes the best of them: six comparison stars and one check star")
        self.best.clicked.connect(lambda: command("propose"))
        for button in (self.best, self.add, self.check, self.out):
            row.addWidget(button)
        row.addStretch(1)
        column.addLayout(row)
        self.rows = Rows(
            ["Star", "Role", "Fainter\nmag", "Redder\nmag", "Away\npx", "Beside\n% light", "Against it"], left=(0, 1, 6)
        )
        self.rows.theme = theme
        self.table = table(
            self.rows, "Candidates for comparison stars", on_row=self._picked,
            tip="Fainter and redder than the target; beside: light of other stars near it over its own",
            stretch=6, optional=(5, 4, 3),
        )  # fmt: skip
        column.addWidget(self.table, 1)
        for keys, role in ((("Return", "Enter"), "comparison"), (("Delete",), "")):
            for key in keys:
                shortcut = QShortcut(QKeySequence(key), self.table)
                shortcut.setContext(Qt.ShortcutContext.WidgetShortcut)
                shortcut.activated.connect(lambda role=role: self._give(role))

    def refresh(self) -> None:
        """Fill the table."""
        chosen = self.rows.key(self.table.currentIndex().row())
        found = self._model.field.candidates()
        self._model.field.mark("comparisons", chosen)
        shown: tuple[Candidate, ...] = ()
        if found is None:
            self.words.setText("The stars of all exposures are being looked through…")
        elif found.problem:
            self.words.setText(found.problem)
        else:
            good = sum(c.good for c in found.found)
            colour = (
                f", colour {found.colour}"
                if found.colour
                else "; no colours: choose a catalogue with two bands at Plate"
            )
            self.words.setText(
                f"{good} of {counted(len(found.found), 'star')} have nothing against them, in {counted(found.looks, 'exposure')}{colour}."
            )
            shown = found.found[:_MOST_ROWS]
        roles = self._roles_of(shown)
        rows, keys, dim, marks = [], [], set(), {}
        for i, c in enumerate(shown):
            name = candidate_name(c)
            role = roles.get(name, "")
            if not c.good:
                dim.add(i)
            if role:
                marks[i, 1] = "comparison"
            rows.append(
                (
                    name, role, _signed(c.fainter_mag), _signed(c.redder_mag), number(c.away_px, 0), percent(c.neighbours),
                    "; ".join(c.why_not) or "nothing",
                )
            )  # fmt: skip
            keys.append(name)
        blocked = self.table.selectionModel().blockSignals(True)
        self.rows.fill(rows, keys, marks, dim)
        row = self.rows.row_of(chosen)
        if row >= 0:
            self.table.selectRow(row)
        self.table.selectionModel().blockSignals(blocked)
        self._enable()

    def _roles_of(self, candidates: Sequence[Candidate]) -> dict[str, str]:
        """Return name and role of the listed stars that candidates are, by the candidates' names."""
        model = self._model
        raw = model.current
        roles = {s.name: s.role for s in model.night.stars()} if model.night is not None else {}
        listed = model.field.listed_at(raw, model.field.candidate_places(raw, candidates))
        return {name: f"{star}, {roles[star]}" for name, star in listed.items() if star in roles}

    def _enable(self) -> None:
        there = bool(self.rows.key(self.table.currentIndex().row()))
        for button in (self.add, self.check, self.out):
            button.setEnabled(there)

    def _picked(self, name: str) -> None:
        self._enable()
        self._model.field.mark("comparisons", name)
        if name:
            self._command(f"look at field {name}")

    def _give(self, role: str) -> None:
        name = self.rows.key(self.table.currentIndex().row())
        if not name:
            return
        place = self._model.field.place(name, self._model.current)
        if place is None:
            self._model.message.emit("Go to an exposure that is scored, so that the star has a place.")
            return
        self._model.message.emit(give_role(self._model, place, role))

    def show_current(self, raw: str) -> None:
        """Nothing here hangs on the exposure on screen."""


def _signed(value: float) -> str:
    return "–" if not math.isfinite(value) else true_minus(f"{value:+.2f}")
