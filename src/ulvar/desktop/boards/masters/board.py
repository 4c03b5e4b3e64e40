"""Masters: which calibration frames fit which lights, and the masters made."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QGridLayout,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ulvar.calibration import NO_MASTER, Candidate, Choice, Fit, Match, Shot
from ulvar.desktop.boards.base import Board
from ulvar.desktop.boards.masters.library import LibraryMap
from ulvar.desktop.parts import glyphs
from ulvar.desktop.parts.theme import font
from ulvar.desktop.parts.widgets import Rows, empty_state, hairline, label, number, table
from ulvar.frames import Group, Role
from ulvar.night.flows.masters import KINDS
from ulvar.night.library import PREFIX


class MatchCell(QWidget):
    """One choice: what, how far off, and why not."""

    def __init__(self, board: MastersBoard, group: Group, choice: Choice) -> None:
        super().__init__()
        self._board, self.group, self.choice = board, group, choice
        self.setFixedHeight(58)
        self.setMinimumWidth(84)
        self.setMaximumWidth(150)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        first, second = self.lines()
        self.setAccessibleName(f"{group.filter} {choice.kind.value}: {first}, {second}")
        self.setToolTip(f"{first}. {second}")

    def sizeHint(self) -> QSize:
        """Its usual size; on a narrow board it gives way."""
        return QSize(140, 58)

    def lines(self) -> tuple[str, str]:
        """Return what, and how far off or why."""
        choice = self.choice
        if choice.fit is Fit.NOT_NEEDED:
            return "not needed", choice.reason
        if choice.fit is Fit.NONE_TAKEN:
            return ("none", "by hand") if choice.pinned else ("none taken", "no such frames here")
        if choice.candidate is None:
            return "nothing safe", choice.reason
        facts = choice.candidate.facts
        if choice.kind is Role.FLAT:
            first = f"{facts.filter} × {choice.candidate.count}"
        else:
            parts = [] if facts.exposure_s is None or choice.kind is Role.BIAS else [f"{facts.exposure_s:g} s"]
            first = " ".join([*parts, f"× {choice.candidate.count}"])
        if choice.candidate.key.startswith(PREFIX):
            first += "  library"
        off = choice.off
        told = []
        if choice.pinned:
            return first, f"by hand: {choice.reason}" if choice.reason else "by hand"
        if choice.fit is Fit.NEAR:
            return first, choice.reason
        if "exposure_s" in off:
            told.append(f"{number(off['exposure_s'], 1)} s")
        if "temperature_c" in off:
            told.append(f"{number(off['temperature_c'], 1)} °C")
        if "age_d" in off:
            told.append(f"{off['age_d']:.0f} d")
        return first, "   ".join(told) or "fits"

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the cell."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t, fit = self._board.theme, self.choice.fit
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        chosen = self._board.chosen is self or self.hasFocus()
        plain = fit in (Fit.NOT_NEEDED, Fit.NONE_TAKEN)
        if fit is Fit.NOTHING_SAFE:
            painter.setPen(QPen(t.color("block"), 1, Qt.PenStyle.DashLine))
            painter.setBrush(t.color("block", 0.12))
            painter.drawRoundedRect(box, 4, 4)
        elif not plain:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("raised"))
            painter.drawRoundedRect(box, 4, 4)
        if chosen:
            painter.setPen(QPen(t.color("cur"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(box, 4, 4)
        first, second = self.lines()
        painter.setFont(font("label" if plain else "value"))
        painter.setPen(t.color("block" if fit is Fit.NOTHING_SAFE else "mute" if plain else "text"))
        width = self.width()
        first = painter.fontMetrics().elidedText(first, Qt.TextElideMode.ElideRight, width - (18 if plain else 38))
        painter.drawText(QRectF(10, 9, width - 12, 18), Qt.AlignmentFlag.AlignVCenter, first)
        painter.setFont(font("label"))
        painter.setPen(t.color("check" if fit is Fit.NEAR else "mute" if plain else "soft"))
        text = painter.fontMetrics().elidedText(second, Qt.TextElideMode.ElideRight, width - 18)
        painter.drawText(QRectF(10, 30, width - 16, 18), Qt.AlignmentFlag.AlignVCenter, text)
        if fit is Fit.FITS:
            painter.setPen(QPen(t.color("good"), 1.8))
            painter.drawPolyline(
                [box.topRight().__class__(x, y) for x, y in ((width - 21, 18), (width - 17, 22), (width - 10, 13))]
            )
        elif fit is Fit.NEAR:
            glyphs.draw_severity(painter, t, width - 15, 17, "check", 5.5)
        elif fit is Fit.NOTHING_SAFE:
            glyphs.draw_severity(painter, t, width - 15, 17, "blocks", 6)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Tell the refusals of this cell, and show its master."""
        self._board.choose(self)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """Offer what else could be used."""
        self._board.pin_menu(self).exec(event.globalPos())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Enter shows, the menu key offers what else could be used."""
        if event.key() == Qt.Key.Key_Menu:
            self._board.pin_menu(self).exec(self.mapToGlobal(self.rect().center()))
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._board.choose(self)
        else:
            super().keyPressEvent(event)


class MastersBoard(Board):
    """The match board; below it the library and the masters made; the shooting list at the foot."""

    width_hint = 704
    chosen: MatchCell | None = None

    def __init__(self, *arguments) -> None:  # type: ignore[no-untyped-def]
        self.page = "dark"
        super().__init__(*arguments)

    def matches(self) -> list[tuple[Group, Match]]:
        """Return the choices for each group of lights."""
        return self.model.matches()

    def fill(self) -> None:
        """Build grid, refusals, library and shooting list."""
        self.chosen = None
        self.title.setText("Match board")
        self.count.setText("which frames fit which lights")
        lights = [g for g in self.model.groups() if g.role is Role.LIGHT]
        self.hint.setText("second line: how far off, and age; right-click to choose" if lights else "")
        if not lights:
            self.body.addWidget(
                empty_state(
                    "No lights yet, so nothing to match.",
                    "Go to Intake",
                    lambda: self.command("station intake"),
                )
            )
            return
        library = self.model.library()
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
            name = QWidget()
            name.setFixedWidth(86)
            inner = QGridLayout(name)
            inner.setContentsMargins(0, 8, 0, 8)
            inner.setVerticalSpacing(2)
            exposure = "" if group.exposure_s is None else f"{group.exposure_s:g} s"
            inner.addWidget(label(f"{group.filter}   {exposure}".strip() or "lights", "value"), 0, 0)
            session = group.session if group.one_of_sessions else f"{group.count} lights"
            inner.addWidget(label(session), 1, 0)
            name.setToolTip(f"{group.count} lights, {group.key}")
            grid.addWidget(name, row, 0)
            for column, choice in enumerate(match.choices, 1):
                cell = MatchCell(self, group, choice)
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
        self._button(row, "Keep", "keep masters", tip, bool(made))
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
        shots = self.model.shots()
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
        self._rows = Rows(["Master", "Frames", "Exposure\ns", "Temp.\n°C", "Noise\nADU", "Level\nADU", "Rejected\n%"])
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
        view = table(self._rows, on_row=lambda key: self.show_file(key, Path(key).stem))
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
                each.update()
        choice = cell.choice
        word = choice.kind.value.replace("_", " ")
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
                lambda k=candidate.key: self.model.pin(lights, kind.value, k),
            )
            action.setCheckable(True)
            action.setChecked(candidate is cell.choice.candidate and cell.choice.pinned)
        menu.addAction("Use none", lambda: self.model.pin(lights, kind.value, NO_MASTER))
        if cell.choice.pinned:
            menu.addSeparator()
            menu.addAction("Leave it to matching", lambda: self.model.pin(lights, kind.value, None))
        return menu


def candidate_words(candidate: Candidate) -> str:
    """Return a candidate in a few words."""
    facts = candidate.facts
    parts = [
        facts.filter if candidate.kind is Role.FLAT else "",
        "" if facts.exposure_s is None else f"{facts.exposure_s:g} s",
    ]
    if facts.gain is not None:
        parts.append(f"gain {facts.gain:g}")
    if facts.sensor_temperature_c is not None:
        parts.append(f"{number(facts.sensor_temperature_c, 0)} °C")
    parts.append(f"× {candidate.count}")
    if facts.start_utc is not None:
        parts.append(facts.start_utc.strftime("%Y-%m-%d"))
    return " ".join(p for p in parts if p)


def shot_words(shot: Shot) -> str:
    """Return a line of the shooting list in a few words."""
    parts = [f"{shot.count} × {shot.kind.value.replace('_', ' ')}", shot.filter]
    if shot.exposure_s is not None and shot.kind is not Role.BIAS:
        parts.append(f"{shot.exposure_s:g} s")
    if shot.temperature_c is not None and shot.kind is not Role.FLAT:
        parts.append(f"at {number(shot.temperature_c, 0)} °C")
    if shot.gain is not None:
        parts.append(f"gain {shot.gain:g}")
    return " ".join(p for p in parts if p)
