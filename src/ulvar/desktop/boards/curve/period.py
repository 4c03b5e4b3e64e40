"""Curve, page Period: what periods the points know, and the light folded with one."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QWidget

from ulvar.desktop.dialogs.periods import PeriodView
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.zoomed import Sight
from ulvar.lightcurves import LightCurve


class PeriodPage(PeriodView):
    """Periods of the series' light curve; a click on a point goes to its exposure."""

    def __init__(
        self, parent: QWidget, model: Model, theme: Theme, command: Callable[[str], object], sight: Sight
    ) -> None:
        def keys(curve: LightCurve) -> list[str]:
            names = {file: raw for raw, file in model.numbers.measured_names().items()}
            return [names.get(file, "") for file in curve.files]

        super().__init__(parent, model.curves, theme, keys, model.set_current)
