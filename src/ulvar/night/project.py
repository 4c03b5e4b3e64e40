"""A night: a folder with one SQLite file, its products, its recipe and its log."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import timedelta
from pathlib import Path
from typing import Any

import platformdirs

from ulvar.engine import Failed, clear_leftovers
from ulvar.flows import library_at
from ulvar.frames import (
    GIVEN,
    KNOWN_OTHERWISE,
    ExposureFacts,
    Group,
    Role,
    file_of,
    fingerprint,
    group_exposures,
    identity,
    with_user_facts,
)
from ulvar.inspection import Ceiling, Finding, PixelLook, sort_findings, with_ceilings
from ulvar.night.coding import finding_from_text, finding_to_text
from ulvar.night.exposures import replace_exposures, stored_exposures, with_camera_numbers
from ulvar.night.products import Product, plain_value
from ulvar.night.settings import NightSettings
from ulvar.night.store import NightError, Store
from ulvar.photometry import ListedStar

STATIONS = ("intake", "masters", "calibrate", "combine", "plate", "measure", "curve")
_FILE = "night.sqlite"


class Night:
    """The model of everything the window and the command line show of a night.

    Parameters
    ----------
    folder : Path
        The night's own folder.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.store = Store(folder / _FILE)
        self._exposures: list[ExposureFacts] | None = None
        self._told: list[ExposureFacts] = []
        self._failed: list[Failed] | None = None
        self.clear_leftovers()

    # ---- making and opening

    @classmethod
    def is_night(cls, folder: Path) -> bool:
        """Whether a folder is a night."""
        return (folder / _FILE).is_file()

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
            raise NightError(f"no night can be made in {folder}: {error.strerror}") from None
        fresh = not cls.is_night(folder)
        night = cls(folder)
        if fresh:
            night.set_meta("raw", [str(path.resolve()) for path in raw])
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

    def close(self) -> None:
        """Close the file."""
        self.store.close()

    def clear_leftovers(self) -> None:
        """Remove half-written files of processes that were killed."""
        clear_leftovers(self.products)

    # ---- small facts about the night

    def meta(self, key: str, default: Any = None) -> Any:
        """Return a stored value."""
        rows = self.store.rows("SELECT value FROM meta WHERE key = ?", (key,))
        return json.loads(rows[0][0]) if rows else default

    def set_meta(self, key: str, value: Any) -> None:
        """Store a value."""
        self.store.write("INSERT OR REPLACE INTO meta VALUES (?, ?)", (key, json.dumps(value)))

    @property
    def name(self) -> str:
        """What the night is called: its lights' object, else its folder."""
        objects = [f.object for f in self.lights() if f.object]
        return max(set(objects), key=objects.count) if objects else str(self.meta("name", self.folder.name))

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
    def raw_paths(self) -> list[Path]:
        """The raw files and folders."""
        return [Path(p) for p in self.meta("raw", [])]

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
        if (before.intake, before.masters) != (settings.intake, settings.masters):
            # Sessions and tags hang on the rules among them.
            self._exposures = self._failed = None

    def add_raw(self, paths: Iterable[Path]) -> list[Path]:
        """Add raw files or folders; returns those that were not there before."""
        known = self.raw_paths
        fresh = [p.resolve() for p in paths if p.resolve() not in known]
        self.set_meta("raw", [str(p) for p in [*known, *fresh]])
        return fresh

    # ---- exposures

    def _load(self) -> None:
        told, self._failed = stored_exposures(self.store, self.settings, [str(p) for p in self.raw_paths])
        self._told = told
        numbers = library_at(self.meta("library", "")).camera_numbers()
        self._exposures = with_camera_numbers(with_ceilings(told, self.ceilings()), numbers)

    def forget_exposures(self) -> None:
        """Read the exposures from the store anew when they are next asked for."""
        self._exposures = self._failed = None

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
        self._exposures = self._failed = None

    def _valid_looks(self) -> Iterator[tuple[str, PixelLook]]:
        now = {f.path: (f.size_bytes, f.mtime_ns) for f in self.exposures}
        for path, size, mtime, body in self.store.rows("SELECT path, size, mtime_ns, body FROM looks"):
            if now.get(path) == (size, mtime):
                look = PixelLook.from_json(json.loads(body))
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
            (f.path, f.size_bytes, f.mtime_ns, json.dumps(looks[f.path].as_json()))
            for f in self.exposures
            if f.path in looks
        ]
        self.store.write_many("INSERT INTO looks VALUES (?, ?, ?, ?)", rows, clear="DELETE FROM looks")

    def ceilings(self) -> dict[str, Ceiling]:
        """Return the measured full range of each camera setting."""
        return {key: Ceiling(**body) for key, body in self.meta("ceilings", {}).items()}

    def set_ceilings(self, ceilings: Mapping[str, Ceiling]) -> None:
        """Store the measured full ranges; the exposures' saturation follows."""
        self.set_meta("ceilings", {key: vars(ceiling) for key, ceiling in ceilings.items()})
        self._exposures = self._failed = None

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
        self._exposures = self._failed = None

    def corrections(self, name: str) -> dict[str, str]:
        """Return path to corrected value of one fact."""
        return dict(self.store.rows("SELECT path, value FROM corrections WHERE name = ?", (name,)))

    def facts(self, path: str) -> ExposureFacts | None:
        """Return the facts of one file."""
        return next((f for f in self.exposures if f.path == path), None)

    def groups(self) -> list[Group]:
        """Return all exposures in groups, left-out ones included."""
        return group_exposures(self.exposures, self.settings.masters.tolerances)

    # ---- selection

    @property
    def left_out(self) -> dict[str, str]:
        """Path to the reason, of files left out."""
        return dict(self.store.rows("SELECT path, why FROM left_out"))

    def leave_out(self, paths: Iterable[str], why: str) -> list[str]:
        """Leave files out; returns those that were not left out before."""
        fresh = [p for p in paths if p not in self.left_out]
        self.store.write_many("INSERT OR IGNORE INTO left_out VALUES (?, ?)", [(p, why) for p in fresh])
        return fresh

    def put_back(self, paths: Iterable[str]) -> dict[str, str]:
        """Put files back; returns what they were left out for."""
        known = self.left_out
        back = {p: known[p] for p in paths if p in known}
        self.store.write_many("DELETE FROM left_out WHERE path = ?", [(p,) for p in back])
        return back

    def kept(self) -> list[ExposureFacts]:
        """Return exposures that are not left out."""
        out = self.left_out
        return [f for f in self.exposures if f.path not in out]

    def lights(self) -> list[ExposureFacts]:
        """Return all lights in the order of time."""
        lights = [f for f in self.exposures if f.role is Role.LIGHT and not f.is_master]
        return sorted(lights, key=lambda f: (f.mid_utc is None, f.mid_utc.timestamp() if f.mid_utc else 0.0, f.path))

    # ---- findings

    def findings(self, station: str | None = None) -> list[Finding]:
        """Return findings, most serious first, of one station or all."""
        sql = "SELECT body FROM findings" + (" WHERE station = ?" if station else "") + " ORDER BY rowid"
        rows = self.store.rows(sql, (station,) if station else ())
        return sort_findings(finding_from_text(text) for (text,) in rows)

    def set_findings(self, station: str, findings: Iterable[Finding]) -> None:
        """Replace a station's findings."""
        with self.store.transaction() as connection:
            connection.execute("DELETE FROM findings WHERE station = ?", (station,))
            connection.executemany(
                "INSERT INTO findings VALUES (?, ?, ?)",
                [(station, i, finding_to_text(f)) for i, f in enumerate(findings)],
            )

    # ---- products

    def store_products(self, kind: str, products: Iterable[Product], *, clear: bool = False) -> None:
        """Store products of a kind, replacing those of the same source, or all of them."""
        with self.store.transaction() as connection:
            if clear:
                connection.execute("DELETE FROM products WHERE kind = ?", (kind,))
            connection.executemany(
                "INSERT OR REPLACE INTO products VALUES (?, ?, ?, ?)",
                [(kind, p.source, p.output, json.dumps(p.values, default=plain_value)) for p in products],
            )

    def products_of(self, kind: str) -> dict[str, Product]:
        """Return source to product; products whose file is gone are left away."""
        result = {}
        for source, output, body in self.store.rows(
            "SELECT source, output, body FROM products WHERE kind = ?", (kind,)
        ):
            if not output or Path(output).exists():
                result[source] = Product(kind, source, output, json.loads(body))
        return result

    # ---- stars with a role

    def stars(self) -> list[ListedStar]:
        """Return the stars to measure, in their order."""
        rows = self.store.rows("SELECT name, role, ra, dec, x, y FROM stars ORDER BY position")
        return [ListedStar(name, role, ra, dec, x, y) for name, role, ra, dec, x, y in rows]

    def set_stars(self, stars: Sequence[ListedStar]) -> None:
        """Replace the stars to measure."""
        self.store.write_many(
            "INSERT INTO stars VALUES (?, ?, ?, ?, ?, ?, ?)",
            [(s.name, i, s.role, s.ra, s.dec, s.x, s.y) for i, s in enumerate(stars)],
            clear="DELETE FROM stars",
        )

    # ---- state of the stations

    def input_stamp(self, station: str) -> str:
        """Return a fingerprint of all that a station's result depends on."""
        upto = STATIONS.index(station)
        settings = self.settings.model_dump(mode="json")
        # From calibrating on errors and noise hang on gain and read noise that were measured.
        origins = KNOWN_OTHERWISE if upto >= 2 else GIVEN
        parts: list[Any] = [[identity(f, origins) for f in self.exposures], settings["intake"]]
        if upto >= 1:
            parts.append(sorted(self.left_out))
            parts.append([settings[name] for name in STATIONS[1 : upto + 1]])
        if upto >= 5:
            parts.append([vars(star) for star in self.stars()])
        return fingerprint(*parts)

    def mark_run(self, station: str, result: str) -> None:
        """Remember that a station ran: ``done``, ``part`` or ``attention``."""
        ran = self.meta("ran", {})
        ran[station] = {"stamp": self.input_stamp(station), "result": result}
        self.set_meta("ran", ran)

    def state(self, station: str) -> str:
        """Return the bead of a station: empty, part, done, stale or attention."""
        entry = self.meta("ran", {}).get(station)
        if entry is None:
            return "empty"
        if entry["stamp"] != self.input_stamp(station):
            return "stale"
        return str(entry["result"])
