"""The posterior of a light curve's model, drawn from in another thread."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QObject, Signal

from ulvar.desktop.work.background import Asker
from ulvar.engine import Failed, StopRequested, StopToken
from ulvar.flows import CurveResult, posterior_of
from ulvar.lightcurves import JointFit, LightCurve, Posterior


def _same(one: CurveResult, other: CurveResult) -> bool:
    """Whether two curves, one made again for some reason, are of equal points and models."""
    return one is other or (
        one.fit is not None
        and other.fit is not None
        and (one.fit.kind, one.fit.values) == (other.fit.kind, other.fit.values)
        and np.array_equal(one.curve.magnitude, other.curve.magnitude)
        and np.array_equal(one.curve.good, other.curve.good)
    )


class Sampling(QObject):
    """Draws from the posterior of one curve's model at a time.

    Attributes
    ----------
    changed : Signal
        Drawing began, or has ended.
    went_on : Signal
        Steps done, and how many there are at most.
    """

    changed = Signal()
    went_on = Signal(int, int)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._of: CurveResult | None = None
        self._found: Posterior | Failed | None = None
        self._stop: StopToken | None = None
        self._asker = Asker("posterior")
        self._asker.found.connect(self._arrived)

    @property
    def drawing(self) -> CurveResult | None:
        """The curve whose posterior is being drawn from, if any is."""
        return self._of if self._stop is not None else None

    def found(self, result: CurveResult) -> Posterior | Failed | None:
        """Return the posterior of a curve, why there is none, or None where it was not asked for."""
        return self._found if self.is_of(result) else None

    def is_of(self, result: object) -> bool:
        """Whether what is drawn, or was last, is of such a curve."""
        return isinstance(result, CurveResult) and self._of is not None and _same(result, self._of)

    def draw(self, result: CurveResult) -> bool:
        """Begin; whether it could: nothing else may be under way, and something must be fitted."""
        if self._stop is not None or result.fit is None:
            return False
        self._of, self._found, self._stop = result, None, StopToken()
        curve, fit, stop = result.curve, result.fit, self._stop
        self._asker.ask(result, lambda: self._drawn(curve, fit, stop))
        self.changed.emit()
        return True

    def stop(self) -> None:
        """End what is under way."""
        if self._stop is not None:
            self._stop.stop()

    def close(self) -> None:
        """End the thread."""
        self.stop()
        self._asker.close(wait=True)

    def _drawn(self, curve: LightCurve, fit: JointFit, stop: StopToken) -> Posterior | Failed:
        try:
            return posterior_of(curve, fit, stop=stop, progress=lambda done, total, _: self.went_on.emit(done, total))
        except StopRequested:
            return Failed("it was stopped")
        except ValueError as error:
            return Failed(str(error))

    def _arrived(self, _: object, found: object) -> None:
        self._stop = None
        self._found = found if isinstance(found, Posterior | Failed) else Failed(str(found))
        self.changed.emit()
