"""Small pieces that every region uses: labels by kind, hairlines, number fields, empty states, tables."""

from __future__ import annotations

import math
from collections.abc import Callable, Container, Sequence
from typing import Any, overload

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QObject, QPersistentModelIndex, Qt
from PySide6.QtGui import QFont, QFontMetrics, QPainter, QResizeEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QFrame,
    QHeaderView,
    QLabel,
    QPushButton,
    QSizePolicy,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from ulvar.desktop.parts.theme import Theme, font
from ulvar.engine import true_minus


def label(text: str, kind: str = "label", *, wrap: bool = False) -> QLabel:
    """Return a label of a kind of the style sheet."""
    result = QLabel(text)
    result.setProperty("kind", kind)
    result.setWordWrap(wrap)
    return result


def short_words(text: str, longest: int = 30) -> str:
    """Return text whose longest words, such as file names, are cut in the middle: what differs in them is seen."""
    half = (longest - 1) // 2
    return " ".join(
        f"{word[:half]}…{word[-half:]}" if len(word) > longest else word for word in text.split(" ")
    )  # fmt: skip


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
        press.setToolTip(f"{button}: {sentence[:1].lower()}{sentence[1:]}")
        press.clicked.connect(lambda: run())
        column.addSpacing(8)
        column.addWidget(press, 0, Qt.AlignmentFlag.AlignHCenter)
    column.addStretch(3)
    return place


class LazyRows(Sequence[Sequence[Any]]):
    """Rows whose texts are made when they come in sight; a table of thousands is filled at once.

    Parameters
    ----------
    make : callable
        Returns the texts of the row of a number.
    count : int
    """

    def __init__(self, make: Callable[[int], Sequence[Any]], count: int) -> None:
        self._make, self._count = make, count
        self._made: dict[int, Sequence[Any]] = {}

    def __len__(self) -> int:
        return self._count

    @overload
    def __getitem__(self, index: int) -> Sequence[Any]: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[Sequence[Any]]: ...
    def __getitem__(self, index: int | slice) -> Any:
        if isinstance(index, slice):
            return [self[i] for i in range(*index.indices(self._count))]
        if not 0 <= index < self._count:
            raise IndexError(index)
        if index not in self._made:
            self._made[index] = self._make(index)
        return self._made[index]


# A table asks for each of these thousands of times; as plain numbers they are compared ten times faster.
_TEXT, _ALIGNMENT, _COLOUR, _FONT, _TOOLTIP = (
    int(role)
    for role in (
        Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.TextAlignmentRole, Qt.ItemDataRole.ForegroundRole, Qt.ItemDataRole.FontRole,
        Qt.ItemDataRole.ToolTipRole,
    )
)  # fmt: skip
# Between a cell's edge and its text, as the headings have it [px].
_CELL_PAD = 6
_LEFT = int(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
_RIGHT = int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)


class Rows(QAbstractTableModel):
    """A table of prepared rows.

    Parameters
    ----------
    headers : sequence of str
        Unit in the second line.
    words : bool
        Cells hold words, not numbers: all are aligned left, and the tooltip has what is cut.
    left : container of int
        Columns that hold words among columns of numbers.
    """

    def __init__(
        self, headers: Sequence[str], parent: QObject | None = None, *, words: bool = False, left: Container[int] = (0,)
    ) -> None:
        super().__init__(parent)
        self._words, self._left = words, left
        self._headers = list(headers)
        self._rows: Sequence[Sequence[Any]] = []
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
        headers: Sequence[str] | None = None,
    ) -> None:
        """Replace all rows, and the headings if given; `marks` maps (row, column) to a colour token, `dim` rows are drawn soft."""
        self.beginResetModel()
        self._headers = list(headers or self._headers)
        self._rows, self._keys = rows, list(keys)
        self._marks, self._dim = marks or {}, dim or set()
        self.endResetModel()

    def widest(self, column: int, count: int, plain: QFontMetrics, bold: QFontMetrics) -> int:
        """Return the width of the widest text of a column's first rows [px]."""
        rows = self._rows[:count]
        return max(
            (
                (bold if (i, column) in self._marks else plain).horizontalAdvance(str(row[column]))
                for i, row in enumerate(rows)
            ),
            default=0,
        )

    def key(self, row: int) -> str:
        """Return a row's key."""
        return self._keys[row] if 0 <= row < len(self._keys) else ""

    def row_of(self, key: str) -> int:
        """Return the row of a key, or -1."""
        return self._keys.index(key) if key in self._keys else -1

    def rowCount(self, parent: QModelIndex | QPersistentModelIndex = QModelIndex()) -> int:  # noqa: B008
        """Rows."""
        return 0 if parent.isValid() else len(self._rows)

    def columnCount(self, parent: QModelIndex | QPersistentModelIndex = QModelIndex()) -> int:  # noqa: B008
        """Columns."""
        return 0 if parent.isValid() else len(self._headers)

    def data(self, index: QModelIndex | QPersistentModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Return a cell's text, alignment or colour."""
        row, column = index.row(), index.column()
        if role == _TEXT:
            return self._rows[row][column]
        if role == _ALIGNMENT:
            return _LEFT if column in self._left or self._words else _RIGHT
        if role == _TOOLTIP and self._words:
            return self._rows[row][column]
        if role == _COLOUR and self.theme is not None:
            mark = self._marks.get((row, column))
            if mark or row in self._dim:
                return self.theme.color(mark or "mute")
        if role == _FONT and (row, column) in self._marks:
            return QFont(font("value"))
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Return a column's name."""
        if orientation != Qt.Orientation.Horizontal:
            return None
        if role == _TEXT:
            return self._headers[section]
        return (_LEFT if section in self._left or self._words else _RIGHT) if role == _ALIGNMENT else None


class Cells(QStyledItemDelegate):
    """Paints the cells of `Rows`: text on a plain ground.

    A style sheet's general way of painting a cell takes four times as long, which a page of three hundred cells shows.
    """

    def __init__(self, rows: Rows, parent: QObject) -> None:
        super().__init__(parent)
        self._rows = rows

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        """Draw the text of a cell, cut in its middle where it has no room."""
        theme, rows = self._rows.theme, self._rows
        if theme is None:
            super().paint(painter, option, index)
            return
        box = option.rect  # type: ignore[attr-defined]
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)  # type: ignore[attr-defined]
        if chosen:
            painter.fillRect(box, theme.color("sel"))
        text = rows.data(index, _TEXT)
        if not text:
            return
        painter.setFont(rows.data(index, _FONT) or option.font)  # type: ignore[attr-defined]
        colour = None if chosen else rows.data(index, _COLOUR)
        painter.setPen(colour or theme.color("text"))
        room = box.adjusted(_CELL_PAD, 0, -_CELL_PAD, 0)
        metrics = painter.fontMetrics()
        if metrics.horizontalAdvance(text) > room.width():
            # Names of a night differ at their ends.
            text = metrics.elidedText(text, Qt.TextElideMode.ElideMiddle, room.width())
        painter.drawText(room, rows.data(index, _ALIGNMENT), text)


# Rows that say how wide a column is to be.
_FITTED_ROWS = 24


# The column that takes what is left has at least this much [px].
_LEAST_STRETCH = 56


class Table(QTableView):
    """A view of `Rows` whose columns are as wide as their headings and first texts, but one that takes what is left.

    Columns of `optional` give way, in that order, where not all have room: a number is never cut.
    """

    def __init__(self, rows: Rows, stretch: int, optional: Sequence[int] = ()) -> None:
        super().__init__()
        self._rows, self._stretch, self._optional = rows, stretch, optional
        self._natural: dict[int, int] = {}
        self.setModel(rows)
        self.setItemDelegate(Cells(rows, self))
        header = self.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        if not optional:
            header.setSectionResizeMode(stretch, QHeaderView.ResizeMode.Stretch)
        # A method, not a closure: a connection would keep that alive, and with it view and rows of every filling.
        rows.modelReset.connect(self.fit_columns)
        self.fit_columns()

    def fit_columns(self) -> None:
        """Find the widths; Qt's own way asks eight things of each cell.

        Once for each filling: left to the header, they are found anew at every change of the layout, and a table of a
        thousand rows would hold the window up.
        """
        # Filled before it is shown, it does not have its font yet.
        self.ensurePolished()
        plain, bold, header = self.fontMetrics(), QFontMetrics(font("value")), self.horizontalHeader()
        for column in range(self._rows.columnCount()):
            if header.isSectionHidden(column):
                # Hidden it has no size that could be asked for.
                header.setSectionHidden(column, False)
            self._natural[column] = header.sectionSizeHint(column)
            if column != self._stretch:
                text = self._rows.widest(column, _FITTED_ROWS, plain, bold) + 2 * _CELL_PAD + 1
                self._natural[column] = max(self._natural[column], text)
                header.resizeSection(column, self._natural[column])
        self._drop_columns()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Show as many columns as have room."""
        super().resizeEvent(event)
        self._drop_columns()

    def _drop_columns(self) -> None:
        if not self._optional:
            return
        header = self.horizontalHeader()
        wide = {**self._natural, self._stretch: max(self._natural.get(self._stretch, 0), _LEAST_STRETCH)}
        over = sum(wide.values()) - self.viewport().width()
        for column in self._optional:
            header.setSectionHidden(column, over > 0)
            over -= wide[column] if over > 0 else 0
        # Qt's own stretching does not follow columns that come and go.
        header.resizeSection(self._stretch, max(wide[self._stretch] - over, _LEAST_STRETCH))


def table(
    model: Rows, name: str, *, on_row: Callable[[str], None] | None = None, stretch: int = 0, tip: str = "",
    optional: Sequence[int] = (),
) -> QTableView:  # fmt: skip
    """Return a plain table without grid or zebra; the current row's key goes to `on_row`.

    `name` says what it lists, to those who cannot see it too; `tip` what a click does; columns of `optional` give way
    where there is no room for all.
    """
    view = Table(model, stretch, optional)
    view.setAccessibleName(name)
    view.setToolTip(tip or (f"{name}: a row goes to its exposure" if on_row is not None else name))
    view.setShowGrid(False)
    view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    view.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
    view.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    view.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    view.setTabKeyNavigation(False)
    view.verticalHeader().hide()
    view.verticalHeader().setDefaultSectionSize(24)
    view.horizontalHeader().setHighlightSections(False)
    if on_row is not None:
        view.selectionModel().currentRowChanged.connect(
            lambda now, _: on_row(model.key(now.row())) if now.isValid() else None
        )
    return view


def decimals_of(value: float, most: int = 4) -> int:
    """Return how many decimals a number is told with, so that a field shows it as it is."""
    return len(f"{value:.{most}f}".rstrip("0").partition(".")[2])


def decimals_for(error: float) -> int:
    """Return how many decimals a number has whose error shows two digits; between 3 and 7."""
    if not (math.isfinite(error) and error > 0):
        return 5
    return min(max(1 - math.floor(math.log10(error)), 3), 7)


def number(value: Any, decimals: int) -> str:
    """Return a number as tables show it: equal decimals, a true minus, thin spaces, a dash when unknown."""
    if value is None or value != value:
        return "–"
    rounded = round(float(value), decimals) + 0.0  # no negative zero
    return true_minus(f"{rounded:,.{decimals}f}".replace(",", "\u2009"))
