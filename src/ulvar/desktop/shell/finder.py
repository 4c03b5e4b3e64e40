"""The command finder: every action, star and exposure by a few letters."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import NamedTuple

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget


def matches(query: str, text: str) -> int | None:
    """Return how well a text answers a query (lower is better), or None.

    Every word of the query must occur; words at the start of a word count more, those that the text begins with most.
    """
    low = text.lower()
    total = 0
    for word in query.lower().split():
        starts = [0] if low.startswith(word) else [m.start() + 1 for m in re.finditer(f"[ ,-]{re.escape(word)}", low)]
        place = starts[0] if starts else low.find(word)
        if place < 0:
            return None
        total += (0 if starts else 10) + (place + 7) // 8
    return total


class Entry(NamedTuple):
    """Something that can be found: its words, its keys, what to do, and a sentence, which is searched too."""

    text: str
    keys: str
    run: Callable[[], object]
    tip: str = ""


# Words that only the sentence has count less than any of the text's.
_IN_TIP = 40


class Finder(QWidget):
    """A field with a list below it, over the window."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._over = parent
        self.setObjectName("finder")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.hide()
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 8, 8, 8)
        self.field = QLineEdit()
        self.field.setPlaceholderText("Find a command, a star, a place on the sky, an exposure")
        self.field.setAccessibleName("Find")
        self.field.setToolTip("A few letters of any command, star, series or exposure, or a place on the sky")
        self.field.textChanged.connect(self._filter)
        self.field.installEventFilter(self)
        self.list = QListWidget()
        self.list.setAccessibleName("What was found")
        self.list.setToolTip("Up and Down choose, Enter takes")
        self.list.setFrameShape(QListWidget.Shape.NoFrame)
        self.list.itemActivated.connect(self._take)
        self.list.itemClicked.connect(self._take)
        column.addWidget(self.field)
        column.addWidget(self.list, 1)
        self._known: Sequence[Entry] = ()
        self._entries: Sequence[Entry] = ()
        self._more: Callable[[str], Sequence[Entry]] = lambda _: ()

    def open(self, entries: Sequence[Entry], more: Callable[[str], Sequence[Entry]] = lambda _: ()) -> None:
        """Show the finder with (text, shortcut, what to do); `more` makes entries of what is typed."""
        self._known, self._more = entries, more
        room = self._over.width()
        width = min(520, room - 40)
        self.setGeometry((room - width) // 2, 64, width, 420)
        self.field.clear()
        self._filter("")
        self.show()
        self.raise_()
        self.field.setFocus()

    def _filter(self, query: str) -> None:
        self.list.clear()
        made = list(self._more(query))
        self._entries = [*made, *self._known]
        ranked = []
        for index, entry in enumerate(self._entries):
            score = -1 if index < len(made) else matches(query, entry.text)
            if score is None and entry.tip:
                within = matches(query, f"{entry.text} {entry.tip}")
                score = None if within is None else within + _IN_TIP
            if score is not None:
                ranked.append((score, index))
        for _, index in sorted(ranked)[:60]:
            entry = self._entries[index]
            item = QListWidgetItem(f"{entry.text}    {entry.keys}" if entry.keys else entry.text)
            item.setToolTip(entry.tip or entry.text)
            item.setData(Qt.ItemDataRole.UserRole, index)
            self.list.addItem(item)
        if not ranked:
            nothing = QListWidgetItem("Nothing is found. Coordinates such as 07:42:10.5 +41:18:03 work too.")
            nothing.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(nothing)
        self.list.setCurrentRow(0)

    def _take(self, item: QListWidgetItem | None) -> None:
        if item is None or item.data(Qt.ItemDataRole.UserRole) is None:
            return
        action = self._entries[item.data(Qt.ItemDataRole.UserRole)].run
        self.hide()
        action()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Arrow keys walk the list, Enter takes, Escape closes."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._take(self.list.currentItem())
                return True
            if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
                step = 1 if event.key() == Qt.Key.Key_Down else -1
                self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), self.list.count() - 1))
                return True
        return super().eventFilter(watched, event)
