"""What is watched at a window of a test: what has no room, what is shown without a place, what lives on after its end."""

from __future__ import annotations

import gc
import multiprocessing
import threading
import time
from unittest import TestCase, mock

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QLabel,
    QLineEdit,
    QPushButton,
    QTableView,
    QToolButton,
    QWidget,
)
from shiboken6 import isValid
from tools.warm import WarmPools

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


def watch_loose_widgets(test: TestCase, wrong: list[str]) -> None:
    """A part that is shown before it has a place is a window of its own for a moment, and takes the keyboard: tell `wrong`."""
    real = QWidget.setVisible

    def seen(widget: QWidget, on: bool) -> None:
        if (
            on
            and widget.parentWidget() is None
            and not widget.windowFlags() & Qt.WindowType.Popup & ~Qt.WindowType.Window
        ):
            wrong.append(f"{type(widget).__name__} {getattr(widget, 'text', str)()!r} is shown without a place")
        real(widget, on)

    watch = mock.patch.object(QWidget, "setVisible", seen)
    watch.start()
    test.addCleanup(watch.stop)


def nothing_lives(test: TestCase, before: set[threading.Thread]) -> None:
    """Fail a test whose closed window leaves a thread, a worker process or a ticking timer behind."""

    def living() -> list[object]:
        timers = [o for o in gc.get_objects() if type(o) is QTimer and isValid(o) and o.isActive()]
        warm = WarmPools.all_of_it()
        threads = {t for t in threading.enumerate() if t not in before and t not in warm}
        return [*threads, *(p for p in multiprocessing.active_children() if p not in warm), *timers]

    end = time.monotonic() + 10.0
    while left := living():
        if time.monotonic() > end:
            test.fail(f"still there after the window was closed: {left}")
        QApplication.processEvents()
        time.sleep(0.02)
