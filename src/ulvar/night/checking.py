"""Whether a night's files are still what they were: raws, and everything that was made of them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from ulvar.engine import JobContext
from ulvar.frames import FrameError, file_of
from ulvar.frames.gate import reading
from ulvar.frames.verifying import damage, digest_of, has_checksum
from ulvar.night.project import Night
from ulvar.night.state import STATIONS

RAW = "raw"
# Which station makes a kind of product again.
_STATION_OF = {
    RAW: "intake", "master": "masters", "camera": "masters", "calibrated": "calibrate", "flat_check": "calibrate",
    "found": "combine", "score": "combine", "stars": "combine", "stack": "combine", "stack_frame": "combine",
    "deep": "combine", "result": "combine", "colour": "combine",
    "plate": "plate",    "plate_stack": "plate", "measured": "measure", "rows": "measure", "curve": "curve",
}  # fmt: skip
_SILENT = "its contents are not what they were, though nobody wrote it"
# What tables of a series are called, and of which kind of product they are.
_TABLES = {"-series.csv": "measured", "-curve.csv": "curve"}


@dataclass(frozen=True)
class Checked:
    """One file, looked over.

    Attributes
    ----------
    file : str
    kind : str
        ``raw``, or the kind of product.
    station : str
        Which station makes it (again).
    problem : str
        What is wrong with it, in words; empty where it is sound.
    """

    file: str
    kind: str
    station: str
    problem: str


@dataclass(frozen=True)
class _Task:
    file: str
    kind: str
    known: tuple[int, int, str] | None


def _look(task: _Task) -> tuple[str, tuple[int, int, str] | None]:
    """Return what is wrong with a file, and its size, time and digest (runs in a worker)."""
    path = Path(task.file)
    if not path.exists():
        return "it is gone", None
    try:
        status = path.stat()
        if has_checksum(task.file):
            return damage(task.file), None
        now = status.st_size, status.st_mtime_ns, digest_of(task.file)
    except FrameError as error:
        return error.reason, None
    if task.known is None:
        return "", now
    if now == task.known or now[2] == task.known[2]:
        return "", now
    if task.known[:2] == now[:2]:
        return _SILENT, None
    # Of a product only Ulvar knows what it should be; a raw file may be replaced on purpose.
    return "it was written since, by something else" if task.kind != RAW else "it is another file than it was", now


def _lost(task: _Task, reason: str) -> tuple[str, tuple[int, int, str] | None]:
    return reason, None


def _files(night: Night) -> Iterable[tuple[str, str]]:
    """Yield (file, kind) of everything that belongs to the night."""
    for path in dict.fromkeys(file_of(facts.path) for facts in night.exposures):
        yield path, RAW
    root = str(night.products)
    for kind, output in night.store.rows(
        "SELECT DISTINCT kind, output FROM products WHERE output != '' ORDER BY kind, output"
    ):
        # A score names the exposure that it is of.
        if file_of(output).startswith(root):
            yield file_of(output), kind
    for table in sorted(night.products.rglob("*.stars.csv")):
        yield str(table), "stars"
    # What no row of the store names, but stations read: the tables of series.
    for (path,) in night.store.rows("SELECT path FROM sums ORDER BY path"):
        kind = next((kind for ending, kind in _TABLES.items() if path.endswith(ending)), "")
        if kind and path.startswith(root):
            yield path, kind


def remember_sums(night: Night) -> None:
    """Keep digests of the products that carry no checksum of their own, as a station has left them."""
    known = {path: (size, time) for path, size, time in night.store.rows("SELECT path, size, mtime_ns FROM sums")}
    rows = []
    for path in night.products.rglob("*"):
        if path.suffix in (".csv", ".wcs") and path.is_file():
            status = path.stat()
            if known.get(str(path)) != (status.st_size, status.st_mtime_ns):
                rows.append((str(path), status.st_size, status.st_mtime_ns, digest_of(str(path))))
    night.store.write_many("INSERT OR REPLACE INTO sums VALUES (?, ?, ?, ?)", rows)


def refuse_silent_change(night: Night, path: Path) -> None:
    """Refuse a product whose contents are others than were written, though it has the time and size of then.

    Of one that nothing is remembered of, or that was written since, nothing can be told so.

    Raises
    ------
    FrameError
        If it is so, or the file cannot be read.
    """
    known = night.store.rows("SELECT size, mtime_ns, digest FROM sums WHERE path = ?", (str(path),))
    if not known:
        return
    with reading(str(path)):
        status = path.stat()
    if (status.st_size, status.st_mtime_ns) == known[0][:2] and digest_of(str(path)) != known[0][2]:
        raise FrameError(str(path), _SILENT)


def check_night(night: Night, context: JobContext) -> list[Checked]:
    """Verify every file of a night.

    FITS files are verified by their own checksums; of others, and of raw files without any, the digest of the first
    look is kept, and compared from then on.
    """
    sums = {path: (size, time, digest) for path, size, time, digest in night.store.rows("SELECT * FROM sums")}
    kinds = dict(reversed([*_files(night)]))
    tasks = [_Task(path, kind, sums.get(path)) for path, kind in kinds.items()]
    found, fresh = [], []
    for task, (problem, stamp) in context.each(_look, tasks, "Verifying", lost=_lost):
        found.append(Checked(task.file, task.kind, _STATION_OF.get(task.kind, "intake"), problem))
        if stamp is not None and (not problem or task.kind == RAW):
            fresh.append((task.file, *stamp))
    night.store.write_many("INSERT OR REPLACE INTO sums VALUES (?, ?, ?, ?)", fresh)
    return sorted(found, key=lambda one: (STATIONS.index(one.station), one.file))


def set_aside(checked: Iterable[Checked]) -> list[str]:
    """Rename damaged products, so that their stations make them again; returns the new names. Raws are never touched."""
    names = []
    for one in checked:
        path = Path(one.file)
        if one.problem and one.kind != RAW and path.exists():
            aside = path.with_name(f"{path.name}.damaged")
            path.replace(aside)
            names.append(str(aside))
    return names


def stations_again(checked: Iterable[Checked]) -> list[str]:
    """Return the stations that would make again what is damaged or gone, and all that stand on it, in their order."""
    broken = {one.station for one in checked if one.problem and one.kind != RAW}
    first = min((STATIONS.index(station) for station in broken), default=len(STATIONS))
    return list(STATIONS[first:])
