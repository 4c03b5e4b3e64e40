"""What of a window's words and numbers has no room."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QAbstractSpinBox, QComboBox, QLabel, QLineEdit, QPushButton, QTableView, QToolButton, QWidget

from ulvar.desktop.parts.widgets import ElidedLabel, Rows


def inside(widget: QWidget, window: QWidget) -> bool:
    """Whether a widget that is not in a scrolled part lies within the window."""
    corner = widget.mapTo(window, widget.rect().topLeft())
    return corner.x() >= 0 and corner.x() + widget.width() <= window.width()


def cut_cells(view: QTableView) -> list[str]:
    """Return numbers of a table, and headings, that have no room, and columns beyond its edge."""
    rows, found = view.model(), []
    metrics = view.fontMetrics()
    for column in range(rows.columnCount()):
        if view.isColumnHidden(column):
            continue
        head = str(rows.headerData(column, Qt.Orientation.Horizontal) or "")
        room = view.columnWidth(column) - 12
        texts = [str(rows.index(row, column).data() or "") for row in range(min(12, rows.rowCount()))] if column else []
        for text in [*head.split("\n"), *texts]:
            if metrics.horizontalAdvance(text) > room + 1:
                found.append(f"{view.accessibleName()}: '{text}' {metrics.horizontalAdvance(text)} > {room}")
        if view.columnViewportPosition(column) + view.columnWidth(column) > view.viewport().width() + 1:
            found.append(f"{view.accessibleName()}: column '{head}' is beyond the edge")
    return found


def cut(window: QWidget) -> list[str]:
    """Return what of the window's words and numbers has no room."""
    found = []
    for widget in window.findChildren(QWidget):
        if not widget.isVisible():
            continue
        text, room = "", 0
        metrics = widget.fontMetrics()
        if isinstance(widget, QPushButton | QToolButton) and widget.text():
            text, room = widget.text().replace("&", ""), widget.width() - 4
            # With the margins of its frame.
            if widget.width() < widget.sizeHint().width():
                found.append(f"{type(widget).__name__} '{text}' {widget.width()} < {widget.sizeHint().width()}")
        elif isinstance(widget, QLabel) and not isinstance(widget, ElidedLabel) and not widget.wordWrap():
            text, room = widget.text(), widget.width()
        elif isinstance(widget, QAbstractSpinBox):
            line = widget.findChild(QLineEdit)
            text, room = widget.text(), (line.width() if line is not None else widget.width()) - 5
        elif isinstance(widget, QComboBox):
            text, room = widget.currentText(), widget.width() - 30
        elif isinstance(widget, QTableView) and isinstance(widget.model(), Rows):
            found += cut_cells(widget)
        wide = max((metrics.horizontalAdvance(part) for part in text.split("\n")), default=0)
        if wide > room + 1:
            found.append(f"{type(widget).__name__} '{text}' {wide} > {room}")
        elif text and not inside(widget, window):
            found.append(f"{type(widget).__name__} '{text}' is beyond the window")
    return found
