"""The night as a movie: one exposure after the other, as fast as they can be shown and no faster than asked."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Protocol

from PySide6.QtCore import QObject, QTimer

from ulvar.frames import ExposureFacts


class Reel(Protocol):
    """What is played: exposures in an order, of which one is current."""

    current: str
    brushed: tuple[str, ...]

    def exposures(self) -> list[ExposureFacts]:
        """All there are."""

    def lights(self) -> list[ExposureFacts]:
        """Lights in the order of time."""

    def neighbours(self, steps: Iterable[int]) -> Sequence[str]:
        """Exposures so many steps from the current one."""

    def step(self, by: int) -> bool:
        """Go on by so many; False at the end."""

    def set_current(self, path: str) -> None:
        """Go to one."""


class Movie(QObject):
    """Steps through exposures; one that is not on screen yet is waited for.

    Parameters
    ----------
    parent : QObject
    reel : Reel
        The night's model.
    settled : callable
        Whether the exposure that was stepped to is on screen.
    say : callable
        Takes a sentence for the user.

    Attributes
    ----------
    speed : float
        Exposures a second.
    """

    def __init__(
        self, parent: QObject, reel: Reel, *, settled: Callable[[], bool], say: Callable[[str], object]
    ) -> None:
        super().__init__(parent)
        self._reel, self._settled, self._say = reel, settled, say
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
        if not self._reel.exposures():
            self._say("Open a folder first.")
            return
        if not self._reel.neighbours((1,)) and len(self._reel.brushed) < 2:
            self._reel.step(-1_000_000)
        self._timer.start(round(1000 / self.speed))
        self._say(f"{self.speed:.1f} exposures a second; ] faster, [ slower, M stops.")

    def stop(self) -> None:
        """Stop."""
        self._timer.stop()

    def change_speed(self, factor: float) -> None:
        """Play faster or slower, between one exposure in two seconds and thirty in one."""
        self.speed = min(max(self.speed * factor, 0.5), 30.0)
        if self.playing:
            self._timer.start(round(1000 / self.speed))
        self._say(f"{self.speed:.1f} exposures a second.")

    def _tick(self) -> None:
        reel = self._reel
        if not self._settled():
            return
        brushed = [f.path for f in reel.lights() if f.path in set(reel.brushed)]
        if len(brushed) > 1:
            # Selected exposures go round and round: two of them are a blink.
            place = brushed.index(reel.current) if reel.current in brushed else -1
            reel.set_current(brushed[(place + 1) % len(brushed)])
        elif not reel.step(1):
            self.stop()
