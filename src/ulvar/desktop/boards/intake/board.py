"""Intake: groups by role; drag a group to another role."""

from __future__ import annotations

from PySide6.QtCore import QMimeData, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import (
    QColor,
    QContextMenuEvent,
    QDrag,
    QDragEnterEvent,
    QDragLeaveEvent,
    QDropEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
)
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from ulvar.desktop.boards.base import Board
from ulvar.desktop.dialogs.facts import FactsPanel
from ulvar.desktop.parts import glyphs
from ulvar.desktop.parts.flow import FlowLayout
from ulvar.desktop.parts.theme import font
from ulvar.desktop.parts.widgets import label, number
from ulvar.engine import counted
from ulvar.frames import Group, Role
from ulvar.inspection import Finding

_ORDER = (Role.LIGHT, Role.FLAT, Role.DARK_FLAT, Role.DARK, Role.BIAS, Role.UNKNOWN)
_FILTER_COLOR = {
    "dark": {"V": "#E8ECF0", "B": "#4C8DF5", "R": "#FF7A5C"},
    "light": {"V": "#586470", "B": "#2F6FE0", "R": "#D2452A"},
}
_MIME = "application/x-ulvar-group"


class GroupCard(QWidget):
    """One group: what differs, the count, one tick an exposure."""

    def __init__(self, board: IntakeBoard, group: Group, finding: Finding | None) -> None:
        super().__init__()
        self._board, self.group, self._finding = board, group, finding
        self._press: QPointF | None = None
        self.setFixedSize(QSize(152, 64))
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        words = ", ".join(self.lines())
        self.setAccessibleName(f"{group.role.plural} {words}, {counted(group.count, 'exposure')}")
        self.setToolTip(f"{group.role.counted(group.count)}: {words}. Click to look; drag to another role.")

    def lines(self) -> tuple[str, str]:
        """Return the two lines of text."""
        group = self.group
        first = " ".join(p for p in (group.filter, "" if group.exposure_s is None else f"{group.exposure_s:g} s") if p)
        if group.role is Role.UNKNOWN and group.count == 1:
            first = group.members[0].stem
        second = []
        if group.gain is not None:
            second.append(f"gain {group.gain:g}")
        if group.temperature_c is not None:
            second.append(f"{number(group.temperature_c, 1)} °C")
        if group.one_of_sessions and group.session:
            # In the short form that fits a card; the tooltip has all of it.
            second = [group.session, *second[1:]]
        second += group.tags.values()
        if group.role is Role.UNKNOWN:
            second = ["no role found"]
        elif group.is_master:
            second.insert(0, "master")
        return first or "exposure unknown", "   ".join(second) or "no gain, no temperature"

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the card."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t, group = self._board.theme, self.group
        here = self._board.model.current in group.files
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        painter.setPen(QPen(t.color("cur"), 1.5) if here or self.hasFocus() else Qt.PenStyle.NoPen)
        painter.setBrush(t.color("sel" if here else "raised"))
        painter.drawRoundedRect(box, 4, 4)
        if group.filter:
            known = _FILTER_COLOR.get(t.name, {}).get(group.filter)
            color = QColor(known) if known else t.color("soft")
            painter.fillRect(QRectF(2, 6, 3.4, box.height() - 10), color)
        first, second = self.lines()
        painter.setFont(font("value"))
        painter.setPen(t.color("text"))
        painter.drawText(QRectF(14, 6, 100, 18), Qt.AlignmentFlag.AlignVCenter, first)
        painter.drawText(
            QRectF(60, 6, 80, 18),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            str(group.count),
        )
        painter.setFont(font("label"))
        painter.setPen(t.color("soft"))
        second = painter.fontMetrics().elidedText(second, Qt.TextElideMode.ElideRight, 130)
        painter.drawText(QRectF(14, 25, 130, 16), Qt.AlignmentFlag.AlignVCenter, second)
        if self._finding is not None:
            width = painter.fontMetrics().horizontalAdvance(str(group.count))
            glyphs.draw_severity(painter, t, 128 - width, 15, self._finding.severity.word, 6)
        out = self._board.model.left_out()
        step = min(3.2, 126 / max(1, group.count))
        for i, path in enumerate(group.files):
            painter.fillRect(
                QRectF(14 + i * step, 47, max(0.8, step * 0.5), 8), t.color("line" if path in out else "mute")
            )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Look at the group's first exposure."""
        self._press = event.position()
        self._board.pick(self.group)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag the group."""
        if self._press is None:
            return
        if (event.position() - self._press).manhattanLength() < QApplication.startDragDistance():
            return
        self._press = None
        drag = QDrag(self)
        data = QMimeData()
        data.setData(_MIME, self.group.key.encode())
        drag.setMimeData(data)
        drag.setPixmap(self.grab())
        self._board.dragged = self.group
        drag.exec(Qt.DropAction.MoveAction)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """Offer the roles, and leaving out."""
        self._menu().exec(event.globalPos())

    def _menu(self) -> QMenu:
        menu = QMenu(self)
        for role in _ORDER[:-1]:
            if role is not self.group.role:
                menu.addAction(f"These are {role.plural.lower()}", lambda r=role: self._board.set_role(self.group, r))
        menu.addSeparator()
        menu.addAction("Correct facts…", lambda: self._board.edit_facts(self.group))
        out = self._board.model.left_out()
        if all(f in out for f in self.group.files):
            menu.addAction(f"Put back {self.group.count}", lambda: self._board.model.put_back(self.group.files))
        else:
            menu.addAction(
                f"Leave out {self.group.count}",
                lambda: self._board.model.leave_out(self.group.files, "group left out"),
            )
        return menu

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Enter looks, the menu key offers the roles."""
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._board.pick(self.group)
        elif event.key() == Qt.Key.Key_Menu:
            self._menu().exec(self.mapToGlobal(self.rect().center()))
        else:
            super().keyPressEvent(event)


class RoleRow(QWidget):
    """All groups of a role; takes dropped groups."""

    def __init__(self, board: IntakeBoard, role: Role, groups: list[Group], findings: dict[str, Finding]) -> None:
        super().__init__()
        self._board, self.role = board, role
        self._over = False
        self.setAcceptDrops(True)
        row = QHBoxLayout(self)
        row.setContentsMargins(4, 4, 4, 4)
        row.setSpacing(6)
        side = QWidget()
        side.setFixedWidth(74)
        names = QVBoxLayout(side)
        names.setContentsMargins(0, 14, 0, 0)
        names.setSpacing(2)
        names.addWidget(label(role.plural, "value"))
        names.addWidget(label(str(sum(g.count for g in groups)), "unit"))
        names.addStretch(1)
        row.addWidget(side)
        cards = QWidget()
        policy = QSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Minimum)
        policy.setHeightForWidth(True)
        cards.setSizePolicy(policy)
        flow = FlowLayout(cards, 6)
        for group in groups:
            flow.addWidget(GroupCard(board, group, next((findings[f] for f in group.files if f in findings), None)))
        row.addWidget(cards, 1)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Show where a drop would go."""
        if self._over or self.role is Role.UNKNOWN:
            painter = QPainter(self)
            painter.setPen(QPen(self._board.theme.color("cur" if self._over else "edge"), 1, Qt.PenStyle.DashLine))
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 4, 4)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Take groups of other roles."""
        if event.mimeData().hasFormat(_MIME) and self._board.dragged and self._board.dragged.role is not self.role:
            self._over = True
            self.update()
            event.acceptProposedAction()

    def dragLeaveEvent(self, event: QDragLeaveEvent) -> None:
        """The group went elsewhere."""
        self._over = False
        self.update()

    def dropEvent(self, event: QDropEvent) -> None:
        """Give the group this role."""
        self._over = False
        if self._board.dragged is not None and self.role is not Role.UNKNOWN:
            self._board.set_role(self._board.dragged, self.role)
            event.acceptProposedAction()


class IntakeBoard(Board):
    """What do I have, and is it what I think?"""

    width_hint = 600

    def __init__(self, *arguments) -> None:  # type: ignore[no-untyped-def]
        self.dragged: Group | None = None
        self._filled_with: tuple = ()
        super().__init__(*arguments)

    def _findings(self) -> dict[str, Finding]:
        """The first finding of Intake on each file."""
        return {path: f for f in reversed(self.model.jobs.findings()) if f.station == "intake" for path in f.files}

    def _shown(self) -> tuple:
        """All that the cards are built of; what they paint is looked up as they paint it."""
        return self.theme.name, self.model.groups(), self._findings()

    def refresh(self) -> bool:
        """Keep the cards when a job or a setting changed nothing that they show."""
        if not self.model.groups() or self._shown() != self._filled_with:
            return False
        for card in self.findChildren(GroupCard):
            card.update()
        return True

    def fill(self) -> None:
        """Build a row for each role."""
        self._filled_with = self._shown()
        _, groups, findings = self._filled_with
        if not groups:
            self.title.setText("Intake")
            self.count.setText("")
            self.hint.setText("")
            drop = "Drop a folder of exposures here; raw files are never changed."
            told = self.model.jobs.findings() if self.model.night is not None else []
            self.say_empty(f"{told[0].text} {drop}" if told else drop)
            return
        total = sum(g.count for g in groups)
        self.title.setText(f"{counted(total, 'exposure')} in {counted(len(groups), 'group')}")
        self.hint.setText("drag a group to another role, right-click for more")
        self.body.addWidget(label(self._shared(groups), wrap=True))
        inside = QWidget()
        column = QVBoxLayout(inside)
        column.setContentsMargins(0, 0, 4, 0)
        column.setSpacing(4)
        for role in _ORDER:
            members = [g for g in groups if g.role is role]
            if members or (role is not Role.UNKNOWN and role in (Role.LIGHT, Role.FLAT, Role.DARK, Role.BIAS)):
                column.addWidget(RoleRow(self, role, members, findings))
        column.addStretch(1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(inside)
        self.body.addWidget(scroll, 1)
        foot = QHBoxLayout()
        foot.setSpacing(6)
        for text, command, tip in (
            (
                "Sessions and tags…",
                "sessions",
                "Let the folders' names say which session, or which tag, an exposure has",
            ),
            ("Facts of this exposure…", "facts", "See and correct what is known of the exposure on screen"),
            ("Add a folder…", "add folder", "Add more exposures to this night"),
        ):
            button = QPushButton(text)
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, c=command: self.command(c))
            foot.addWidget(button)
        foot.addStretch(1)
        self.body.addLayout(foot)

    def _shared(self, groups: list[Group]) -> str:
        """Say once what all groups share."""
        parts = []
        cameras = {g.camera for g in groups if g.camera}
        sizes = {(g.width, g.height) for g in groups}
        binnings = {g.binning for g in groups}
        offsets = {g.offset for g in groups if g.offset is not None}
        if len(cameras) == 1:
            parts.append(next(iter(cameras)))
        if len(sizes) == 1:
            width, height = next(iter(sizes))
            parts.append(f"{width} × {height} px")
        if len(binnings) == 1:
            parts.append(f"binning {next(iter(binnings))}")
        if len(offsets) == 1:
            parts.append(f"offset {next(iter(offsets)):g}")
        sessions = {g.session for g in groups if g.session}
        if len(sessions) == 1:
            parts.append(f"session {next(iter(sessions))}")
        return f"All: {', '.join(parts)}. Groups show what differs." if parts else "Groups show what differs."

    def pick(self, group: Group) -> None:
        """Look at a group."""
        self.model.set_current(group.files[0])
        for card in self.findChildren(GroupCard):
            card.update()

    def edit_facts(self, group: Group) -> None:
        """Open the facts of a group."""
        self.panel = FactsPanel(self.window(), self.model, group.members, self.theme)
        self.panel.show()

    def set_role(self, group: Group, role: Role) -> None:
        """Correct the role of a group's files."""
        self.model.correct(group.files, "role", role.value)

    def show_current(self, path: str) -> None:
        """Mark the card of the current exposure."""
        for card in self.findChildren(GroupCard):
            card.update()
