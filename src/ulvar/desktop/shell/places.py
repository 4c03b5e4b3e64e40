"""What is found again next time: the window's size, and the station at which a night was left."""

from __future__ import annotations

from PySide6.QtCore import QObject, QSettings
from PySide6.QtWidgets import QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.shell.sizing import size_as_before
from ulvar.desktop.work.soon import Soon
from ulvar.night import STATIONS


class Places(QObject):
    """Remembers where things were.

    Parameters
    ----------
    window : QWidget
    model : Model
    settings : QSettings
    """

    def __init__(self, window: QWidget, model: Model, settings: QSettings) -> None:
        super().__init__(window)
        self._window, self._model, self._settings = window, model, settings
        self._wanted = ""
        self._soon = Soon(self, self._go)
        size_as_before(window, settings)
        model.night_changed.connect(self._opened)
        model.station_changed.connect(self._moved)

    def keep(self) -> None:
        """Store the window's size."""
        if not self._window.isMaximized():
            self._settings.setValue("size", self._window.size())
        self._settings.setValue("maximised", self._window.isMaximized())

    def _opened(self) -> None:
        night = self._model.night
        station = str(night.meta("station", "")) if night is not None else ""
        self._wanted = station if station in STATIONS else ""

    def _moved(self, station: str) -> None:
        if self._wanted:
            # A night opens at its first station; from there it goes to where it was left.
            self._soon.ask()
        elif self._model.night is not None:
            self._model.night.set_meta("station", station)

    def _go(self) -> None:
        wanted, self._wanted = self._wanted, ""
        if wanted and wanted != self._model.station:
            self._model.set_station(wanted)
