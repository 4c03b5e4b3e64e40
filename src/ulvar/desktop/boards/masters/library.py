"""The library as a map: gain and temperature by exposure (gain by filter for flats), its age, what is missing."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QContextMenuEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QMenu, QWidget

from ulvar.calibration import Candidate
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.theme import Theme, font
from ulvar.desktop.parts.widgets import number
from ulvar.engine import counted
from ulvar.flows import PREFIX
from ulvar.frames import ExposureFacts, Role

KINDS = (Role.BIAS, Role.DARK, Role.FLAT, Role.DARK_FLAT)
_ROW = 26


@dataclass(frozen=True)
class Cell:
    """One field of the map."""

    row: tuple[float, float]
    column: str
    count: int
    age_d: float | None
    used: bool
    missing: bool
    candidate: Candidate | None
    path: str


_UNKNOWN = -999.0


def place(kind: Role, facts: ExposureFacts) -> tuple[tuple[float, float], str]:
    """Return the row (gain, temperature; for flats the gain alone) and the column (exposure, or filter) of a master."""
    temperature = facts.sensor_temperature_c
    gain = _UNKNOWN if facts.gain is None else facts.gain
    if kind is Role.FLAT:
        return (gain, 0.0), facts.filter or "none"
    row = (gain, _UNKNOWN if temperature is None else float(round(temperature)))
    if kind is Role.BIAS:
        return row, "bias"
    return row, "?" if facts.exposure_s is None else f"{facts.exposure_s:g} s"


def map_cells(model: Model, kind: Role) -> list[Cell]:
    """Return the map's fields of one kind: the night's own sets, the library, and what lights wait for."""
    if model.night is None:
        return []
    lights = model.lights()
    now = next((f.start_utc for f in lights if f.start_utc), None)
    used = {
        id(choice.candidate)
        for _, match in model.matching.matches()
        for choice in match.choices
        if choice.candidate is not None
    }
    used_keys = {c.candidate.key for _, m in model.matching.matches() for c in m.choices if c.candidate is not None}
    found = []
    for candidate, path in model.matching.pool():
        facts = candidate.facts
        if candidate.kind is not kind:
            continue
        age = abs((facts.start_utc - now).total_seconds()) / 86400 if facts.start_utc and now else None
        row, column = place(kind, facts)
        is_used = id(candidate) in used or candidate.key in used_keys
        found.append(Cell(row, column, candidate.count, age, is_used, False, candidate, path))
    for shot in model.matching.shots():
        if shot.kind is kind:
            asked = ExposureFacts(
                "", filter=shot.filter, exposure_s=shot.exposure_s, gain=shot.gain, temperature_c=shot.temperature_c
            )
            row, column = place(kind, asked)
            if not any((c.row, c.column) == (row, column) for c in found):
                found.append(Cell(row, column, shot.count, None, False, True, None, ""))
    return found


def _column_order(name: str) -> tuple[int, float, str]:
    digits = name.removeprefix("gain ").removesuffix(" s")
    try:
        return 0, float(digits), name
    except ValueError:
        return 1, 0.0, name


class LibraryMap(QWidget):
    """Draws the cells; a click shows the master, a right click offers to retire it."""

    def __init__(self, model: Model, theme: Theme, kind: Role, show: Callable[[str, str], None]) -> None:
        super().__init__()
        self._model, self.theme, self.kind, self._show = model, theme, kind, show
        self.cells = map_cells(model, kind)
        self.rows = sorted({c.row for c in self.cells}, reverse=True)
        self.columns = sorted({c.column for c in self.cells}, key=_column_order)
        self.several_gains = len({row[0] for row in self.rows}) > 1
        # Several masters of one place: the newest is on top, the number of the others stands beside it.
        self._stacked: dict[tuple[tuple[float, float], str], list[Cell]] = {}
        for cell in self.cells:
            self._stacked.setdefault((cell.row, cell.column), []).append(cell)
        for members in self._stacked.values():
            members.sort(key=lambda c: (not c.used, c.age_d if c.age_d is not None else 1e9))
        self.setMinimumHeight(_ROW * (len(self.rows) + 1) + 26)
        self.setMouseTracking(True)
        self.setAccessibleName(f"Library of {kind.plural.lower()}")

    def _row_text(self, row: tuple[float, float]) -> str:
        gain, temperature = ("?" if value == _UNKNOWN else number(value, 0) for value in row)
        if self.kind is Role.FLAT:
            return gain
        return f"{gain}  {temperature}" if self.several_gains else temperature

    def _box(self, row: int, column: int) -> QRectF:
        width = min(118.0, (self.width() - 66) / max(1, len(self.columns)))
        return QRectF(64 + column * width, 20 + row * _ROW, width - 4, _ROW - 4)

    def at(self, x: float, y: float) -> Cell | None:
        """Return the cell under a point."""
        for (row, column), members in self._stacked.items():
            if self._box(self.rows.index(row), self.columns.index(column)).contains(x, y):
                return members[0]
        return None

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw axes, cells and the legend."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = self.theme
        painter.setFont(font("unit"))
        painter.setPen(t.color("mute"))
        if not self.cells:
            painter.drawText(QRectF(0, 4, self.width(), 20), f"No {self.kind.plural.lower()} here or in the library.")
            return
        unit = "gain" if self.kind is Role.FLAT else "gain  °C" if self.several_gains else "°C"
        painter.drawText(QRectF(0, 0, 54, 16), Qt.AlignmentFlag.AlignRight, unit)
        for i, name in enumerate(self.columns):
            painter.drawText(self._box(-1, i).adjusted(0, 6, 0, 6), Qt.AlignmentFlag.AlignCenter, name)
        for j, row in enumerate(self.rows):
            text = self._row_text(row)
            painter.setPen(t.color("soft"))
            middle = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            painter.drawText(QRectF(0, self._box(j, 0).top(), 54, _ROW - 4), middle, text)
            for i in range(len(self.columns)):
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(t.color("plot"))
                painter.drawRoundedRect(self._box(j, i), 3, 3)
        for (row, column), members in self._stacked.items():
            self._cell(painter, self._box(self.rows.index(row), self.columns.index(column)), members)
        self._legend(painter, 20 + _ROW * len(self.rows) + 4)

    def _cell(self, painter: QPainter, box: QRectF, members: list[Cell]) -> None:
        t, cell = self.theme, members[0]
        if cell.missing:
            painter.setPen(QPen(t.color("block"), 1, Qt.PenStyle.DashLine))
            painter.setBrush(t.color("block", 0.12))
            painter.drawRoundedRect(box, 3, 3)
            painter.setFont(font("value"))
            painter.setPen(t.color("block"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, "missing")
            return
        fill = QColor(t.color("comparison"))
        age = 0.0 if cell.age_d is None else cell.age_d
        fill.setAlphaF(0.20 + 0.35 / (1 + age / 40))
        painter.setPen(QPen(t.color("cur"), 1.6) if cell.used else Qt.PenStyle.NoPen)
        painter.setBrush(fill)
        painter.drawRoundedRect(box.adjusted(1, 1, -1, -1), 3, 3)
        painter.setFont(font("value"))
        painter.setPen(t.color("text"))
        inside = box.adjusted(8, 0, -8, 0)
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        count = f"{cell.count}" + (f" +{len(members) - 1}" if len(members) > 1 else "")
        painter.drawText(inside, left, count)
        painter.setFont(font("unit"))
        painter.setPen(t.color("soft"))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        painter.drawText(inside, right, "" if cell.age_d is None else f"{cell.age_d:.0f} d")

    def _legend(self, painter: QPainter, y: float) -> None:
        t = self.theme
        x = 64.0
        painter.setFont(font("unit"))
        for kind, words in (("age", "frames, age"), ("used", "used tonight"), ("missing", "needed, not there")):
            box = QRectF(x, y + 3, 11, 11)
            if kind == "age":
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(t.color("comparison", 0.55))
            else:
                style = Qt.PenStyle.DashLine if kind == "missing" else Qt.PenStyle.SolidLine
                painter.setPen(QPen(t.color("block" if kind == "missing" else "cur"), 1.4, style))
                painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(box, 2, 2)
            painter.setPen(t.color("mute"))
            painter.drawText(QRectF(x + 17, y, 130, 17), Qt.AlignmentFlag.AlignVCenter, words)
            x += 30 + painter.fontMetrics().horizontalAdvance(words)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Show the master, or the first frame of the set."""
        cell = self.at(event.position().x(), event.position().y())
        if cell is None or cell.candidate is None:
            return
        if cell.path:
            self._show(cell.path, cell.candidate.facts.stem)
        else:
            self._model.set_current(cell.candidate.facts.path)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Name what is under the cursor."""
        cell = self.at(event.position().x(), event.position().y())
        if cell is None:
            self.setToolTip("")
        elif cell.candidate is None:
            self.setToolTip("Lights wait for these; they are on the shooting list")
        else:
            where = "in the library" if cell.candidate.key.startswith(PREFIX) else "of this night"
            self.setToolTip(
                f"{cell.candidate.facts.stem}, {counted(cell.count, 'frame')}, {where}. Right-click for more."
            )

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """Offer to retire a master of the library, and to take retired ones back."""
        self.menu_at(event.pos().x(), event.pos().y()).exec(event.globalPos())

    def menu_at(self, x: float, y: float) -> QMenu:
        """Return the menu of a place on the map."""
        menu = QMenu(self)
        cell = self.at(x, y)
        if cell is not None and cell.candidate is not None and cell.candidate.key.startswith(PREFIX):
            name = cell.candidate.key.removeprefix(PREFIX)
            menu.addAction("Retire this master", lambda: self.retire(name))
        library = self._model.matching.library()
        retired = [e for e in library.entries(retired=True) if e.retired] if library is not None else []
        for entry in retired:
            if entry.facts.role is self.kind:
                menu.addAction(f"Use again: {entry.name}", lambda n=entry.name: self.take_back(n))
        if menu.isEmpty():
            menu.addAction("Nothing of the library here").setEnabled(False)
        return menu

    def take_back(self, name: str) -> None:
        """Take a retired master into use again."""
        library = self._model.matching.library()
        if library is not None:
            library.retire([name], retired=False)
            self._model.matching.library_changed()

    def retire(self, name: str) -> None:
        """Take a master out of use; its file stays."""
        library = self._model.matching.library()
        if library is not None:
            library.retire([name])
            self._model.matching.library_changed()
            self._model.message.emit(f"{name} is retired: kept, and used no more.")
