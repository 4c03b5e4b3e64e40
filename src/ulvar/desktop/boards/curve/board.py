"""Curve: what does the star do?"""

from __future__ import annotations

from collections.abc import Callable

from ulvar.desktop.boards.base import Board
from ulvar.desktop.boards.curve.light import LightPage
from ulvar.desktop.boards.curve.model import ModelPage
from ulvar.desktop.boards.curve.noise import NoisePage
from ulvar.desktop.boards.curve.period import PeriodPage
from ulvar.desktop.parts.plots import Plot
from ulvar.desktop.parts.widgets import empty_state
from ulvar.desktop.parts.zoomed import Sight
from ulvar.engine import counted

PAGES = (
    ("light", "Light curve", "The light, what its model leaves, and companions, on one axis"),
    ("model", "Model", "What the model tells with its errors, and its posterior beside them"),
    ("period", "Period", "Periods that the points know, and the light folded with one"),
    (
        "noise",
        "Noise",
        "Scatter of means over time beside that of independent points, and which trends the points ask for",
    ),
)
Page = LightPage | ModelPage | PeriodPage | NoisePage
_MAKERS: dict[str, type[Page]] = {"light": LightPage, "model": ModelPage, "period": PeriodPage, "noise": NoisePage}


class CurveBoard(Board):
    """Light curve, model, periods, noise."""

    width_hint = 656
    shows_curve = True

    def __init__(self, *arguments) -> None:  # type: ignore[no-untyped-def]
        self.page = "light"
        self.shown: Page | None = None
        # What is in sight of the axis stays while the board is built anew.
        self.sight: Sight = {}
        super().__init__(*arguments)

    @property
    def _plots(self) -> list[Plot]:
        return self.shown.plots if self.shown is not None else []

    def fill(self) -> None:
        """Build the page that is turned to."""
        result = self.model.curves.curve()
        self.shown = None
        self.title.setText("Light curve")
        self.count.setText("")
        if self.model.curves.series() is None:
            self.say_empty("No measurements yet.")
            return
        if result is None and self.model.curves.coming:
            self.body.addWidget(empty_state("The light curve is being made."))
            return
        if result is None:
            self.say_empty("The stars are measured.")
            return
        curve = result.curve
        self.title.setText(curve.name)
        self.count.setText(f"{self.model.series_name()}, {counted(int((~curve.left_out).sum()), 'point')}")
        self.page_buttons = self.add_pages(PAGES, self.page, self.turn_to)
        make: Callable[..., Page] = _MAKERS[self.page]
        self.shown = make(self, self.model, self.theme, self.command, self.sight)
        self.body.addWidget(self.shown, 1)

    def turn_to(self, page: str) -> None:
        """Show another page."""
        self.page = page
        self._stale = True
        if self.isVisible():
            self.rebuild()

    @property
    def together(self):  # type: ignore[no-untyped-def]
        """The switch for the field's other series; only where there are any."""
        assert isinstance(self.shown, LightPage)
        return self.shown.together

    @property
    def apart(self):  # type: ignore[no-untyped-def]
        """How far curves of other series stand apart."""
        assert isinstance(self.shown, LightPage)
        return self.shown.apart

    def show_current(self, path: str) -> None:
        """Draw the current exposure's line through every strip."""
        for plot in self._plots:
            plot.current = path
            there = [(p, p.places[path][0]) for p in plot.series if path in p.places] if path else []
            plot.marker = float(there[0][0].x[there[0][1]]) if there else None
            plot.update()
