"""The window's model: where the user is in the night, what is selected, and the parts that know the rest."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from PySide6.QtCore import QSettings

from ulvar.desktop.models import edits
from ulvar.desktop.models.curves import Curves
from ulvar.desktop.models.fieldstars import FieldStars
from ulvar.desktop.models.ground import Ground
from ulvar.desktop.models.jobs import Jobs
from ulvar.desktop.models.looking import Looking
from ulvar.desktop.models.matching import Matching
from ulvar.desktop.models.mends import without_stars
from ulvar.desktop.models.numbers import Numbers
from ulvar.desktop.models.pointing import Pointing
from ulvar.desktop.models.skyplaces import SkyPlaces
from ulvar.desktop.models.stacks import Stacks
from ulvar.engine import place_words
from ulvar.inspection import Finding
from ulvar.night import SERIES_STATIONS, Night, NightError
from ulvar.night.stations.intake import wants_reading


class Model(Ground):
    """What the window shows. Views write back here, or into one of its parts.

    Attributes
    ----------
    curves : Curves
        The measured series and the light curve.
    looking : Looking
        Qualities, rules, detected stars, regions, the deep view.
    stacks : Stacks
        How exposures line up, and what went into the stack's pixels.
    pointing : Pointing
        Clicks by which a moving body or common stars are pointed out.
    numbers : Numbers
        Numbers of exposures for the night line, and places of the listed stars.
    sky : SkyPlaces
        A pair of stars, marked places, moving bodies.
    field : FieldStars
        Apertures that were tried, candidates for comparison stars, all stars of the field.
    matching : Matching
        Calibration frames, library, stars to measure, previews.
    jobs : Jobs
        What runs, and what stations say.
    """

    def __init__(self) -> None:
        super().__init__()
        # Where a selection by the keyboard began.
        self._brush_from = ""
        self.curves = Curves(self)
        self.looking = Looking(self)
        self.stacks = Stacks(self, self.looking)
        self.numbers = Numbers(self, self.curves, self.looking)
        self.sky = SkyPlaces(self, self.looking, self.numbers)
        self.field = FieldStars(self, self.looking, self.numbers)
        self.pointing = Pointing(self, self.looking, self.sky)
        self.matching = Matching(self)
        self.jobs = Jobs(self, self.looking, self.numbers)
        self.pointing.wanted.connect(self.set_current)

    # ---- opening

    def open(self, path: Path) -> bool:
        """Open a night or a folder of raw exposures; returns whether it worked."""
        try:
            night = Night.for_path(path)
        except (NightError, OSError) as error:
            self.message.emit(place_words(error))
            return False
        self.close_night()
        self.night = night
        self.brushed = ()
        self.drop()
        self.curves.forget()
        self._remember(night.folder)
        self.current = self._first()
        self.jobs.finding = None
        self.night_changed.emit()
        self.exposures_changed.emit()
        self.set_station("intake")
        self.current_changed.emit()
        self.findings_changed.emit()
        if not night.exposures or wants_reading(night):
            self.jobs.run_station("intake")
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
            self.message.emit(place_words(error))
            return False
        return self.open(folder)

    def close_night(self) -> None:
        """Stop what runs and close the file."""
        self.jobs.end()
        self.drop()
        # Its steps are of the night that goes.
        self.undo.clear()
        if self.night is not None:
            self.night.close()
            self.night = None

    def shut_down(self) -> None:
        """End everything that would outlive the window."""
        self.close_night()
        self.curves.close()
        self.looking.close()
        self.stacks.close()
        self.sky.close()
        self.field.close()
        self.jobs.pools.close()

    @staticmethod
    def recent() -> list[str]:
        """Folders of nights opened lately that still exist."""
        stored = QSettings("Ulvar", "Ulvar").value("recent", [])
        names = [stored] if isinstance(stored, str) else stored if isinstance(stored, list) else []
        return [name for name in names if Night.is_night(Path(name))]

    def _remember(self, folder: Path) -> None:
        name = str(folder)
        QSettings("Ulvar", "Ulvar").setValue("recent", [name, *[r for r in self.recent() if r != name]][:10])

    # ---- where the user is

    def set_station(self, station: str) -> None:
        """Go to a station; the night line's metric follows."""
        self.station = station
        self.numbers.choose_metric()
        self.station_changed.emit(station)
        self.findings_changed.emit()

    def set_current(self, path: str) -> None:
        """Go to an exposure."""
        if path and path != self.current:
            self.current = path
            self.looking.chosen_star = self.looking.tuned_stars = None
            self.current_changed.emit()

    def _line(self) -> list[str]:
        """Paths that stepping goes through: the series where a station works on one, else lights if there are any."""
        lights = self.cached("line", lambda: [f.path for f in self.lights()] or [f.path for f in self.exposures()])
        members = self.members()
        if self.station not in SERIES_STATIONS or not members:
            return lights
        return self.cached("line of series", lambda: [path for path in lights if path in members])

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
        if self.current in paths:
            index = min(max(paths.index(self.current) + by, 0), len(paths) - 1)
        else:
            # From an exposure of another series on to the next of this one.
            order = {f.path: i for i, f in enumerate(self.lights())}
            here = order.get(self.current, -1)
            after = next((i for i, path in enumerate(paths) if order.get(path, -1) > here), len(paths))
            index = min(max(after if by > 0 else after - 1, 0), len(paths) - 1)
        moved = paths[index] != self.current
        self.set_current(paths[index])
        return moved

    def go_to_series(self, key: str) -> None:
        """Work on another series; the picture goes to an exposure of it."""
        if not self.choose_series(key):
            return
        if self.current not in self.members():
            self.set_current(self._first())
        self.set_brush(())
        self.numbers.choose_metric()
        self.metric_changed.emit()
        self.message.emit(f"Working on {self.series_name()}.")

    def _first(self) -> str:
        """Return the first exposure of the series that is kept, else any; empty without one."""
        members, out = self.members(), self.left_out()
        order = [f.path for f in self.lights() if f.path in members] or [f.path for f in self.exposures()]
        return next((p for p in order if p not in out), order[0] if order else "")

    def step_series(self, by: int) -> bool:
        """Go to the next or the previous series, round and round; False where there is no other."""
        keys, chosen = [one.key for one in self.all_series()], self.chosen_series()
        if chosen is None or len(keys) < 2:
            return False
        self.go_to_series(keys[(keys.index(chosen.key) + by) % len(keys)])
        return True

    def stretch_brush(self, by: int) -> None:
        """Go one exposure on, or back, and have the selection reach from where it began to there."""
        line = self._line()
        if self.current not in line:
            return
        here = line.index(self.current)
        if self._brush_from not in line or self.current not in self.brushed:
            self._brush_from = self.current
        there = min(max(here + by, 0), len(line) - 1)
        first, last = sorted((line.index(self._brush_from), there))
        self.set_current(line[there])
        self.set_brush(line[first : last + 1])

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

    def mend(self, finding: Finding) -> None:
        """Do what a finding's button offers."""
        mend = finding.mend
        if mend is None:
            return
        if mend.action == "leave_out":
            self.leave_out(mend.files, finding.title)
        elif mend.action.startswith("role:"):
            self.correct(mend.files, "role", mend.action.partition(":")[2])
        elif mend.action.startswith("object:"):
            self.correct(mend.files, "object", mend.action.partition(":")[2])
        elif mend.action == "leave_out_star":
            known = self.settings().curve.leave_out
            self.set_setting("curve", "leave_out", [*known, *[n for n in mend.files if n not in known]])
            self.results_changed.emit()

    def take_mend_back(self, finding: Finding) -> None:
        """Undo what a finding's button did, as a step of its own."""
        mend = finding.mend
        if mend is None:
            return
        if mend.action == "leave_out":
            self.put_back(mend.files)
        elif mend.action == "leave_out_star":
            self.set_setting("curve", "leave_out", without_stars(self.settings().curve.leave_out, finding))
            self.results_changed.emit()
