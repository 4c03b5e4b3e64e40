"""A cursor for the keyboard on the picture: it goes where the mouse would, and presses what the mouse would press."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent

from ulvar.desktop.picture.canvas import Canvas
from ulvar.stars import StarTable

# Screen pixels a step.
_STEP = 10.0
_WAYS = {"left": (-1, 0), "right": (1, 0), "up": (0, -1), "down": (0, 1)}


class KeyCursor:
    """Moves over the picture by steps or from star to star.

    Where a line, a rectangle or a circle is to be drawn, the first press begins it and the second ends it.

    Parameters
    ----------
    canvas : Canvas
    stars : callable
        Returns the stars of the exposure on screen in the picture's pixels, or None.
    """

    def __init__(self, canvas: Canvas, stars: Callable[[], StarTable | None]) -> None:
        self._canvas, self._stars = canvas, stars
        self._drawing = False
        self._star = -1

    def do(self, word: str) -> str:
        """Carry a command out; returns what is to be said, as a rule nothing."""
        canvas = self._canvas
        if canvas.picture is None:
            return "There is no picture to point at."
        if word == "off":
            self.put_away()
        elif word == "press":
            return self._press_here()
        elif word in ("next star", "previous star"):
            return self._to_star(1 if word.startswith("next") else -1)
        else:
            way, _, fine = word.partition(" ")
            dx, dy = _WAYS[way]
            # The fine step is one pixel of the image, however large it is shown.
            step = canvas.sight.scale if fine else _STEP
            at = self._on_screen() or QPointF(canvas.width() / 2, canvas.height() / 2)
            self._go_to(at + QPointF(dx * step, dy * step))
        return ""

    @property
    def place(self) -> tuple[float, float] | None:
        """The image position that it points at; None while it is put away."""
        cursor = self._canvas.pointer
        return None if cursor is None else (cursor.x(), cursor.y())

    def put_away(self) -> None:
        """Show it no more."""
        self._drawing = False
        self._canvas.pointer = None
        self._canvas.update()

    def _on_screen(self) -> QPointF | None:
        place = self.place
        return None if place is None else self._canvas.sight.to_screen(*place)

    def _go_to(self, at: QPointF) -> None:
        """Point at a place of the widget; the picture follows beyond its edges."""
        canvas = self._canvas
        canvas.pointer = canvas.sight.to_image(at)
        inside = QPointF(min(max(at.x(), 20.0), canvas.width() - 20.0), min(max(at.y(), 20.0), canvas.height() - 20.0))
        if inside != at:
            canvas.look(canvas.sight.centre + canvas.pointer - canvas.sight.to_image(inside), canvas.sight.scale)
            canvas.moved.emit()
        self._send(QEvent.Type.MouseMove, pressed=self._drawing)
        canvas.update()

    def _to_star(self, by: int) -> str:
        """Point at the next star, from the brightest on."""
        table = self._stars()
        if table is None or not len(table):
            return "No stars are known in this exposure: score it first (Combine)."
        order = np.argsort(-table.flux, kind="stable")
        self._star = (self._star + by) % len(order) if self._canvas.pointer is not None else 0
        k = int(order[self._star])
        self._go_to(self._canvas.sight.to_screen(float(table.x[k]), float(table.y[k])))
        return ""

    def _press_here(self) -> str:
        canvas = self._canvas
        if canvas.pointer is None:
            return "Move the cursor first: Ctrl and an arrow, or E for the next star."
        if canvas.mode in ("pan", "polygon"):
            self._send(QEvent.Type.MouseButtonPress)
            self._send(QEvent.Type.MouseButtonRelease)
        elif not self._drawing:
            self._send(QEvent.Type.MouseButtonPress)
            self._drawing = True
        else:
            self._send(QEvent.Type.MouseButtonRelease)
            self._drawing = False
        return ""

    def _send(self, kind: QEvent.Type, *, pressed: bool = False) -> None:
        at = self._on_screen()
        assert at is not None
        canvas = self._canvas
        left, none = Qt.MouseButton.LeftButton, Qt.MouseButton.NoButton
        button = none if kind == QEvent.Type.MouseMove else left
        held = left if pressed or kind == QEvent.Type.MouseButtonPress else none
        event = QMouseEvent(kind, at, canvas.mapToGlobal(at), button, held, Qt.KeyboardModifier.NoModifier)
        handler = {
            QEvent.Type.MouseMove: canvas.mouseMoveEvent, QEvent.Type.MouseButtonPress: canvas.mousePressEvent,
            QEvent.Type.MouseButtonRelease: canvas.mouseReleaseEvent,
        }[kind]  # fmt: skip
        handler(event)
