"""A night: a folder with one SQLite file, its products, its recipe and its log."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from datetime import timedelta
from pathlib import Path

import platformdirs

from ulvar.engine import Failed, clear_leftovers, reason_words
from ulvar.flows import Field, Series, find_series, library_at
from ulvar.frames import (
    ExposureFacts,
    Group,
    Role,
    file_of,
    fingerprint,
    group_exposures,
    with_user_facts,
)
from ulvar.inspection import Ceiling, PixelLook, with_ceilings
from ulvar.night.carrying import WAITING, adopt_stars, carry_over
from ulvar.night.exposures import replace_exposures, stored_exposures, with_camera_numbers
from ulvar.night.rebuilding import FILE, REBUILT, opened_store, remember_raw
from ulvar.night.rows import NightRows
from ulvar.night.settings import NightSettings
from ulvar.night.state import SERIES_STATIONS, back_again, input_stamp, run_key
from ulvar.night.store import NightError, sealed, unsealed
from ulvar.photometry import ListedStar


class Night(NightRows):
    """The model of everything the window and the command line show of a night.

    Parameters
    ----------
    folder : Path
        The night's own folder.
    """

    def __init__(self, folder: Path) -> None:
        super().__init__(opened_store(folder))
        self.folder = folder
        self._exposures: list[ExposureFacts] | None = None
        self._series: list[Series] | None = None
        self._told: list[ExposureFacts] = []
        self._failed: list[Failed] | None = None
        self.clear_leftovers()
        self.follow(folder)
        if self.meta(REBUILT) and not self.meta("settings"):
            self._take_recipe()

    def _take_recipe(self) -> None:
        """Take settings and stars from the recipe that was recorded, where the night's file was lost."""
        from ulvar.night.recipe import RecipeError, read_recipe

        try:
            _, settings, stars = read_recipe(self.folder / "recipe.toml")
        except RecipeError:
            return
        self.set_settings(settings)
        for field, listed in stars.items():
            self.wait_with_stars(field, listed)

    # ---- making and opening

    @classmethod
    def is_night(cls, folder: Path) -> bool:
        """Whether a folder is a night."""
        return (folder / FILE).is_file()

    @classmethod
    def create(cls, folder: Path, raw: Sequence[Path], name: str = "") -> Night:
        """Make a night in `folder` for raw files or folders; an existing one there is opened.

        Raises
        ------
        NightError
            If the folder cannot be written.
        """
        try:
            for part in ("products", "log"):
                (folder / part).mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise NightError(f"no night can be made in {folder}: {reason_words(error)}") from None
        fresh = not cls.is_night(folder)
        night = cls(folder)
        if fresh:
            paths = [str(path.resolve()) for path in raw]
            night.set_meta("raw", paths)
            remember_raw(folder, paths)
            night.set_meta("name", name or raw[0].resolve().name)
        return night

    @classmethod
    def for_path(cls, path: Path) -> Night:
        """Open a night, or the night of a folder of raw files: beside it, or in the user's data folder.

        Raises
        ------
        NightError
            If the path does not exist or no night can be made for it.
        """
        if not path.exists():
            raise NightError(f"{path}: there is no such folder")
        if path.is_file():
            path = path.parent
        if cls.is_night(path):
            return cls(path)
        resolved = path.resolve()
        beside = resolved.with_name(f"{resolved.name}-night")
        try:
            return cls.create(beside, [resolved])
        except NightError:
            home = platformdirs.user_data_path("ulvar") / "nights" / f"{resolved.name}-{fingerprint(str(resolved))[:6]}"
            return cls.create(home, [resolved])

    def clear_leftovers(self) -> None:
        """Remove half-written files of processes that were killed."""
        clear_leftovers(self.products)

    def look_again(self) -> None:
        """Forget what was read of the night's file: another process has worked on it."""
        self._exposures = self._series = self._failed = None

    @property
    def name(self) -> str:
        """What the night is called: its lights' object, else its folder."""
        objects = [f.object for f in self.lights() if f.object]
        return max(dict.fromkeys(objects), key=objects.count) if objects else str(self.meta("name", self.folder.name))

    @property
    def date(self) -> str:
        """Evening date of the night, or empty when no time is known."""
        times = sorted(f.start_utc for f in self.exposures if f.start_utc and f.role is Role.LIGHT)
        if not times:
            return ""
        return next(
            (f.session for f in self.lights() if f.session), (times[0] - timedelta(hours=12)).strftime("%Y-%m-%d")
        )

    @property
    def products(self) -> Path:
        """Folder of products."""
        return self.folder / "products"

    @property
    def settings(self) -> NightSettings:
        """The stations' settings (a copy; store changes with `set_settings`)."""
        return NightSettings.model_validate(self.meta("settings", {}))

    def set_settings(self, settings: NightSettings) -> None:
        """Store settings."""
        before = self.settings
        self.set_meta("settings", settings.model_dump(mode="json"))
        # Sessions, tags and what is known of exposures hang on these.
        if (before.intake, before.masters, before.calibrate.linear_adu) != (
            settings.intake, settings.masters, settings.calibrate.linear_adu,
        ):  # fmt: skip
            self._forget()

    # ---- exposures

    def _load(self) -> None:
        told, self._failed = stored_exposures(self.store, self.settings, [str(p) for p in self.raw_paths])
        self._told = told
        numbers = library_at(self.meta("library", "")).camera_numbers()
        self._exposures = with_camera_numbers(with_ceilings(told, self.ceilings()), numbers)

    def forget_exposures(self) -> None:
        """Read the exposures from the store anew when they are next asked for."""
        self._forget()

    def _forget(self) -> None:
        self._exposures = self._failed = self._series = None

    def exposures_as_told(self) -> list[ExposureFacts]:
        """Return exposures as headers and user tell them, without what was measured in their pixels."""
        if self._exposures is None:
            self._load()
        return self._told

    @property
    def exposures(self) -> list[ExposureFacts]:
        """Readable exposures with the user's corrections, in the order of files."""
        if self._exposures is None:
            self._load()
        return self._exposures or []

    @property
    def failed(self) -> list[Failed]:
        """Files that could not be read."""
        if self._failed is None:
            self._load()
        return self._failed or []

    def known_files(self) -> dict[str, tuple[int, int]]:
        """Return file to (size, mtime_ns) of files scanned before."""
        return {file_of(p): (s, m) for p, s, m in self.store.rows("SELECT path, size, mtime_ns FROM exposures")}

    def store_exposures(self, order: Sequence[str], scanned: Iterable[ExposureFacts], failed: Iterable[Failed]) -> None:
        """Store the outcome of a scan; files not in `order` are gone and are forgotten."""
        replace_exposures(self.store, order, scanned, failed)
        self._forget()

    def _valid_looks(self) -> Iterator[tuple[str, PixelLook]]:
        now = {f.path: (f.size_bytes, f.mtime_ns) for f in self.exposures}
        for path, size, mtime, body in self.store.rows("SELECT path, size, mtime_ns, body FROM looks"):
            if now.get(path) == (size, mtime):
                look = PixelLook.from_json(json.loads(unsealed(body)))
                if look is not None:
                    yield path, look

    def looks(self) -> dict[str, PixelLook]:
        """Return path to what the pixels of exposures showed, of files that have not changed since."""
        return dict(self._valid_looks())

    def has_looks(self) -> bool:
        """Whether any look at pixels still counts; opening asks this, and one look is enough to know."""
        return any(True for _ in self._valid_looks())

    def store_looks(self, looks: Mapping[str, PixelLook]) -> None:
        """Store what pixels showed."""
        rows = [
            (f.path, f.size_bytes, f.mtime_ns, sealed(json.dumps(looks[f.path].as_json())))
            for f in self.exposures
            if f.path in looks
        ]
        self.store.write_many("INSERT INTO looks VALUES (?, ?, ?, ?)", rows, clear="DELETE FROM looks")

    def set_ceilings(self, ceilings: Mapping[str, Ceiling]) -> None:
        """Store the measured full ranges; the exposures' saturation follows."""
        self.set_meta("ceilings", {key: vars(ceiling) for key, ceiling in ceilings.items()})
        self._forget()

    def correct(self, paths: Iterable[str], name: str, value: str | None) -> None:
        """Store a correction of a fact for files; None takes it back.

        Raises
        ------
        ValueError
            If the fact is unknown or the value cannot be read.
        """
        if value is not None:
            with_user_facts(ExposureFacts(""), {name: value})
        with self.store.transaction() as connection:
            for path in paths:
                if value is None:
                    connection.execute("DELETE FROM corrections WHERE path = ? AND name = ?", (path, name))
                else:
                    connection.execute("INSERT OR REPLACE INTO corrections VALUES (?, ?, ?)", (path, name, value))
        self._forget()

    def facts(self, path: str) -> ExposureFacts | None:
        """Return the facts of one file."""
        return next((f for f in self.exposures if f.path == path), None)

    def groups(self) -> list[Group]:
        """Return all exposures in groups, left-out ones included."""
        return group_exposures(self.exposures, self.settings.masters.tolerances)

    def kept(self) -> list[ExposureFacts]:
        """Return exposures that are not left out."""
        out = self.left_out
        return [f for f in self.exposures if f.path not in out]

    def lights(self) -> list[ExposureFacts]:
        """Return all lights in the order of time."""
        lights = [f for f in self.exposures if f.role is Role.LIGHT and not f.is_master]
        return sorted(lights, key=lambda f: (f.mid_utc is None, f.mid_utc.timestamp() if f.mid_utc else 0.0, f.path))

    # ---- series

    def series(self) -> list[Series]:
        """Return the series of lights, in the order of time; a field keeps its key from then on."""
        if self._series is None:
            apart = [tag.name for tag in self.settings.intake.tags if tag.stacks]
            known = self.fields()
            found = find_series(self.lights(), apart=apart, known=known)
            fields = {one.field.key: one.field for one in found}
            # A field whose exposures are away for a while, on a disk that is not there, keeps its key as well.
            told = [*fields.values(), *(one for one in known if one.key not in fields)]
            if told != known:
                self.set_meta("fields", [one.as_json() for one in told])
            self._series = found
            if self.meta("before_series"):
                carry_over(self, self.products, found)
            adopt_stars(self, found)
        return self._series

    def fields(self) -> list[Field]:
        """Return the fields that the night has met."""
        found = []
        for body in self.meta("fields", []):
            # One that something spoiled is met anew.
            with suppress(KeyError, TypeError):
                found.append(Field.from_json(body))
        return found

    def series_of(self, key: str) -> Series | None:
        """Return a series by its key."""
        return next((one for one in self.series() if one.key == key), None)

    def current_series(self) -> Series | None:
        """Return the series that is worked on: the one that was chosen, else the one with most exposures."""
        chosen = self.series_of(self.meta("series", ""))
        return chosen or max(self.series(), key=lambda one: len(one.members), default=None)

    def choose_series(self, key: str) -> None:
        """Work on a series from now on."""
        self.set_meta("series", key)

    def series_folder(self, key: str) -> Path:
        """Return the folder of what is made of a series."""
        return self.products / key

    # ---- stars with a role, which the series of a field share

    def stars(self, series: Series | None = None) -> list[ListedStar]:
        """Return the stars to measure in a series, by default the current one."""
        chosen = series or self.current_series()
        return self.stars_of(chosen.field.key if chosen else WAITING)

    def set_stars(self, stars: Sequence[ListedStar], series: Series | None = None) -> None:
        """Replace the stars to measure in a series' field, by default the current one's.

        Before any light is known they wait for the field that they lie in.
        """
        chosen = series or self.current_series()
        self.set_stars_of(chosen.field.key if chosen else WAITING, stars)

    def wait_with_stars(self, name: str, stars: Sequence[ListedStar]) -> None:
        """List stars for the field of a name, or whichever they lie in, which need not be known yet."""
        self.set_stars_of(f"{WAITING}{name}", stars)
        self._series = None

    # ---- state of the stations

    def _series_for(self, station: str, series: Series | None) -> Series | None:
        return None if station not in SERIES_STATIONS else series or self.current_series()

    def mark_run(self, station: str, result: str, series: Series | None = None) -> None:
        """Remember that a station ran: ``done``, ``part`` or ``attention``."""
        series = self._series_for(station, series)
        ran = self.meta("ran", {})
        lights = {f.path for f in self.lights()}
        ran[run_key(station, series)] = {
            "stamp": input_stamp(self, station, series), "result": result, "out": sorted(lights & set(self.left_out)),
        }  # fmt: skip
        self.set_meta("ran", ran)

    def state(self, station: str, series: Series | None = None) -> str:
        """Return the bead of a station: empty, part, done, stale or attention.

        From Combine on it is that of a series, by default of the current one.
        """
        series = self._series_for(station, series)
        entry = self.meta("ran", {}).get(run_key(station, series))
        if entry is None:
            return "empty"
        if entry["stamp"] != input_stamp(self, station, series) or back_again(self, station, series, entry):
            return "stale"
        return str(entry["result"])
