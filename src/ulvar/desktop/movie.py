"""The night as a movie: one exposure after the other, as fast as they can be shown and no faster than asked."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer

if TYPE_CHECKING:
    from ulvar.desktop.window import MainWindow


class Movie(QObject):
    """Steps the model; an exposure that is not on screen yet is waited for.

    Attributes
    ----------
    speed : float
        Exposures a second.
    """

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window)
        self._window = window
        self.speed = 5.0
        self._timer = QTimer(self)
        self._timer.timeout.connect(self._tick)

    @property
    def playing(self) -> bool:
        """Whether it runs."""
        return self._timer.isActive()

    def toggle(self) -> None:
        """Start or stop; at the end of the night it starts from its beginning."""
        if self.playing:
            self.stop()
            return
        model = self._window.model
        if not model.exposures():
            model.message.emit("Open a folder first.")
            return
        if not model.neighbours((1,)) and len(model.brushed) < 2:
            model.step(-1_000_000)
        self._timer.start(round(1000 / self.speed))
        model.message.emit(f"{self.speed:.1f} exposures a second; ] faster, [ slower, M stops.")

    def stop(self) -> None:
        """Stop."""
        self._timer.stop()

    def change_speed(self, factor: float) -> None:
        """Play faster or slower, between one exposure in two seconds and thirty in one."""
        self.speed = min(max(self.speed * factor, 0.5), 30.0)
        if self.playing:
            self._timer.start(round(1000 / self.speed))
        self._window.model.message.emit(f"{self.speed:.1f} exposures a second.")

    def _tick(self) -> None:
        model = self._window.model
        if not self._window.sky.settled:
            return
        brushed = [f.path for f in model.lights() if f.path in set(model.brushed)]
        if len(brushed) > 1:
            # Selected exposures go round and round: two of them are a blink.
            place = brushed.index(model.current) if model.current in brushed else -1
            model.set_current(brushed[(place + 1) % len(brushed)])
        elif not model.step(1):
            self.stop()
