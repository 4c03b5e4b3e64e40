"""Small pieces that every region uses: labels by kind, hairlines, number fields, empty states, tables."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QObject, Qt
from PySide6.QtGui import QFont, QResizeEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QFrame,
    QHeaderView,
    QLabel,
    QPushButton,
    QSizePolicy,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from ulvar.desktop.theme import Theme, font


def label(text: str, kind: str = "label", *, wrap: bool = False) -> QLabel:
    """Return a label of a kind of the style sheet."""
    result = QLabel(text)
    result.setProperty("kind", kind)
    result.setWordWrap(wrap)
    return result


class ElidedLabel(QLabel):
    """A label that gives way: what does not fit ends in dots, and the tooltip has the whole."""

    def __init__(self, kind: str = "label") -> None:
        super().__init__("")
        self.setProperty("kind", kind)
        # Without this it would hold its surroundings wide.
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.words = ""

    def set_words(self, words: str) -> None:
        """Show another text."""
        self.words = words
        self.setToolTip(words)
        self._fit()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Fit the text anew."""
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        self.setText(self.fontMetrics().elidedText(self.words, Qt.TextElideMode.ElideRight, max(0, self.width() - 2)))


def hairline() -> QFrame:
    """Return a thin line between sections."""
    line = QFrame()
    line.setObjectName("hairline")
    line.setFixedHeight(1)
    return line


def clear(layout: Any) -> None:
    """Remove everything from a layout."""
    while layout.count():
        item = layout.takeAt(0)
        if item.widget() is not None:
            item.widget().hide()
            item.widget().deleteLater()
        elif item.layout() is not None:
            clear(item.layout())


def empty_state(sentence: str, button: str = "", run: Callable[[], object] | None = None) -> QWidget:
    """Return one sentence and one button in the middle of a board."""
    place = QWidget()
    column = QVBoxLayout(place)
    column.setContentsMargins(24, 24, 24, 24)
    column.addStretch(2)
    words = label(sentence, wrap=True)
    words.setAlignment(Qt.AlignmentFlag.AlignCenter)
    column.addWidget(words)
    if button and run is not None:
        press = QPushButton(button)
        press.clicked.connect(lambda: run())
        column.addSpacing(8)
        column.addWidget(press, 0, Qt.AlignmentFlag.AlignHCenter)
    column.addStretch(3)
    return place


class Rows(QAbstractTableModel):
    """A table of prepared rows.

    Parameters
    ----------
    headers : sequence of str
        Unit in the second line.
    """

    def __init__(self, headers: Sequence[str], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._headers = list(headers)
        self._rows: list[Sequence[Any]] = []
        self._keys: list[str] = []
        self._marks: dict[tuple[int, int], Any] = {}
        self._dim: set[int] = set()
        self.theme: Theme | None = None

    def fill(
        self,
        rows: Sequence[Sequence[Any]],
        keys: Sequence[str],
        marks: dict[tuple[int, int], str] | None = None,
        dim: set[int] | None = None,
    ) -> None:
        """Replace all rows; `marks` maps (row, column) to a colour token, `dim` rows are drawn soft."""
        self.beginResetModel()
        self._rows, self._keys = list(rows), list(keys)
        self._marks, self._dim = marks or {}, dim or set()
        self.endResetModel()

    def set_headers(self, headers: Sequence[str]) -> None:
        """Replace the headings."""
        self._headers = list(headers)
        self.headerDataChanged.emit(Qt.Orientation.Horizontal, 0, len(headers) - 1)

    def key(self, row: int) -> str:
        """Return a row's key."""
        return self._keys[row] if 0 <= row < len(self._keys) else ""

    def row_of(self, key: str) -> int:
        """Return the row of a key, or -1."""
        return self._keys.index(key) if key in self._keys else -1

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        """Rows."""
        return 0 if parent.isValid() else len(self._rows)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        """Columns."""
        return 0 if parent.isValid() else len(self._headers)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Return a cell's text, alignment or colour."""
        value = self._rows[index.row()][index.column()]
        if role == Qt.ItemDataRole.DisplayRole:
            return value
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignLeft if index.column() == 0 else Qt.AlignmentFlag.AlignRight
            return int(side | Qt.AlignmentFlag.AlignVCenter)
        mark = self._marks.get((index.row(), index.column()))
        if role == Qt.ItemDataRole.ForegroundRole and self.theme is not None:
            if mark:
                return self.theme.color(mark)
            if index.row() in self._dim:
                return self.theme.color("mute")
        if role == Qt.ItemDataRole.FontRole and mark:
            return QFont(font("value"))
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Return a column's name."""
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return self._headers[section]
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignLeft if section == 0 else Qt.AlignmentFlag.AlignRight
            return int(side | Qt.AlignmentFlag.AlignVCenter)
        return None


def table(model: Rows, *, on_row: Callable[[str], None] | None = None, stretch: int = 0) -> QTableView:
    """Return a plain table without grid or zebra; the current row's key goes to `on_row`."""
    view = QTableView()
    view.setModel(model)
    view.setShowGrid(False)
    view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    view.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
    view.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    view.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    view.setTabKeyNavigation(False)
    view.verticalHeader().hide()
    view.verticalHeader().setDefaultSectionSize(24)
    view.horizontalHeader().setHighlightSections(False)
    # Widths go by the first rows and are found once for each filling: left to the header, they are found anew at every
    # change of the layout, and a table of a thousand rows would hold the window up.
    header = view.horizontalHeader()
    header.setResizeContentsPrecision(24)
    header.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
    header.setSectionResizeMode(stretch, QHeaderView.ResizeMode.Stretch)
    view.resizeColumnsToContents()
    model.modelReset.connect(view.resizeColumnsToContents)
    model.headerDataChanged.connect(view.resizeColumnsToContents)
    if on_row is not None:
        view.selectionModel().currentRowChanged.connect(
            lambda now, _: on_row(model.key(now.row())) if now.isValid() else None
        )
    return view


def number(value: Any, decimals: int) -> str:
    """Return a number as tables show it: equal decimals, a true minus, thin spaces, a dash when unknown."""
    if value is None or value != value:
        return "–"
    rounded = round(float(value), decimals) + 0.0  # no negative zero
    return f"{rounded:,.{decimals}f}".replace(",", "\u2009").replace("-", "−")
