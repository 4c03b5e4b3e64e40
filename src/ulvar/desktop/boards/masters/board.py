"""Masters: which calibration frames fit which lights, and the masters made."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QGridLayout,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QScrollArea,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ulvar.calibration import NO_MASTER, Fit, Match
from ulvar.desktop.boards.base import Board
from ulvar.desktop.boards.masters.cells import MatchCell
from ulvar.desktop.boards.masters.library import LibraryMap
from ulvar.desktop.boards.masters.words import candidate_words, shot_words
from ulvar.desktop.parts.widgets import Rows, empty_state, hairline, label, number, table
from ulvar.engine import counted
from ulvar.flows import KINDS
from ulvar.frames import Group, Role


class MastersBoard(Board):
    """The match board; below it the library and the masters made; the shooting list at the foot."""

    width_hint = 704
    chosen: MatchCell | None = None

    def __init__(self, *arguments) -> None:  # type: ignore[no-untyped-def]
        self.page = "dark"
        super().__init__(*arguments)

    def matches(self) -> list[tuple[Group, Match]]:
        """Return the choices for each group of lights."""
        return self.model.matching.matches()

    def fill(self) -> None:
        """Build grid, refusals, library and shooting list."""
        self.chosen = None
        self.title.setText("Match board")
        self.count.setText("which frames fit which lights")
        lights = [g for g in self.model.groups() if g.role is Role.LIGHT]
        self.hint.setText("second line: how far off, and age; right-click to choose" if lights else "")
        if not lights:
            frames = any(g.role in KINDS for g in self.model.groups())
            more = " Masters can be made of the calibration frames all the same." if frames else ""
            self.say_empty(f"No lights in this night, so nothing to match.{more}")
            return
        library = self.model.matching.library()
        none_here = not any(g.role in KINDS for g in self.model.groups())
        if none_here and not (library and library.entries()):
            sentence = "No calibration frames in this night. Lights will be used as they are."
            self.body.addWidget(empty_state(sentence, "Choose masters…", lambda: self.command("add masters")))
            self._shooting()
            return
        cells = self._grid()
        self.refusals = label("", wrap=True)
        self.refusals.setMinimumHeight(30)
        self.body.addWidget(self.refusals)
        self.body.addWidget(hairline())
        self._pages()
        self._shooting()
        worst = next((c for c in cells if c.choice.fit is Fit.NOTHING_SAFE), cells[0] if cells else None)
        if worst is not None:
            self.choose(worst, show=False)

    def _grid(self) -> list[MatchCell]:
        inside = QWidget()
        grid = QGridLayout(inside)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(6)
        for column, name in enumerate(("Lights", "Bias", "Dark", "Flat", "Dark flat")):
            grid.addWidget(label(name), 0, column)
        cells = []
        matches = self.matches()
        for row, (group, match) in enumerate(matches, 1):
            head = QWidget()
            head.setFixedWidth(86)
            inner = QGridLayout(head)
            inner.setContentsMargins(0, 8, 0, 8)
            inner.setVerticalSpacing(2)
            exposure = "" if group.exposure_s is None else f"{group.exposure_s:g} s"
            inner.addWidget(label(f"{group.filter}   {exposure}".strip() or "lights", "value"), 0, 0)
            session = group.session if group.one_of_sessions else counted(group.count, "light")
            inner.addWidget(label(session), 1, 0)
            head.setToolTip(f"{counted(group.count, 'light')}, {group.key}")
            grid.addWidget(head, row, 0)
            for column, choice in enumerate(match.choices, 1):
                cell = MatchCell(self.theme, group, choice)
                cell.picked.connect(self.choose)
                cell.menu_wanted.connect(lambda c, at: self.pin_menu(c).exec(at))
                cells.append(cell)
                grid.addWidget(cell, row, column)
        grid.setColumnStretch(5, 1)
        grid.setRowStretch(len(matches) + 1, 1)
        if len(matches) > 3:
            scroll = QScrollArea()
            scroll.setWidgetResizable(True)
            scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
            scroll.setWidget(inside)
            scroll.setMinimumHeight(210)
            self.body.addWidget(scroll, 2)
        else:
            self.body.addWidget(inside)
        return cells

    def _pages(self) -> None:
        made = self.model.products("master")
        row = QHBoxLayout()
        row.setSpacing(2)
        row.addWidget(label("Library", "section"))
        row.addSpacing(12)
        self.page_buttons: dict[str, QToolButton] = {}
        names = [(kind.value, kind.plural) for kind in (Role.BIAS, Role.DARK, Role.FLAT, Role.DARK_FLAT)]
        for key, text in [*names, ("made", f"Made {len(made)}" if made else "Made")]:
            button = QToolButton()
            button.setText(text)
            button.setCheckable(True)
            button.setChecked(key == self.page)
            button.setToolTip(
                "The masters of this night"
                if key == "made"
                else f"Map of {text.lower()}: what there is, its age, what is missing"
            )
            button.clicked.connect(lambda _=False, k=key: self.turn_to(k))
            row.addWidget(button)
            self.page_buttons[key] = button
        row.addStretch(1)
        self._button(row, "Add…", "add masters", "Add masters made elsewhere to the library")
        tip = "Copy the masters of this night into the library, for other nights"
        self._button(row, "Copy to library", "keep masters", tip, bool(made))
        self.body.addLayout(row)
        if self.page == "made":
            self._masters()
            return
        self.map = LibraryMap(self.model, self.theme, Role(self.page), self.show_file)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self.map)
        self.body.addWidget(scroll, 2)

    def turn_to(self, page: str) -> None:
        """Show the map of a kind, or the masters made."""
        self.page = page
        self._stale = True
        self.rebuild()

    def _shooting(self) -> None:
        shots = self.model.matching.shots()
        self.body.addWidget(hairline())
        row = QHBoxLayout()
        words = QVBoxLayout()
        words.setSpacing(2)
        words.addWidget(label("Shooting list", "section"))
        if shots:
            parts = [shot_words(s) for s in shots[:3]] + ([f"{len(shots) - 3} more"] if len(shots) > 3 else [])
            minutes = sum(s.minutes for s in shots)
            took = f"{minutes / 60:.1f} h" if minutes > 90 else f"{minutes:.0f} min"
            text = label(f"{';  '.join(parts)}.  About {took} to take.", wrap=True)
        else:
            text = label("Nothing to take: every group of lights has what it needs.")
        words.addWidget(text)
        row.addLayout(words, 1)
        self._button(row, "Plan flats…", "plan flats", "From test flats to the exposure that gives the wanted level")
        self._button(row, "Write list…", "write list", "Save the list as a table or as a page to print", bool(shots))
        self.body.addLayout(row)

    def _button(self, row: QHBoxLayout, text: str, command: str, tip: str, enabled: bool = True) -> None:
        button = QPushButton(text)
        button.setToolTip(tip)
        button.setEnabled(enabled)
        button.clicked.connect(lambda: self.command(command))
        row.addWidget(button)

    def _masters(self) -> None:
        made = self.model.products("master")
        if not made:
            self.body.addWidget(
                label(
                    "Each group of calibration frames becomes one master; flats after what they need.",
                    wrap=True,
                )
            )
            self.body.addStretch(1)
            return
        self._rows = Rows(["Master", "Frames", "Exp. time\ns", "Temp.\n°C", "Noise\nADU", "Level\nADU", "Rejected\n%"])
        self._rows.theme = self.theme
        rows = []
        for product in made.values():
            v = product.values
            relative = v["kind"] == "flat"
            noise = v.get("noise_adu")
            rows.append(
                (
                    f"{v['kind'].replace('_', ' ')} {v.get('filter') or ''}".strip(), str(v.get("count", "")),
                    number(v.get("exposure_s"), 1), number(v.get("temperature_c"), 1),
                    "–" if noise is None else f"{100 * noise:.2f} %" if relative else number(noise, 2),
                    number(v.get("level_adu"), 0), number(100 * v.get("rejected_fraction", 0.0), 2),
                )
            )  # fmt: skip
        self._rows.fill(rows, list(made))
        view = table(self._rows, "Masters of this night", on_row=lambda key: self.show_file(key, Path(key).stem))
        view.setToolTip("A row shows the master; double-click shows where frames were rejected")
        view.doubleClicked.connect(lambda index: self.show_rejected(self._rows.key(index.row())))
        self.body.addWidget(view, 1)

    def show_rejected(self, path: str) -> None:
        """Show how many frames were rejected at each pixel of a master."""
        made = self.model.products("master").get(path)
        if made is None or not made.values.get("rejected_fraction"):
            self.model.message.emit("Nothing was rejected in this master.")
            return
        self.show_file(f"{path}[1]", f"{Path(path).stem}, frames rejected")

    def choose(self, cell: MatchCell, *, show: bool = True) -> None:
        """Tell why others were refused for a cell, and show what it uses."""
        old, self.chosen = self.chosen, cell
        for each in (old, cell):
            if each is not None:
                each.chosen = each is cell
                each.update()
        choice = cell.choice
        word = choice.kind.word
        name = f"{cell.group.filter or 'lights'}, {word}"
        if choice.refused:
            reasons = "; ".join(dict.fromkeys(reason for _, reason in choice.refused))
            self.refusals.setText(f"{name}: {len(choice.refused)} not taken.  {reasons}")
        else:
            self.refusals.setText(f"{name}: {choice.reason or 'nothing else to choose from'}")
        if show and choice.candidate is not None:
            made = next(
                (p.output for p in self.model.products("master").values()
                 if p.values.get("key") == choice.candidate.key), "",
            )  # fmt: skip
            if made:
                self.show_file(made, Path(made).stem)
            else:
                self.model.set_current(choice.candidate.facts.path)

    def pin_menu(self, cell: MatchCell) -> QMenu:
        """Return the menu that chooses by hand what a group of lights uses."""
        menu = QMenu(self)
        lights, kind = cell.group.key, cell.choice.kind
        others = ([cell.choice.candidate] if cell.choice.candidate else []) + [c for c, _ in cell.choice.refused]
        reasons = {id(c): reason for c, reason in cell.choice.refused}
        for candidate in others:
            text = candidate_words(candidate)
            why = reasons.get(id(candidate), "")
            action = menu.addAction(
                f"Use {text}" + (f"   ({why})" if why else ""),
                lambda k=candidate.key: self.model.matching.pin(lights, kind.value, k),
            )
            action.setCheckable(True)
            action.setChecked(candidate is cell.choice.candidate and cell.choice.pinned)
        menu.addAction("Use none", lambda: self.model.matching.pin(lights, kind.value, NO_MASTER))
        if cell.choice.pinned:
            menu.addSeparator()
            menu.addAction("Leave it to matching", lambda: self.model.matching.pin(lights, kind.value, None))
        return menu
