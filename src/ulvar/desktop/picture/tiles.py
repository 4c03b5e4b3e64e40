"""Exposures side by side: up to three more canvases beside the main one, with linked place and zoom."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QObject, QPointF
from PySide6.QtWidgets import QGridLayout, QWidget

from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.picture.canvas import Canvas
from ulvar.desktop.picture.pictures import Picture
from ulvar.desktop.picture.stretch import Stretch, auto_stretch


class Tiles(QObject):
    """Keeps the canvases of a grid on the same place of the picture.

    Parameters
    ----------
    main : Canvas
        The one that shows the current exposure.
    theme : Theme
    """

    def __init__(self, main: Canvas, theme: Theme) -> None:
        super().__init__(main)
        self.main = main
        self.place = QWidget()
        self._grid = QGridLayout(self.place)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setSpacing(1)
        self._grid.addWidget(main, 0, 0)
        self.others: list[Canvas] = []
        self.wanted: list[str] = []
        for _ in range(3):
            canvas = Canvas(theme)
            # Without a parent it would show up as a window of its own.
            canvas.setParent(self.place)
            canvas.hide()
            self.others.append(canvas)
        self._linking = False
        # Whether all are shown with the main one's levels.
        self.same_levels = False
        for canvas in (main, *self.others):
            canvas.zoomed.connect(lambda c=canvas: self._follow(c))
            canvas.moved.connect(lambda c=canvas: self._follow(c))

    def ask(self, names: list[str], titles: list[str]) -> None:
        """Show these pictures beside the main one, up to three; none puts the others away."""
        self.wanted = names[:3]
        # Two stand below each other where the place is higher than wide.
        tall = self.place.width() < 1.15 * self.place.height()
        for k, canvas in enumerate(self.others):
            here = k < len(self.wanted)
            self._grid.removeWidget(canvas)
            if here:
                row, column = (1, 0) if len(self.wanted) == 1 and tall else ((k + 1) // 2, (k + 1) % 2)
                self._grid.addWidget(canvas, row, column)
                canvas.title = titles[k]
            else:
                canvas.set_picture(None)
            canvas.setVisible(here)

    def arrived(self, name: str, result: object) -> None:
        """Take a picture that was asked for."""
        for canvas, wanted in zip(self.others, self.wanted):
            if wanted != name:
                continue
            if isinstance(result, Picture):
                canvas.stretch = self._stretch_for(result)
                canvas.fitted = False
                canvas.set_picture(result)
                self._follow(self.main)
            else:
                canvas.set_picture(None, str(result))

    def restretch(self) -> None:
        """Take over the main canvas's stretch and turn."""
        for canvas in self.others:
            if canvas.picture is not None:
                canvas.stretch = self._stretch_for(canvas.picture)
            canvas.turn(self.main.sight.turn_deg, self.main.sight.mirrored)

    def _stretch_for(self, picture: Picture) -> Stretch:
        """The main one's stretch, with levels of the picture's own unless the user keeps them."""
        main = self.main.stretch
        return main if self.same_levels else auto_stretch(picture.sample, replace(main, knee=None))

    def set_theme(self, theme: Theme) -> None:
        """Take another theme."""
        for canvas in self.others:
            canvas.theme = theme

    def _follow(self, leader: Canvas) -> None:
        if self._linking or not self.wanted:
            return
        self._linking = True
        for canvas in (self.main, *self.others):
            if canvas is not leader and canvas.picture is not None:
                if leader.fitted:
                    canvas.fit()
                else:
                    canvas.look(QPointF(leader.sight.centre), leader.sight.scale)
        self._linking = False
