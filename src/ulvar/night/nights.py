"""A target over many nights: what each night of a folder measured of it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from ulvar.astrometry import separation_deg
from ulvar.engine import Failed, JobContext
from ulvar.flows import CurvePart, Series, folded
from ulvar.frames import FrameError
from ulvar.lightcurves import still_place
from ulvar.night.project import Night
from ulvar.night.rebuilding import FILE
from ulvar.night.stations.shared import measured_files, series_path
from ulvar.night.stations.tables import series_table
from ulvar.night.store import NightError, Store
from ulvar.photometry import SeriesRow, SeriesTable

# Places of one star in several nights agree to this [deg]: to a few of the worst plate's errors.
_SAME_DEG = 4.0 / 3600
# Exposures with so much time between them are of two nights [d].
_APART_D = 0.3
# Nights lie in a folder, or in folders in it.
_DEEPEST = 2


@dataclass(frozen=True)
class TargetPart:
    """One night's measurements of a target in one filter.

    Attributes
    ----------
    part : CurvePart
        For `ulvar.flows.make_curve`; its name is unlike those of the others.
    folder : Path
        The night.
    series : str
        Key of its series.
    date, filter : str
    """

    part: CurvePart
    folder: Path
    series: str
    date: str
    filter: str

    @property
    def points(self) -> int:
        """How many rows the star has."""
        return len(self.part.table.star(self.part.target or ""))


@dataclass(frozen=True)
class MeasuredTarget:
    """A star that nights measured as a target: its name, place [deg] where it is known, and in how many nights."""

    name: str
    place: tuple[float, float] | None
    nights: int


@dataclass(frozen=True)
class MeasuredSeries:
    """What a night measured in one series.

    Attributes
    ----------
    folder : Path
        The night.
    series : Series
    table : SeriesTable
    out : frozenset of str
        Exposures that are left out, as the table calls them.
    unused : tuple of str
        Comparison stars that the night does not use.
    sessions : mapping of str to str
        Exposure to its session, as far as that is known.
    """

    folder: Path
    series: Series
    table: SeriesTable
    out: frozenset[str]
    unused: tuple[str, ...]
    sessions: Mapping[str, str]


@dataclass(frozen=True)
class NightsRead:
    """What was read of a folder of nights.

    Attributes
    ----------
    series : tuple of MeasuredSeries
    failed : tuple of Failed
        Nights and tables that could not be read.
    """

    series: tuple[MeasuredSeries, ...]
    failed: tuple[Failed, ...]

    def targets(self) -> list[MeasuredTarget]:
        """Return the stars with the role target, those of most nights first."""
        found: list[tuple[str, tuple[float, float] | None, set[Path]]] = []
        for one in self.series:
            for name in one.table.names("target"):
                place = still_place(one.table.star(name))
                known = next((k for k in found if _same(k[0], k[1], name, place)), None)
                if known is None:
                    found.append((name, place, {one.folder}))
                else:
                    known[2].add(one.folder)
        return sorted((MeasuredTarget(n, p, len(f)) for n, p, f in found), key=lambda one: (-one.nights, one.name))

    def star(self, name: str) -> MeasuredTarget | None:
        """Return a star by what any night calls it, its capitals and spaces aside; targets go before others."""
        known = [one for one in self.targets() if folded(one.name) == folded(name)]
        if known:
            return known[0]
        for one in self.series:
            for other in one.table.names():
                if folded(other) == folded(name):
                    return MeasuredTarget(other, still_place(one.table.star(other)), 1)
        return None

    def parts(self, target: MeasuredTarget) -> list[TargetPart]:
        """Return what the nights measured of a star, in the order of time; wherever it is measured, in whatever role."""
        found = []
        for one in self.series:
            name = _found_in(one.table, target)
            if name is None:
                continue
            for night in _nights_of(one.table, name):
                first = night.star(name)[0]
                date = one.sessions.get(first.file) or _date(first)
                part = CurvePart(f"{date} {one.series.filter or 'no filter'}", night, name, one.unused, one.out)
                found.append((first.jd_utc, TargetPart(part, one.folder, one.series.key, date, one.series.filter)))
        return _named_apart([part for _, part in sorted(found, key=lambda one: one[0])])


def nights_in(folder: Path) -> list[Path]:
    """Return the nights in a folder, itself among them, by name."""
    found: list[Path] = []

    def look(place: Path, depth: int) -> None:
        if (place / FILE).is_file():
            found.append(place)
        elif depth < _DEEPEST:
            try:
                inside = sorted(p for p in place.iterdir() if p.is_dir() and not p.name.startswith("."))
            except OSError:
                return
            for one in inside:
                look(one, depth + 1)

    look(folder, 0)
    return found


def read_nights(folders: Sequence[Path], context: JobContext | None = None) -> NightsRead:
    """Read what nights measured; one that cannot be read is told, and the others go on.

    Parameters
    ----------
    folders : sequence of Path
        Nights, as `nights_in` finds them.
    context : JobContext, optional
        Told of each night; stops between two.
    """
    read: list[MeasuredSeries] = []
    failed: list[Failed] = []
    for number, folder in enumerate(folders):
        if context is not None:
            context.stop.check()
            context.progress(number, len(folders), "Reading nights")
        try:
            with _opened(folder) as night:
                gone, unused = night.left_out, tuple(night.settings.curve.leave_out)
                for series in night.series():
                    if not series_path(night, series).exists():
                        continue
                    try:
                        table = series_table(night, series)
                    except FrameError as error:
                        failed.append(Failed(error.reason, error.path))
                        continue
                    files = measured_files(night, series)
                    out = frozenset(file for raw, file in files.items() if raw in gone)
                    sessions = {files[f.path]: f.session for f in series.members if f.path in files and f.session}
                    read.append(MeasuredSeries(folder, series, table, out, unused, sessions))
        except NightError as error:
            failed.append(Failed(str(error), str(folder)))
    return NightsRead(tuple(read), tuple(failed))


@contextmanager
def _opened(folder: Path) -> Iterator[Night]:
    """Open a night to read it: one that is damaged is not made anew for that."""
    Store(folder / FILE).close()
    night = Night(folder)
    try:
        yield night
    finally:
        night.close()


def _same(name: str, place: tuple[float, float] | None, other: str, there: tuple[float, float] | None) -> bool:
    """Whether two are one star: by places where both are known, else by names."""
    if place is not None and there is not None:
        return float(separation_deg(*place, *there)) < _SAME_DEG
    return folded(name) == folded(other)


def _found_in(table: SeriesTable, target: MeasuredTarget) -> str | None:
    """Return what a table calls a star; a target goes before a comparison star."""
    names = table.names()
    aims = set(table.names("target"))
    for name in sorted(names, key=lambda one: one not in aims):
        rows = table.star(name)
        if _same(target.name, target.place, name, still_place(rows)):
            return name
    return None


def _nights_of(table: SeriesTable, name: str) -> list[SeriesTable]:
    """Split a table where its target was not looked at for long."""
    rows = sorted((row for row in table.star(name) if np.isfinite(row.jd_utc)), key=lambda row: row.jd_utc)
    if not rows:
        return []
    times = np.array([row.jd_utc for row in rows])
    edges = times[1:][np.diff(times) > _APART_D]
    if not len(edges):
        return [table]
    night_of = {row.exposure: int(np.searchsorted(edges, row.jd_utc, side="right")) for row in rows}
    return [
        SeriesTable([row for row in table.rows if night_of.get(row.exposure) == number])
        for number in range(len(edges) + 1)
    ]


def _date(row: SeriesRow) -> str:
    return f"{row.time_utc_mid:%Y-%m-%d}" if row.time_utc_mid is not None else f"JD {row.jd_utc:.0f}"


def _named_apart(parts: Sequence[TargetPart]) -> list[TargetPart]:
    """Return parts of names of their own: two telescopes may have looked at once."""
    counts = Counter(one.part.name for one in parts)
    result, seen = [], set()
    for one in parts:
        name = one.part.name
        if counts[name] > 1:
            name = f"{name} {one.folder.name}"
        number, base = 2, name
        while name in seen:
            name, number = f"{base} ({number})", number + 1
        seen.add(name)
        result.append(replace(one, part=replace(one.part, name=name)))
    return result
