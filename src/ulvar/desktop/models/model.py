"""The window's model: the night, where the user is, what is selected, what runs. Views write back here."""

from __future__ import annotations

import logging
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from functools import partial
from pathlib import Path

import numpy as np
from pydantic import ValidationError
from PySide6.QtCore import QObject, QSettings, Signal
from PySide6.QtGui import QUndoStack

from ulvar.astrometry import Wcs
from ulvar.desktop.models import edits
from ulvar.desktop.models.looking import Looking
from ulvar.desktop.models.matching import Matching
from ulvar.desktop.models.numbers import METRICS, STATION_METRIC, Numbers
from ulvar.desktop.models.running import Running
from ulvar.desktop.work.background import Asker
from ulvar.desktop.work.soon import Soon
from ulvar.engine import Failed, Finding, PoolKeeper, Severity
from ulvar.flows import CurveResult, read_stars
from ulvar.frames import ExposureFacts, Group
from ulvar.night import Night, NightError, NightSettings, Product
from ulvar.night.settings import first_problem
from ulvar.night.stations import (
    curve_path,
    night_curve,
    series_path,
    solutions,
    working_filter,
)
from ulvar.night.stations.intake import retell_intake, wants_reading
from ulvar.photometry import SeriesTable, read_series
from ulvar.stars import FieldMap, StarTable, field_map

log = logging.getLogger(__name__)

# What hangs on the files and on what was made of them, not on the selection or on rules.
_OF_FILES = (
    "products",
    "plates",
    "series",
    "facts",
    "lights",
    "groups",
    "looks",
    "findings",
    "star table",
    "field map",
)


class Model(QObject, Numbers, Looking, Matching, Running):
    """What the window shows. Signals say what changed; nothing here knows how it looks."""

    night_changed = Signal()
    exposures_changed = Signal()
    current_changed = Signal()
    brush_changed = Signal()
    station_changed = Signal(str)
    states_changed = Signal()
    findings_changed = Signal()
    stars_changed = Signal()
    results_changed = Signal()
    settings_changed = Signal()
    job_changed = Signal()
    message = Signal(str)
    preview_changed = Signal()
    region_wanted = Signal(str)
    star_chosen = Signal()
    selection_changed = Signal()
    curve_changed = Signal()
    metric_changed = Signal()
    told_all = Signal()
    _job_event = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.night: Night | None = None
        self.station = "intake"
        self.current = ""
        self.brushed: tuple[str, ...] = ()
        self.metric = "temperature"
        self.undo = QUndoStack(self)
        self.pools = PoolKeeper()
        self._telling = 0
        self._portions = Soon(self, self._go_on_telling)
        # Pixels (x, y) that a threshold would call defective, while it is moved.
        self.preview = np.empty((0, 2))
        self._caches: dict[str, object] = {}
        self._curves = Asker("curve")
        self._curves.found.connect(self._curve_arrived)
        # Counts changes: what was asked for before the last one is not kept.
        self._order = 0
        self._tables = Asker("star tables")
        self._tables.found.connect(self._table_arrived)
        self._last_curve: CurveResult | None = None
        # Whether a light curve is being made.
        self.curve_coming = False
        self._job_event.connect(self._on_job_event)

    @contextmanager
    def telling(self) -> Iterator[None]:
        """Several signals about one change: views that are costly to build wait for `told_all`."""
        self._telling += 1
        try:
            yield
        finally:
            self._telling -= 1
        if not self._telling:
            self.told_all.emit()

    @property
    def still_telling(self) -> bool:
        """Whether more signals about the same change follow."""
        return self._telling > 0

    # ---- opening

    def open(self, path: Path) -> bool:
        """Open a night or a folder of raw exposures; returns whether it worked."""
        try:
            night = Night.for_path(path)
        except (NightError, OSError) as error:
            self.message.emit(str(error))
            return False
        self.close_night()
        self.night = night
        self.undo.clear()
        self.brushed = ()
        self._drop()
        self._last_curve = None
        self._remember(night.folder)
        lights = self.lights()
        self.current = lights[0].path if lights else (self.exposures()[0].path if self.exposures() else "")
        self.job_finding = None
        self.night_changed.emit()
        self.exposures_changed.emit()
        self.set_station("intake")
        self.current_changed.emit()
        self.findings_changed.emit()
        if not night.exposures or wants_reading(night):
            self.run_station("intake")
        return True

    def open_many(self, paths: list[Path]) -> bool:
        """Open a night of several folders or files: it lies beside the first."""
        try:
            night = Night.for_path(paths[0])
            if not Night.is_night(paths[0]):
                night.add_raw(paths[1:])
            folder = night.folder
            night.close()
        except (NightError, OSError) as error:
            self.message.emit(str(error))
            return False
        return self.open(folder)

    def close_night(self) -> None:
        """Stop what runs and close the file."""
        if self.job is not None and not self.job.finished:
            self.job.stop()
            self.job.join(60)
        self._end_telling()
        self._running = False
        self._drop()
        if self.night is not None:
            self.night.close()
            self.night = None

    def shut_down(self) -> None:
        """End everything that would outlive the window."""
        self.close_night()
        self._curves.close(wait=True)
        self._tables.close(wait=True)
        self.pools.close()

    @staticmethod
    def recent() -> list[str]:
        """Folders of nights opened lately that still exist."""
        stored = QSettings("Ulvar", "Ulvar").value("recent", [])
        names = [stored] if isinstance(stored, str) else list(stored or [])
        return [name for name in names if Night.is_night(Path(name))]

    def _remember(self, folder: Path) -> None:
        name = str(folder)
        QSettings("Ulvar", "Ulvar").setValue("recent", [name, *[r for r in self.recent() if r != name]][:10])

    # ---- what is there (cached until something changes)

    def _drop(self, *kept: str) -> None:
        """Forget what was made, but for what begins with one of these words."""
        self._order += 1
        self.curve_coming = False
        if kept:
            self._caches = {key: value for key, value in self._caches.items() if key.startswith(kept)}
        else:
            self._caches.clear()

    def cached(self, key: str, make):  # type: ignore[no-untyped-def]
        """Return what `make` gives, made once until something changes."""
        if key not in self._caches:
            self._caches[key] = make()
        return self._caches[key]

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

    def findings(self) -> list[Finding]:
        """Findings of all stations up to now, those of the current station first within a severity."""
        found = list(self.cached("findings", lambda: self.night.findings() if self.night else []))
        if self.job_finding is not None:
            found.insert(0, self.job_finding)
        return sorted(found, key=lambda f: (f is not self.job_finding and f.station != self.station, f.severity))

    def files_with_findings(self) -> set[str]:
        """Exposures that a check or a block speaks of."""
        odd = ("light_leak", "odd_level", "odd_pattern")

        def make() -> set[str]:
            return {
                path for f in self.findings()
                if f.severity is not Severity.NOTE and (f.station in ("intake", "combine") or f.code in odd)
                for path in f.files
            }  # fmt: skip

        return self.cached("files_with_findings", make)

    def plates(self) -> dict[str, Wcs]:
        """Raw path to plate solution."""
        return self.cached("plates", lambda: solutions(self.night) if self.night else {})

    def working_filter(self) -> str:
        """Filter that is combined and measured."""
        return self.cached("filter", lambda: working_filter(self.night) if self.night else "")

    def series(self) -> SeriesTable | None:
        """The measured series."""

        def make() -> SeriesTable | None:
            if self.night is None or not series_path(self.night).exists():
                return None
            return read_series(series_path(self.night))

        return self.cached("series", make)

    def curve(self) -> CurveResult | None:
        """The light curve without the points that are left out; as it was before until it is made anew.

        Its eclipse is fitted in another thread, which takes a second; `curve_changed` tells when it is there.
        """
        if "curve" not in self._caches and not self.curve_coming:
            night = self.night
            if night is None or not curve_path(night).exists() or not series_path(night).exists():
                self._caches["curve"] = self._last_curve = None
            else:
                self.curve_coming = True
                self._curves.ask(self._order, lambda: night_curve(night))
        return self._caches.get("curve", self._last_curve)  # type: ignore[return-value]

    def read_tables_ahead(self, paths: Iterable[str]) -> None:
        """Read the stars of exposures that will probably be looked at next, and map them, in another thread."""
        for raw in paths:
            file, facts = self.star_file(raw), self.facts(raw)
            if file is not None and facts is not None and f"star table {raw}" not in self._caches:
                self._tables.ask((self._order, raw), partial(_stars_and_map, file, facts.width, facts.height))

    def _table_arrived(self, asked: tuple[int, str], result: object) -> None:
        order, raw = asked
        if order == self._order and isinstance(result, tuple):
            self._caches.setdefault(f"star table {raw}", result[0])
            self._caches.setdefault(f"field map {raw}", result[1])

    def _curve_arrived(self, order: object, result: object) -> None:
        if order != self._order:
            # Something changed while it was made: who asks next has it made again.
            return
        self.curve_coming = False
        self._caches["curve"] = self._last_curve = result if isinstance(result, CurveResult) else None
        for key in [k for k in self._caches if k.startswith(("metric target", "line range", "line dots"))]:
            del self._caches[key]
        self.curve_changed.emit()

    def state(self, station: str) -> str:
        """Bead of a station."""
        if self.job is not None and not self.job.finished and self.job_station == station:
            return "running"
        return self.cached(f"state {station}", lambda: self.night.state(station) if self.night else "empty")

    def settings(self) -> NightSettings:
        """Settings (a copy)."""
        stored = self.cached("settings", lambda: self.night.settings if self.night else NightSettings())
        return stored.model_copy(deep=True)

    def set_setting(self, section: str, name: str, value: object) -> bool:
        """Change one setting, undoably; returns whether it was accepted."""
        return self.change_settings(section, {name: value})

    def change_settings(self, section: str, values: Mapping[str, object]) -> bool:
        """Change settings of a station together, as one step of undo; returns whether all were accepted."""
        if self.night is None:
            return False
        settings = self.settings()
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
        words = ", ".join(name.replace("_", " ") for name in changed)
        what = tuple(f"{section}.{name}" for name in changed)
        self.undo.push(edits.Setting(self, settings, what, f"Change {words}"))
        return True

    def store_setting(self, settings: NightSettings) -> None:
        """Store settings that change what stations would do, and tell the views; the way of undo commands."""
        if self.night is None:
            return
        self.night.set_settings(settings)
        self._drop()
        self.settings_changed.emit()
        self.states_changed.emit()

    # ---- where the user is

    def set_station(self, station: str) -> None:
        """Go to a station; the night line's metric follows."""
        self.station = station
        self._choose_metric()
        self.station_changed.emit(station)
        self.findings_changed.emit()

    def _choose_metric(self) -> None:
        wanted = STATION_METRIC[self.station]
        self.metric = wanted if self.knows_metric(wanted) else "temperature"
        if not self.knows_metric(self.metric):
            self.metric = next((m for m in METRICS if self.knows_metric(m)), "temperature")

    def set_metric(self, metric: str) -> None:
        """Show another metric on the night line."""
        self.metric = metric
        self.metric_changed.emit()

    def set_current(self, path: str) -> None:
        """Go to an exposure."""
        if path and path != self.current:
            self.current = path
            self.chosen_star = self.tuned_stars = None
            self.current_changed.emit()

    def _line(self) -> list[str]:
        """Paths that stepping goes through: lights if there are any."""
        return self.cached("line", lambda: [f.path for f in self.lights()] or [f.path for f in self.exposures()])

    def neighbours(self, steps: Iterable[int]) -> list[str]:
        """Return the exposures so many steps from the current one, those that there are."""
        paths = self._line()
        if self.current not in paths:
            return []
        place = paths.index(self.current)
        return [paths[place + by] for by in steps if 0 <= place + by < len(paths)]

    def alike(self, count: int) -> list[str]:
        """Return the next exposures of the current one's role and filter, or those before it near the end."""
        facts = self.facts(self.current)
        if facts is None:
            return []
        same = [f.path for f in self.exposures() if (f.role, f.filter) == (facts.role, facts.filter)]
        order = [p for p in self._line() if p in set(same)] or same
        place = order.index(self.current) if self.current in order else 0
        after = order[place + 1 : place + 1 + count]
        return after + order[max(0, place - (count - len(after))) : place][::-1]

    def step(self, by: int) -> bool:
        """Go to the next or the previous exposure of the line; False at its end."""
        paths = self._line()
        if not paths:
            return False
        index = min(max(paths.index(self.current) + by, 0), len(paths) - 1) if self.current in paths else 0
        moved = paths[index] != self.current
        self.set_current(paths[index])
        return moved

    def set_brush(self, paths: Iterable[str]) -> None:
        """Select a span of exposures."""
        self.brushed = tuple(paths)
        self.brush_changed.emit()

    # ---- selection

    def toggle_left_out(self) -> None:
        """Leave out, or put back, the brushed exposures or the current one."""
        paths = list(self.brushed) or ([self.current] if self.current else [])
        if not paths or self.night is None:
            return
        out = self.left_out()
        if all(p in out for p in paths):
            self.undo.push(edits.Selection(self, paths, "", False))
        else:
            self.leave_out([p for p in paths if p not in out], "by hand")

    def leave_out(self, paths: Iterable[str], why: str) -> None:
        """Leave exposures out, undoably."""
        todo = [p for p in paths if p not in self.left_out()]
        if todo and self.night is not None:
            self.undo.push(edits.Selection(self, todo, why, True))

    def put_back(self, paths: Iterable[str]) -> None:
        """Put exposures back, undoably."""
        todo = [p for p in paths if p in self.left_out()]
        if todo and self.night is not None:
            self.undo.push(edits.Selection(self, todo, "", False))

    def correct(self, paths: Iterable[str], name: str, value: str | None) -> None:
        """Correct a fact of files, undoably."""
        if self.night is not None:
            self.undo.push(edits.Correction(self, list(paths), name, value))

    def selection_edited(self) -> None:
        """Tell the views that files were left out or put back; no product changed by it."""
        self._drop(*_OF_FILES, "quality", "line span")
        with self.telling():
            self.exposures_changed.emit()
            self.selection_changed.emit()
            self.states_changed.emit()

    def store_choices(self, settings: NightSettings) -> None:
        """Store settings that change nothing about the files, and tell the views; the way of undo commands."""
        if self.night is None:
            return
        self.night.set_settings(settings)
        self._drop(*_OF_FILES, "line span")
        with self.telling():
            self.settings_changed.emit()
            self.exposures_changed.emit()
            self.states_changed.emit()

    def stars_edited(self) -> None:
        """Tell the views that the stars to measure are others."""
        self.stars_changed.emit()
        self.states_changed.emit()

    def facts_edited(self) -> None:
        """Tell the views that facts were corrected; intake's findings are told anew."""
        if self.night is not None and self.night.exposures:
            retell_intake(self.night)
        self._drop()
        with self.telling():
            self.exposures_changed.emit()
            self.results_changed.emit()
            self.findings_changed.emit()
            self.states_changed.emit()

    def mend(self, finding: Finding) -> None:
        """Do what a finding's button offers."""
        mend = finding.mend
        if mend is None:
            return
        if mend.action == "leave_out":
            self.leave_out(mend.files, finding.title)
        elif mend.action.startswith("role:"):
            self.correct(mend.files, "role", mend.action.partition(":")[2])
        elif mend.action == "leave_out_star":
            known = self.settings().curve.leave_out
            self.set_setting("curve", "leave_out", [*known, *[n for n in mend.files if n not in known]])
            self.results_changed.emit()


def _stars_and_map(file: Path, width: int, height: int) -> tuple[StarTable, FieldMap | None]:
    stars = read_stars(file)
    return stars, field_map(stars, width, height)
