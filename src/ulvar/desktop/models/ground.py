"""The ground of the window's model: the open night, what it holds, and the signals that say what changed."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from typing import Any

from pydantic import ValidationError
from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QUndoStack

from ulvar.astrometry import Wcs
from ulvar.desktop.models import edits
from ulvar.engine import Failed
from ulvar.flows import Series
from ulvar.frames import ExposureFacts, Group
from ulvar.night import Night, NightSettings, Product
from ulvar.night.settings import first_problem
from ulvar.night.stations import solutions
from ulvar.night.stations.intake import retell_intake

# What hangs on the files and on what was made of them, not on the selection or on rules.
_OF_FILES = (
    "products",
    "plates",
    "series",
    "facts",
    "lights",
    "groups",
    "looks",
    "all series",
    "findings",
    "star table",
    "field map",
)


class Ground(QObject):
    """The night as every part of the model sees it. Signals say what changed; nothing here knows how it looks.

    Attributes
    ----------
    night : Night or None
    undo : QUndoStack
    station, current : str
        Where the user is: station, and path of the exposure.
    brushed : tuple of str
        Selected exposures.
    order : int
        Counts changes: what was asked for before the last one is not kept.
    """

    night_changed = Signal()
    # Raw folders were added or taken away: the headers are to be read.
    reading_wanted = Signal()
    exposures_changed = Signal()
    series_changed = Signal()
    current_changed = Signal()
    brush_changed = Signal()
    station_changed = Signal(str)
    states_changed = Signal()
    findings_changed = Signal()
    stars_changed = Signal()
    results_changed = Signal()
    settings_changed = Signal()
    message = Signal(str)
    preview_changed = Signal()
    region_wanted = Signal(str)
    selection_changed = Signal()
    metric_changed = Signal()
    told_all = Signal()
    # A result is called otherwise; nothing was made anew.
    results_told = Signal()
    # What was worked out is forgotten: questions on their way are stale.
    dropped = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.night: Night | None = None
        self.station = "intake"
        self.current = ""
        self.brushed: tuple[str, ...] = ()
        self.undo = QUndoStack(self)
        self.telling_count = 0
        self.caches: dict[str, Any] = {}
        self.order = 0

    @contextmanager
    def telling(self) -> Iterator[None]:
        """Several signals about one change: views that are costly to build wait for `told_all`."""
        self.telling_count += 1
        try:
            yield
        finally:
            self.telling_count -= 1
        if not self.telling_count:
            self.told_all.emit()

    @property
    def still_telling(self) -> bool:
        """Whether more signals about the same change follow."""
        return self.telling_count > 0

    # ---- what is there (cached until something changes)

    def drop(self, *kept: str) -> None:
        """Forget what was made, but for what begins with one of these words."""
        self.order += 1
        self.dropped.emit()
        if kept:
            self.caches = {key: value for key, value in self.caches.items() if key.startswith(kept)}
        else:
            self.caches.clear()

    def cached(self, key: str, make: Callable[[], Any]) -> Any:
        """Return what `make` gives, made once until something changes."""
        if key not in self.caches:
            self.caches[key] = make()
        return self.caches[key]

    def exposures(self) -> list[ExposureFacts]:
        """All readable exposures."""
        return self.night.exposures if self.night else []

    def lights(self) -> list[ExposureFacts]:
        """Lights in the order of time."""
        return self.cached("lights", lambda: self.night.lights() if self.night else [])

    def groups(self) -> list[Group]:
        """Groups of all exposures."""
        return self.cached("groups", lambda: self.night.groups() if self.night else [])

    def left_out(self) -> dict[str, str]:
        """Path to reason."""
        return self.cached("left_out", lambda: self.night.left_out if self.night else {})

    def failed(self) -> list[Failed]:
        """Unreadable files."""
        return self.night.failed if self.night else []

    def products(self, kind: str) -> dict[str, Product]:
        """Products of a kind."""
        return self.cached(f"products {kind}", lambda: self.night.products_of(kind) if self.night else {})

    def facts(self, path: str) -> ExposureFacts | None:
        """Facts of a file."""
        by_path = self.cached("facts", lambda: {f.path: f for f in self.exposures()})
        return by_path.get(path)

    def plates(self) -> dict[str, Wcs]:
        """Raw path to plate solution."""
        return self.cached("plates", lambda: solutions(self.night) if self.night else {})

    # ---- series

    def all_series(self) -> list[Series]:
        """Series of the night, in the order of time."""
        return self.cached("all series", lambda: self.night.series() if self.night else [])

    def chosen_series(self) -> Series | None:
        """The series that is worked on from Combine on."""
        return self.cached("all series chosen", lambda: self.night.current_series() if self.night else None)

    def members(self) -> frozenset[str]:
        """Exposures of that series."""

        def make() -> frozenset[str]:
            series = self.chosen_series()
            return frozenset(series.files) if series else frozenset()

        return self.cached("all series members", make)

    def series_of_exposure(self, raw: str) -> Series | None:
        """The series that an exposure belongs to."""
        by_path = self.cached("all series by path", lambda: {p: one for one in self.all_series() for p in one.files})
        return by_path.get(raw)

    def series_name(self) -> str:
        """What the chosen series is called; empty without one."""
        series = self.chosen_series()
        return series.title if series else ""

    def of_series(self, kind: str) -> Product | None:
        """The chosen series' product of a kind that has one a series."""
        series = self.chosen_series()
        return self.products(kind).get(series.key) if series else None

    def of_members(self, kind: str) -> dict[str, Product]:
        """Products of a kind that has one an exposure, of the chosen series."""
        series = self.chosen_series()
        every, key = self.products(kind), series.key if series else ""
        return self.cached(f"of members {kind}", lambda: {raw: p for raw, p in every.items() if p.series == key})

    def scores(self) -> dict[str, Product]:
        """Scores of the chosen series' exposures."""
        return self.of_members("score")

    def choose_series(self, key: str) -> bool:
        """Work on another series from now on; returns whether it is another."""
        series = self.chosen_series()
        if self.night is None or (series is not None and series.key == key) or self.night.series_of(key) is None:
            return False
        self.night.choose_series(key)
        self.drop("products", "facts", "lights", "groups", "looks", "plates", "star table", "field map", "way of")
        self.tell_series()
        return True

    def tell_series(self) -> None:
        """Tell the views that another series is worked on."""
        with self.telling():
            self.series_changed.emit()
            self.results_changed.emit()
            self.stars_changed.emit()
            self.states_changed.emit()
            self.findings_changed.emit()
            self.exposures_changed.emit()

    def settings(self) -> NightSettings:
        """Settings, the same to all who read them: for looking at only."""
        return self.cached("settings", lambda: self.night.settings if self.night else NightSettings())

    def own_settings(self) -> NightSettings:
        """Settings to change and to hand to an undo command."""
        return self.settings().model_copy(deep=True)

    def set_setting(self, section: str, name: str, value: object) -> bool:
        """Change one setting, undoably; returns whether it was accepted."""
        return self.change_settings(section, {name: value})

    def change_settings(self, section: str, values: Mapping[str, object]) -> bool:
        """Change settings of a station together, as one step of undo; returns whether all were accepted."""
        if self.night is None:
            return False
        settings = self.own_settings()
        part = getattr(settings, section)
        changed = [name for name, value in values.items() if getattr(part, name) != value]
        if not changed:
            return True
        try:
            for name in changed:
                setattr(part, name, values[name])
        except ValidationError as error:
            name, told = first_problem(error)
            words = f"{name.replace('_', ' ')}: {told}" if name else told
            self.message.emit(f"{words[:1].upper()}{words[1:]}.")
            return False
        self.undo.push(edits.Setting(self, settings, section, tuple(changed)))
        return True

    def store_setting(self, settings: NightSettings) -> None:
        """Store settings that change what stations would do, and tell the views; the way of undo commands."""
        if self.night is None:
            return
        self.night.set_settings(settings)
        self.drop()
        self.settings_changed.emit()
        self.states_changed.emit()

    def selection_edited(self) -> None:
        """Tell the views that files were left out or put back; no product changed by it."""
        self.drop(*_OF_FILES, "quality", "line span")
        with self.telling():
            self.exposures_changed.emit()
            self.selection_changed.emit()
            self.states_changed.emit()

    def store_choices(self, settings: NightSettings) -> None:
        """Store settings that change nothing about the files, and tell the views; the way of undo commands."""
        if self.night is None:
            return
        self.night.set_settings(settings)
        self.drop(*_OF_FILES, "line span")
        with self.telling():
            self.settings_changed.emit()
            self.exposures_changed.emit()
            self.states_changed.emit()

    def stars_edited(self) -> None:
        """Tell the views that the stars to measure are others."""
        self.stars_changed.emit()
        self.states_changed.emit()

    def result_named(self) -> None:
        """Tell that a result is called otherwise."""
        self.caches.pop("results", None)
        self.results_told.emit()

    def folders_edited(self) -> None:
        """Ask for the folders to be read: they are others."""
        self.reading_wanted.emit()

    def facts_edited(self) -> None:
        """Tell the views that facts were corrected; intake's findings are told anew."""
        if self.night is not None and self.night.exposures:
            retell_intake(self.night)
        self.drop()
        with self.telling():
            self.exposures_changed.emit()
            self.results_changed.emit()
            self.findings_changed.emit()
            self.states_changed.emit()

    def store_settings(self, settings: NightSettings) -> None:
        """Store all settings at once and tell every view; the way of undo commands."""
        if self.night is None:
            return
        self.night.set_settings(settings)
        self.drop()
        self.settings_changed.emit()
        self.facts_edited()
