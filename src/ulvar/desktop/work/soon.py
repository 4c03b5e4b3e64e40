"""Work for the event loop's next turn."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer


class Soon(QTimer):
    """Calls something in the loop's next turn, once however often it was asked for.

    A click that is followed by much filling and painting is answered in several turns: what the eye looks at first,
    then the rest. Other clicks can come between.
    """

    def __init__(self, parent: QObject, call: Callable[[], object]) -> None:
        super().__init__(parent)
        self.setSingleShot(True)
        self.setInterval(0)
        self.timeout.connect(call)

    def ask(self, *_: object) -> None:
        """Call it soon; made for signals, whatever they carry."""
        self.start()
