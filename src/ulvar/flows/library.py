"""The library: masters that serve many nights, what is known of each camera, and the camera's list of defects."""

from __future__ import annotations

import csv
import errno
import json
import os
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
import platformdirs

from ulvar.calibration import Candidate, master_numbers, read_master
from ulvar.engine import F32Array, MaskArray, OutputExists, copy_file, files_in, write_csv, write_text
from ulvar.frames import (
    ExposureFacts,
    FrameError,
    MaskBit,
    Role,
    facts_from_text,
    facts_to_text,
    fingerprint,
    read_plane,
    scan_file,
    with_user_facts,
    write_fits,
)
from ulvar.inspection import camera_key

PREFIX = "library/"
_INDEX = "library.json"
# What only people know and no file of a master repeats, kept twice: damage to one leaves the other.
_KEPT = ("kept.json", "kept-copy.json")


@dataclass(frozen=True)
class Entry:
    """A master in the library.

    Attributes
    ----------
    name : str
        File name within the library.
    facts : ExposureFacts
    level_adu, noise_adu : float or None
    added : str
        Day, ISO.
    origin : str
        Where it came from: the night's name, or the file it was copied from.
    retired : bool
        Kept, and used no more.
    """

    name: str
    facts: ExposureFacts
    level_adu: float | None
    noise_adu: float | None
    added: str
    origin: str
    retired: bool = False

    @property
    def candidate(self) -> Candidate:
        """As matching takes it."""
        return Candidate(self.facts.role, self.facts, self.facts.count, PREFIX + self.name, self.level_adu)


@dataclass(frozen=True)
class CameraNumbers:
    """Gain and read noise of a camera setting, as photon transfer measured them."""

    gain_e_per_adu: float
    gain_error: float
    read_noise_e: float
    read_noise_error: float
    measured: str


@dataclass
class _Decided:
    """Names of retired masters, name to (day it was put in, where it came from), camera setting to its numbers."""

    retired: set[str]
    origins: dict[str, Any]
    cameras: dict[str, Any]


def _json_object(path: Path) -> dict[str, Any] | None:
    """Return what a file holds, None when there is none or it is damaged."""
    try:
        body = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return None
    return body if isinstance(body, dict) else None


def default_library() -> Path:
    """Return the user's own library folder."""
    return platformdirs.user_data_path("ulvar") / "library"


def _same_pixels(path: Path, data: F32Array) -> bool:
    try:
        return np.array_equal(read_master(str(path)).data, data, equal_nan=True)
    except FrameError:
        return False


class Library:
    """A folder of masters with an index that can be made anew from the files, and what was decided beside it.

    Decisions are which masters are retired, where each came from, and the numbers of cameras; they stand in
    ``kept.json`` and once more in ``kept-copy.json``.

    Parameters
    ----------
    folder : Path
        Made when something is first put in.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    # ---- the index

    def _read(self) -> dict[str, dict]:
        # The index only repeats what the files say; a damaged one is made anew.
        return _json_object(self.folder / _INDEX) or {}

    def _write(self, index: dict[str, dict]) -> None:
        write_text(self.folder / _INDEX, json.dumps(index, indent=1, sort_keys=True))

    def _decided(self) -> _Decided:
        for name in _KEPT:
            body = _json_object(self.folder / name)
            if body is not None:
                return _Decided(set(body.get("retired", [])), body.get("origins", {}), body.get("cameras", {}))
        # Libraries of older versions have decisions in the index.
        index = self._read()
        masters = {name: body for name, body in index.items() if name != "cameras"}
        return _Decided(
            {name for name, body in masters.items() if body.get("retired")},
            {name: [body.get("added", ""), body.get("origin", "")] for name, body in masters.items()},
            index.get("cameras", {}),
        )

    def _decide(self, decided: _Decided) -> None:
        body = {"retired": sorted(decided.retired), "origins": decided.origins, "cameras": decided.cameras}
        for name in _KEPT:
            write_text(self.folder / name, json.dumps(body, indent=1, sort_keys=True))

    def entries(self, *, retired: bool = False) -> list[Entry]:
        """Return the masters in the library; files that were put there or taken away by hand are noticed."""
        if not self.folder.is_dir():
            return []
        decided = self._decided()
        known = {name: body for name, body in self._read().items() if name != "cameras"}
        index = dict(known)
        found: list[Entry] = []
        changed = False
        files = files_in(self.folder, "*.fits")
        for path in files:
            status = path.stat()
            body = known.get(path.name)
            if body is None or body["stamp"] != [status.st_size, status.st_mtime_ns]:
                try:
                    body = self._described(path)
                except FrameError:
                    continue
                index[path.name] = body
                changed = True
            facts = replace(facts_from_text(body["facts"]), path=str(path))
            day = datetime.fromtimestamp(status.st_mtime, UTC).strftime("%Y-%m-%d")
            added, origin = decided.origins.get(path.name, (day, ""))
            retired_now = path.name in decided.retired
            entry = Entry(path.name, facts, body["level"], body["noise"], added, origin, retired_now)
            if retired or not entry.retired:
                found.append(entry)
        for name in set(known) - {p.name for p in files}:
            del index[name]
            changed = True
        if changed:
            if not any((self.folder / name).exists() for name in _KEPT):
                # An index of an older version holds decisions, which come first.
                self._decide(decided)
            self._write(index)
        return found

    def _described(self, path: Path) -> dict:
        facts = scan_file(str(path))
        if facts.role in (Role.LIGHT, Role.UNKNOWN):
            raise FrameError(str(path), "it does not say which kind of master it is")
        numbers = master_numbers(str(path))
        level = numbers.get("MLEVEL")
        if level is None:
            level = float(np.nanmedian(read_plane(str(path))[::4, ::4]))
        status = path.stat()
        return {
            "facts": facts_to_text(replace(facts, is_master=True)), "level": level, "noise": numbers.get("MNOISE"),
            "stamp": [status.st_size, status.st_mtime_ns],
        }  # fmt: skip

    # ---- putting in and out

    def add(
        self, source: Path, *, given: dict[str, str] | None = None, origin: str = "", replace_existing: bool = False
    ) -> Entry:
        """Put a master into the library as a copy.

        Parameters
        ----------
        source : Path
            A master made here, or by another program.
        given : dict, optional
            Facts that the header does not tell, as `with_user_facts` takes them: ``role``, ``count`` …
        origin : str
            Where it comes from.
        replace_existing : bool
            Whether a master of the same name is replaced.

        Raises
        ------
        FrameError
            If it cannot be read, or does not say what it is a master of.
        OutputExists
            If the name is taken.
        ValueError
            If a given fact cannot be read.
        """
        own = scan_file(str(source))
        facts = with_user_facts(own, given or {})
        if facts.role in (Role.LIGHT, Role.UNKNOWN):
            raise FrameError(str(source), "it does not say what it is a master of; give its role")
        name = master_file_name(facts)
        target = self.folder / name
        # Read as a master, so that a flat made elsewhere becomes relative and the copy says what it is; read in any case,
        # because a header may promise pixels that are not there.
        told = own.role in (Role.BIAS, Role.DARK, Role.DARK_FLAT, Role.FLAT)
        data = read_master(str(source)).data if told else read_plane(str(source))
        if not np.isfinite(data).any():
            raise FrameError(str(source), "none of its pixels has a value")
        from_here = master_numbers(str(source))
        # It may have been copied before, by a command that was ended before it was listed.
        there = target.exists() and not replace_existing and _same_pixels(target, data)
        if from_here and not given and not there:
            copy_file(source, target, replace=replace_existing)
        elif not there:
            self._write_copy(source, facts, data, target, replace_existing)
        decided = self._decided()
        decided.retired.discard(name)
        if not (there and decided.origins.get(name, ["", ""])[1]):
            decided.origins[name] = [datetime.now(UTC).strftime("%Y-%m-%d"), origin or source.name]
        self._decide(decided)
        kept = next((e for e in self.entries(retired=True) if e.name == name), None)
        if kept is None:
            # Its disk was taken away since.
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), str(target))
        return kept

    def _write_copy(
        self, source: Path, facts: ExposureFacts, data: F32Array, target: Path, replace_existing: bool
    ) -> None:
        level = float(np.nanmedian(data[::4, ::4]))
        start = facts.start_utc.strftime("%Y-%m-%dT%H:%M:%S") if facts.start_utc else None
        cards = [
            ("IMAGETYP", f"Master {facts.role.word}", "combined frame"),
            ("NCOMBINE", facts.count, "frames combined"),
            ("MLEVEL", round(level, 3), "level"),
            ("EXPTIME", facts.exposure_s, "[s]"),
            ("GAIN", facts.gain, "camera setting"),
            ("OFFSET", facts.offset, "camera setting"),
            ("CCD-TEMP", facts.sensor_temperature_c, "[C]"),
            ("FILTER", facts.filter or None, ""),
            ("INSTRUME", facts.camera or None, ""),
            ("XBINNING", facts.binning, ""),
            ("DATE-OBS", start, ""),
            ("BAYERPAT", facts.cfa or None, "Bayer (CFA) pattern"),
        ]
        write_fits(target, data, cards=cards, history=[f"copied from {source.name}"], replace=replace_existing)

    def retire(self, names: Iterable[str], *, retired: bool = True) -> None:
        """Take masters out of use, or back into it; the files stay."""
        decided = self._decided()
        there = {name for name in names if (self.folder / name).is_file()}
        decided.retired = decided.retired | there if retired else decided.retired - there
        self._decide(decided)

    def candidates(self) -> list[tuple[Candidate, str]]:
        """Return (candidate, path) of the masters in use."""
        return [(entry.candidate, str(self.folder / entry.name)) for entry in self.entries()]

    # ---- cameras

    def camera_numbers(self) -> dict[str, CameraNumbers]:
        """Return camera setting (see `camera_key`) to measured gain and read noise."""
        return {key: CameraNumbers(**body) for key, body in self._decided().cameras.items()}

    def remember_camera(self, facts: ExposureFacts, numbers: CameraNumbers) -> None:
        """Remember gain and read noise of the setting that an exposure was taken with."""
        decided = self._decided()
        decided.cameras[camera_key(facts)] = vars(numbers)
        self._decide(decided)

    def defect_file(self, facts: ExposureFacts) -> Path:
        """Return the file of a camera's list of defects."""
        name = "".join(c if c.isalnum() else "-" for c in facts.camera or "camera").strip("-")
        mark = fingerprint(facts.camera, facts.binning, facts.width, facts.height)[:6]
        return self.folder / "defects" / f"{name}-{facts.width}x{facts.height}-{mark}.csv"

    def defects(self, facts: ExposureFacts) -> MaskArray | None:
        """Return a camera's defect list as a plane of `MaskBit`, None when there is none.

        Raises
        ------
        ValueError
            If the file holds a line that is no pixel of this camera.
        """
        path = self.defect_file(facts)
        if not path.exists():
            return None
        mask = np.zeros((facts.height, facts.width), dtype=np.uint16)
        with path.open(newline="", encoding="utf-8") as handle:
            for number, row in enumerate(csv.DictReader(handle), 2):
                try:
                    x, y, bit = int(row["x"]), int(row["y"]), MaskBit[row["kind"].upper()]
                    if not (0 <= x < facts.width and -1 <= y < facts.height):
                        raise ValueError("outside the frame")
                except (KeyError, TypeError, ValueError) as error:
                    raise ValueError(f"{path.name}, line {number}: {error}") from None
                if y < 0:
                    mask[:, x] |= np.uint16(bit)
                else:
                    mask[y, x] |= np.uint16(bit)
        return mask

    def store_defects(self, facts: ExposureFacts, rows: Sequence[tuple[int, int, str]]) -> None:
        """Write a camera's defect list: (x, y, kind), y = -1 for a whole column; kind hot, cold or column."""
        write_csv(self.defect_file(facts), ("x", "y", "kind"), [(str(x), str(y), kind) for x, y, kind in rows])


def master_file_name(facts: ExposureFacts) -> str:
    """Return the name of a master in a library: everything that tells it from others, and its day."""
    parts = [facts.role.value.replace("_", "-"), facts.camera or "camera"]
    if facts.role is Role.FLAT:
        parts.append(facts.filter or "no-filter")
    if facts.exposure_s is not None:
        parts.append(f"{facts.exposure_s:g}s")
    if facts.gain is not None:
        parts.append(f"g{facts.gain:g}")
    if facts.offset is not None:
        parts.append(f"o{facts.offset:g}")
    if facts.sensor_temperature_c is not None:
        parts.append(f"{facts.sensor_temperature_c:+.0f}C")
    parts.append(f"{facts.width}x{facts.height}-bin{facts.binning}")
    parts.append(facts.start_utc.strftime("%Y%m%d") if facts.start_utc else "undated")
    safe = ["".join(c if c.isalnum() or c in "+-." else "_" for c in part) for part in parts]
    return "_".join(safe) + ".fits"


def library_at(folder: str) -> Library:
    """Return the library in a folder; the user's own where none is named."""
    return Library(Path(folder) if folder else default_library())


__all__ = [
    "PREFIX",
    "CameraNumbers",
    "Entry",
    "Library",
    "OutputExists",
    "default_library",
    "library_at",
    "master_file_name",
]
