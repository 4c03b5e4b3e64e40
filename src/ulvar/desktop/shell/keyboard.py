"""Where the keyboard is: with the picture, unless somebody types into a field or walks through with Tab."""

from __future__ import annotations

from PySide6.QtCore import QObject, Qt
from PySide6.QtWidgets import QAbstractButton, QAbstractItemView, QApplication, QCheckBox, QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.plots import Plot
from ulvar.desktop.work.soon import Soon


class Keyboard(QObject):
    """Gives the keyboard back to the picture after a click, a job, and on the way to another station.

    What is only clicked (a button, a table, a plot) does not keep it; what is typed into does.

    Parameters
    ----------
    window, picture, finder : QWidget
    model : Model
    """

    def __init__(self, window: QWidget, picture: QWidget, finder: QWidget, model: Model) -> None:
        super().__init__(window)
        self._window, self._picture, self._finder, self._model = window, picture, finder, model
        # Whether the widget with the keyboard got it by the keyboard.
        self.by_key = False
        self._handing_over = Soon(self, self.to_picture)
        model.station_changed.connect(self._handing_over.ask)
        model.jobs.changed.connect(self._job_moved)
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        app.focusChanged.connect(self._moved)

    def end(self) -> None:
        """Follow no more."""
        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.focusChanged.disconnect(self._moved)
        self._handing_over.stop()

    def to_picture(self) -> None:
        """Give the keyboard to the picture, where every key means what it says."""
        if not self._finder.isVisible():
            self._picture.setFocus(Qt.FocusReason.OtherFocusReason)

    def _moved(self, _old: object, new: object) -> None:
        self.by_key = new is not None and QApplication.mouseButtons() == Qt.MouseButton.NoButton
        if self.by_key or not isinstance(new, QWidget) or not self._window.isAncestorOf(new):
            return
        if isinstance(new, QAbstractButton) and not isinstance(new, QCheckBox):
            # Not before it is let go: a button that loses the keyboard while it is down is not clicked.
            new.released.connect(self._handing_over.ask, Qt.ConnectionType.SingleShotConnection)
        elif isinstance(new, QAbstractItemView | Plot):
            self._handing_over.ask()

    def _job_moved(self) -> None:
        focus = QApplication.focusWidget()
        if not self._model.jobs.busy and (focus is None or isinstance(focus, QAbstractButton)):
            self._handing_over.ask()
