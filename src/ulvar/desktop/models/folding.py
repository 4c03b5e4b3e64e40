"""Light curves that are folded: a period that is looked for in another thread, or typed."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QObject, Signal

from ulvar.desktop.work.background import Asker
from ulvar.engine import Failed
from ulvar.flows import CurveResult
from ulvar.lightcurves import PeriodResult, find_period


class Folding(QObject):
    """What folds a light curve.

    Attributes
    ----------
    changed : Signal
        Something that was being worked out is there, or is looked at otherwise.
    fold : (float, float) or None
        What the curve is folded with: period and moment of phase 0 [d].
    found : PeriodResult, Failed or None
    searching : bool
    method : str
        How a period was looked for last: `sine`, `phase` or `box`.
    """

    changed = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.fold: tuple[float, float] | None = None
        self.found: PeriodResult | Failed | None = None
        self.searching = False
        self.method = "sine"
        self._searcher = Asker("period")
        self._searcher.found.connect(self._searched)

    def curve(self) -> CurveResult | None:
        """The light curve; None where there is none."""
        raise NotImplementedError

    def _order(self) -> object:
        """What an answer has to be of, to count."""
        raise NotImplementedError

    def unfold(self) -> None:
        """Forget periods: the curve is another."""
        self.fold, self.found = None, None

    def close(self) -> None:
        """End the thread."""
        self._searcher.close(wait=True)

    def search(self, shortest_d: float, longest_d: float, method: str) -> bool:
        """Look for a period in another thread, in the points without trends; `changed` tells when it is there."""
        result = self.curve()
        if result is None or self.searching:
            return False
        good = result.curve.good
        curve = result.curve
        values = curve.magnitude[good]
        if result.fit is not None:
            values = values - result.fit.trend_mag
        time, error = curve.time[good], curve.magnitude_error[good]
        self.searching, self.found, self.method = True, None, method
        self._searcher.ask(
            self._order(),
            lambda: find_period(time, values, error, shortest_d=shortest_d, longest_d=longest_d, method=method),
        )
        self.changed.emit()
        return True

    def _searched(self, order: object, found: object) -> None:
        self.searching = False
        if order != self._order():
            return
        if isinstance(found, PeriodResult | Failed):
            self.found = found
        else:
            self.found = Failed(str(found))
        if isinstance(found, PeriodResult):
            # Folded at once, the faintest point at the middle.
            self.fold_with(found.period_d)
        self.changed.emit()

    def fold_with(self, period_d: float) -> None:
        """Fold with a period, the faintest place of a model or of the points at phase 0."""
        result = self.curve()
        if result is None or not period_d > 0:
            return
        fit = result.fit
        names = [
            name for name in ("mid", "minimum") if fit is not None and math.isfinite(fit.values.get(name, math.nan))
        ]
        if fit is not None and names:
            epoch = fit.values[names[0]]
        else:
            good = np.flatnonzero(result.curve.good)
            epoch = float(result.curve.time[good[np.argmax(result.curve.magnitude[good])]]) if len(good) else 0.0
        self.fold = (period_d, epoch)
