"""A catalogue on disk: tiles of the sky of nearly equal area, each a Parquet file."""

from __future__ import annotations

import json
import math
import shutil
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry.tables import CatalogueError
from ulvar.engine import F64Array, atomic_path, files_in, temporary_name, write_text
from ulvar.frames import in_circle

# Height of a zone of tiles; older catalogues, which do not tell it, have lower ones [deg].
_ZONE_DEG, _OLD_ZONE_DEG = 5.0, 2.0
TOLD = "catalogue.json"
# So many rows are held before they go to the disk: eight columns of them are some 130 MB.
_HELD = 2_000_000
_WRITERS = 2
# Where rows of an import are laid by, what tells how far it is, and after how long it is forgotten [s].
_ASIDE, _LAID, _FORGOTTEN_S = ".import-", "laid.json", 7 * 86400.0
_REPEATED = ("epoch", "variable")
Columns = dict[str, F64Array]


def zone_height(folder: Path) -> float:
    """Return the height of a catalogue's zones [deg]."""
    try:
        told = float(json.loads((folder / TOLD).read_text(encoding="utf-8"))["zone_deg"])
        return told if 0.1 <= told <= 90 else _OLD_ZONE_DEG
    except (OSError, ValueError, KeyError, TypeError):
        return _OLD_ZONE_DEG if files_in(folder, "*.parquet") else _ZONE_DEG


def _zones(height_deg: float) -> int:
    return math.ceil(180 / height_deg)


def _tiles_in(zone: F64Array, height_deg: float) -> F64Array:
    """Return how many about square tiles there are in zones."""
    middle = np.radians(-90 + (zone + 0.5) * height_deg)
    return np.maximum(1, np.round(360 * np.cos(middle) / height_deg))


def tile_numbers(ra: F64Array, dec: F64Array, height_deg: float) -> tuple[F64Array, F64Array]:
    """Return the zone of each star and its place in the zone, as whole numbers.

    Parameters
    ----------
    ra, dec : float64 array, shape (stars,)
        [deg]
    height_deg : float
    """
    zone = np.minimum(np.floor((dec + 90.0) / height_deg), _zones(height_deg) - 1)
    return zone, np.floor(in_circle(ra) / 360 * _tiles_in(zone, height_deg))


def tiles_near(ra: float, dec: float, radius_deg: float, height_deg: float) -> set[str]:
    """Return the names of the tiles that a cone [deg] touches (and perhaps a few beside it)."""
    names: set[str] = set()
    last_zone = _zones(height_deg) - 1
    first, last = (min(max(int((d + 90.0) // height_deg), 0), last_zone) for d in (dec - radius_deg, dec + radius_deg))
    for zone in range(first, last + 1):
        count = int(_tiles_in(np.array(float(zone)), height_deg))
        # The widest the cone gets in right ascension (Smart 1977, 10); over a pole it is all around.
        if abs(dec) + radius_deg >= 90.0:
            names |= {_name(zone, i) for i in range(count)}
            continue
        half = math.degrees(math.asin(min(1.0, math.sin(math.radians(radius_deg)) / math.cos(math.radians(dec)))))
        low, top = (math.floor(a / 360 * count) for a in (ra - half, ra + half))
        names |= {_name(zone, i % count) for i in range(low, min(top, low + count) + 1)}
    return names


def _name(zone: int, place: int) -> str:
    return f"{zone:03d}-{place:04d}"


def write_columns(
    portions: Iterable[Columns],
    folder: Path,
    told: Callable[[int, str], object] = lambda stars, text: None,
    *,
    source: str = "",
) -> tuple[int, int]:
    """Add stars to the tiles of a catalogue; a star at a place that a tile already holds is not doubled.

    Parameters
    ----------
    portions : iterable of dict of str to float64 array
        Of rows of stars: ``ra, dec, epoch, pmra, pmdec, mag``, bands as ``band_<name>``, errors as ``error_<name>``, ``variable``, and ``id``,
        which is text.
    folder : Path
    told : callable
        Given how many stars have come, and what goes on.
    source : str, optional
        Tells the portions from all others: an import that was interrupted goes on where it was, if the same comes again.

    Returns
    -------
    (int, int)
        Stars that came, and tiles that they lie in.

    Notes
    -----
    What comes is laid by in portions beside the tiles and put into them at the end, tile by tile, so that memory does not grow with
    the table. A tile is there as it was or as it is to be.
    """
    folder.mkdir(parents=True, exist_ok=True)
    height = zone_height(folder)
    _forget_old(folder)
    aside = _Aside(folder / (f"{_ASIDE}{source}" if source else temporary_name("import", mark="scratch")), height)
    held: list[Columns] = []
    stars = waiting = 0
    try:
        for number, columns in enumerate(portions):
            stars += len(columns["ra"])
            told(stars, "Reading stars")
            if number < aside.portions:
                # Laid by before the interruption.
                continue
            held.append(columns)
            waiting += len(columns["ra"])
            if waiting >= _HELD:
                aside.lay_by(held, number + 1)
                held, waiting = [], 0
        told(stars, "Writing tiles")
        if stars:
            # Tiles without it are taken for those of before there was more than one height.
            _tell_height(folder, height)
        if not aside.laid:
            # All of it is in memory.
            written = _write_all(folder, _split(_joined(held), height) if held else iter(()))
        else:
            aside.lay_by(held, aside.portions + len(held))
            written = _write_all(
                folder,
                (
                    (name, _joined([read_tile(p, words=True) for p in files]))
                    for name, files in sorted(aside.parts().items())
                ),
            )
    except Exception:
        # What went wrong would go wrong again; an interruption is no such thing.
        aside.remove()
        raise
    aside.remove()
    return stars, written


def _tell_height(folder: Path, height_deg: float) -> None:
    told = told_of_tiles(folder)
    if told.get("zone_deg") != height_deg:
        write_text(folder / TOLD, json.dumps(told | {"zone_deg": height_deg}, indent=1), replace=True)


class _Aside:
    """Rows that were laid by beside the tiles, and how many portions they are of.

    Attributes
    ----------
    portions, laid : int
        Portions that are laid by, and how often something was.
    """

    def __init__(self, place: Path, height_deg: float) -> None:
        self._place, self._height = place, height_deg
        self.portions = self.laid = 0
        try:
            known = json.loads((place / _LAID).read_text(encoding="utf-8"))
            if known["zone_deg"] == height_deg:
                self.portions, self.laid = int(known["portions"]), int(known["laid"])
        except (OSError, ValueError, KeyError, TypeError):
            shutil.rmtree(place, ignore_errors=True)
        for path in files_in(place, "*.parquet"):
            # Of what was being laid by when it was interrupted.
            if int(path.stem.rpartition(".")[2]) >= self.laid:
                path.unlink()

    def lay_by(self, held: Sequence[Columns], portions: int) -> None:
        """Put rows on the disk; they are of the portions up to this one."""
        if not held:
            return
        self._place.mkdir(exist_ok=True)
        for name, columns in _split(_joined(held), self._height):
            _write(self._place / f"{name}.{self.laid}.parquet", columns)
        self.laid, self.portions = self.laid + 1, portions
        known = {"zone_deg": self._height, "portions": self.portions, "laid": self.laid}
        write_text(self._place / _LAID, json.dumps(known), replace=True)

    def parts(self) -> dict[str, list[Path]]:
        """Return the files of each tile, in the order in which they were laid by."""
        found: dict[str, list[Path]] = {}
        for path in sorted(files_in(self._place, "*.parquet"), key=lambda p: int(p.stem.rpartition(".")[2])):
            found.setdefault(path.stem.partition(".")[0], []).append(path)
        return found

    def remove(self) -> None:
        """Take it all away."""
        shutil.rmtree(self._place, ignore_errors=True)


def _forget_old(folder: Path) -> None:
    """Take away what imports left that nobody went on with for long."""
    for place in folder.glob(f"{_ASIDE}*"):
        with suppress(OSError):
            if time.time() - place.stat().st_mtime > _FORGOTTEN_S:
                shutil.rmtree(place, ignore_errors=True)


def told_of_tiles(folder: Path) -> dict[str, Any]:
    """Return what is written down about a catalogue; nothing where nothing can be read."""
    try:
        told = json.loads((folder / TOLD).read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return told if isinstance(told, dict) else {}


def tile_places(names: Sequence[str], height_deg: float) -> tuple[F64Array, float]:
    """Return middle, width and height of tiles [deg], shape (tiles, 4), and the area that they cover [square degrees]."""
    places, area = np.empty((len(names), 4)), 0.0
    for k, name in enumerate(names):
        zone, place = (int(part) for part in name.split("-"))
        count = float(_tiles_in(np.array(float(zone)), height_deg))
        low, high = -90 + zone * height_deg, min(90.0, -90 + (zone + 1) * height_deg)
        places[k] = (place + 0.5) * 360 / count, (low + high) / 2, 360 / count, high - low
        area += 360 / count * math.degrees(math.sin(math.radians(high)) - math.sin(math.radians(low)))
    return places, area


def _joined(portions: Sequence[Columns]) -> Columns:
    """Return rows one below the other; a column that some lack is NaN there."""
    names = {name for columns in portions for name in columns}
    return {
        name: np.concatenate([c[name] if name in c else _nothing(name, len(c["ra"])) for c in portions])
        for name in sorted(names)
    }


def _nothing(name: str, count: int) -> np.ndarray:
    """Return a column of rows that do not tell it."""
    return np.full(count, "", dtype=object) if name == "id" else np.full(count, math.nan)


def _split(columns: Columns, height: float) -> Iterator[tuple[str, Columns]]:
    """Yield the rows of each tile."""
    zone, place = tile_numbers(columns["ra"], columns["dec"], height)
    number = zone.astype(np.int64) * 10_000 + place.astype(np.int64)
    order = np.argsort(number, kind="stable")
    ends = np.flatnonzero(np.diff(number[order])) + 1
    for rows in np.split(order, ends):
        if len(rows):
            one = int(number[rows[0]])
            yield _name(one // 10_000, one % 10_000), {name: values[rows] for name, values in columns.items()}


def _write(path: Path, columns: Columns) -> None:
    import pyarrow as pa
    import pyarrow.parquet as pq

    with path.open("wb") as handle:
        # Hardly a value comes twice but in these: a dictionary of the others would only cost time.
        pq.write_table(pa.table(columns), handle, use_dictionary=[name for name in _REPEATED if name in columns])


def _write_all(folder: Path, tiles: Iterable[tuple[str, Columns]]) -> int:
    """Write tiles, what they hold already included; returns how many."""

    def write(tile: tuple[str, Columns]) -> None:
        name, columns = tile
        path = folder / f"{name}.parquet"
        known = [read_tile(path, words=True)] if path.exists() else []
        merged = _joined([*known, columns])
        once = _once(merged["ra"], merged["dec"])
        # Arrow takes names that are UTF-8; a file that is open needs none.
        with atomic_path(path) as temporary:
            _write(temporary, {key: values[once] for key, values in merged.items()})

    count = 0
    # Packing and writing leave Python's lock alone. All at once would be the whole table in memory.
    with ThreadPoolExecutor(_WRITERS) as pool:
        waiting: deque[Future[None]] = deque()
        for tile in tiles:
            count += 1
            waiting.append(pool.submit(write, tile))
            if len(waiting) > _WRITERS:
                waiting.popleft().result()
        for one in waiting:
            one.result()
    return count


def _once(ra: F64Array, dec: F64Array) -> np.ndarray:
    """Return the rows that are the first at their place, in order."""
    order = np.lexsort((np.arange(len(ra)), dec, ra))
    same = (np.diff(ra[order]) == 0) & (np.diff(dec[order]) == 0)
    return np.sort(order[np.concatenate([[True], ~same])]) if len(order) else order


def read_tile(path: Path, *, words: bool = False) -> Columns:
    """Return the columns of a tile; identifiers, which are seldom asked for, only with `words`.

    Raises
    ------
    CatalogueError
        If it cannot be read or is none.
    """
    import pyarrow as pa
    import pyarrow.parquet as pq

    try:
        with path.open("rb") as handle:
            file = pq.ParquetFile(handle)
            names = [name for name in file.schema_arrow.names if words or name != "id"]
            table = file.read(columns=names)
        columns = {
            name: np.asarray(table.column(name).to_numpy(), dtype=object if name == "id" else np.float64)
            for name in names
        }
    except (OSError, ValueError, TypeError, MemoryError, pa.ArrowException) as error:
        first = (str(error).splitlines() or [type(error).__name__])[0]
        raise CatalogueError(f"{path}: it cannot be read as a catalogue tile ({first})") from None
    if not {"ra", "dec"} <= set(columns):
        raise CatalogueError(f"{path}: it is no catalogue tile: it has no ra and dec columns")
    return columns


def read_tiles(
    folder: Path, near: Sequence[tuple[float, float, float]] | None, *, words: bool = False
) -> dict[str, Any]:
    """Return the columns of a catalogue, bands by their names; with `near` of the tiles alone that one of the cones touches.

    Raises
    ------
    CatalogueError
        If there are no tiles, or none near.
    """
    if near is None:
        files = files_in(folder, "*.parquet")
    else:
        # A whole sky has many tiles: only those that are wanted are looked for.
        height = zone_height(folder)
        wanted = set().union(*(tiles_near(*cone, height) for cone in near))
        files = [path for path in (folder / f"{name}.parquet" for name in sorted(wanted)) if path.exists()]
        if not files and files_in(folder, "*.parquet"):
            raise CatalogueError(f"{folder}: the catalogue does not cover this part of the sky")
    if not files:
        raise CatalogueError(f"{folder}: the folder holds no catalogue tiles")
    whole = _joined([read_tile(path, words=words) for path in files])
    return {name.removeprefix("band_"): values for name, values in whole.items()}
