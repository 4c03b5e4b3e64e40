"""Masters: which calibration frames fit which lights, and the masters made."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QGridLayout, QWidget

from ulvar.calibration import Candidate, Choice, Fit, Match, match_lights
from ulvar.desktop import glyphs
from ulvar.desktop.boards.base import Board
from ulvar.desktop.theme import font
from ulvar.desktop.widgets import Rows, empty_state, hairline, label, number, table
from ulvar.frames import Group, Role
from ulvar.night.flows.masters import KINDS


class MatchCell(QWidget):
    """One choice: what, how far off, and why not."""

    def __init__(self, board: MastersBoard, group: Group, choice: Choice) -> None:
        super().__init__()
        self._board, self.group, self.choice = board, group, choice
        self.setFixedSize(QSize(134, 58))
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        first, second = self.lines()
        self.setAccessibleName(f"{group.filter} {choice.kind.value}: {first}, {second}")
        self.setToolTip(f"{first}. {second}")

    def lines(self) -> tuple[str, str]:
        """Return what, and how far off or why."""
        choice = self.choice
        if choice.fit is Fit.NOT_NEEDED:
            return "not needed", choice.reason
        if choice.fit is Fit.NONE_TAKEN:
            return "none taken", "no such frames here"
        if choice.candidate is None:
            return "nothing safe", choice.reason
        facts = choice.candidate.facts
        if choice.kind is Role.FLAT:
            first = f"{facts.filter} × {choice.candidate.count}"
        else:
            parts = [] if facts.exposure_s is None or choice.kind is Role.BIAS else [f"{facts.exposure_s:g} s"]
            first = " ".join([*parts, f"× {choice.candidate.count}"])
        off = choice.off
        told = []
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
        painter.drawText(QRectF(10, 9, 100, 18), Qt.AlignmentFlag.AlignVCenter, first)
        painter.setFont(font("label"))
        painter.setPen(t.color("check" if fit is Fit.NEAR else "mute" if plain else "soft"))
        text = painter.fontMetrics().elidedText(second, Qt.TextElideMode.ElideRight, 116)
        painter.drawText(QRectF(10, 30, 118, 18), Qt.AlignmentFlag.AlignVCenter, text)
        if fit is Fit.FITS:
            painter.setPen(QPen(t.color("good"), 1.8))
            painter.drawPolyline([box.topRight().__class__(x, y) for x, y in ((113, 18), (117, 22), (124, 13))])
        elif fit is Fit.NEAR:
            glyphs.draw_severity(painter, t, 119, 17, "check", 5.5)
        elif fit is Fit.NOTHING_SAFE:
            glyphs.draw_severity(painter, t, 119, 17, "blocks", 6)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Tell the refusals of this cell, and show its master."""
        self._board.choose(self)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Enter chooses."""
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._board.choose(self)
        else:
            super().keyPressEvent(event)


class MastersBoard(Board):
    """The match board; below it the masters."""

    width_hint = 704
    chosen: MatchCell | None = None

    def matches(self) -> list[tuple[Group, Match]]:
        """Return the choices for each group of lights among the night's sets."""
        out = self.model.left_out()
        groups = self.model.groups()
        candidates = [
            Candidate(g.role, g.typical, n, g.key)
            for g in groups
            if g.role in KINDS and (n := sum(f not in out for f in g.files))
        ]
        limits = self.model.settings().masters.tolerances
        return [(g, match_lights(g.typical, candidates, limits)) for g in groups if g.role is Role.LIGHT]

    def fill(self) -> None:
        """Build grid, refusals and list of masters."""
        self.chosen = None
        self.title.setText("Match board")
        self.count.setText("which calibration frames fit which lights")
        groups = self.model.groups()
        lights = [g for g in groups if g.role is Role.LIGHT]
        self.hint.setText("second line: how far off, and age" if lights else "")
        if not lights:
            self.body.addWidget(
                empty_state(
                    "No lights yet, so nothing to match.",
                    "Go to Intake",
                    lambda: self.command("station intake"),
                )
            )
            return
        if not any(g.role in KINDS for g in groups):
            sentence = "No calibration frames in this night. Lights will be used as they are."
            self.body.addWidget(empty_state(sentence, "Go on to Combine", lambda: self.command("station combine")))
            return
        grid = QGridLayout()
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(6)
        for column, name in enumerate(("Lights", "Bias", "Dark", "Flat", "Dark flat")):
            grid.addWidget(label(name), 0, column)
        cells = []
        for row, (group, match) in enumerate(self.matches(), 1):
            name = QWidget()
            name.setFixedWidth(92)
            inner = QGridLayout(name)
            inner.setContentsMargins(0, 8, 0, 8)
            inner.setVerticalSpacing(2)
            exposure = "" if group.exposure_s is None else f"{group.exposure_s:g} s"
            inner.addWidget(label(f"{group.filter}   {exposure}".strip() or "lights", "value"), 0, 0)
            inner.addWidget(label(f"{group.count} lights"), 1, 0)
            grid.addWidget(name, row, 0)
            for column, choice in enumerate(match.choices, 1):
                cell = MatchCell(self, group, choice)
                cells.append(cell)
                grid.addWidget(cell, row, column)
        grid.setColumnStretch(5, 1)
        self.body.addLayout(grid)
        self.refusals = label("", wrap=True)
        self.refusals.setMinimumHeight(34)
        self.body.addWidget(self.refusals)
        self.body.addWidget(hairline())
        self._masters()
        worst = next((c for c in cells if c.choice.fit is Fit.NOTHING_SAFE), cells[0] if cells else None)
        if worst is not None:
            self.choose(worst, show=False)

    def _masters(self) -> None:
        made = self.model.products("master")
        self.body.addWidget(label(f"Masters   {len(made)} made" if made else "Masters   none made yet", "section"))
        if not made:
            self.body.addWidget(
                label(
                    "Each group of calibration frames becomes one master; flats after what they need.",
                    wrap=True,
                )
            )
            self.body.addStretch(1)
            return
        self._rows = Rows(["Master", "Frames", "Exposure\ns", "Temp.\n°C", "Noise\nADU", "Rejected\n%"])
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
                    number(100 * v.get("rejected_fraction", 0.0), 2),
                )
            )  # fmt: skip
        self._rows.fill(rows, list(made))
        self.body.addWidget(table(self._rows, on_row=lambda key: self.show_file(key, Path(key).stem)), 1)

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
                 if p.values["kind"] == choice.kind.value and choice.candidate.key in Path(p.output).name), "",
            )  # fmt: skip
            if made:
                self.show_file(made, Path(made).stem)
            else:
                self.model.set_current(choice.candidate.facts.path)
