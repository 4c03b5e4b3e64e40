"""Catalogues on disk as the solver takes them: their stars where they are asked for, with an index that is kept beside them."""

from __future__ import annotations

import os
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from ulvar.astrometry.catalogue import StarCatalogue, load_catalogue
from ulvar.astrometry.index import build_index, open_index, write_index
from ulvar.astrometry.solver import Sky
from ulvar.astrometry.sphere import separation_deg
from ulvar.astrometry.tables import CatalogueError
from ulvar.engine import Progress, StopToken, reason_words, silent
from ulvar.frames import fingerprint

# Tiles are read for so wide a circle about a place, that the next exposure's is read already [deg].
_BESIDE_DEG = 1.0


def state_of(path: str) -> str:
    """Return a fingerprint of a catalogue's files: another one when any of them was changed.

    Raises
    ------
    CatalogueError
        If there is none.
    """
    place = Path(path)
    try:
        if not place.is_dir():
            status = place.stat()
            return fingerprint(status.st_size, status.st_mtime_ns)
        tiles = [(entry.name, entry.stat()) for entry in os.scandir(place) if entry.name.endswith(".parquet")]
    except OSError as error:
        raise CatalogueError(f"{path}: {reason_words(error)}") from None
    return fingerprint(sorted((name, status.st_size, status.st_mtime_ns) for name, status in tiles))


def has_index(path: str) -> bool:
    """Whether a folder of tiles has an index of the state that it is in."""
    return WholeSky.of(path).indexed


def index_catalogue(
    path: str, *, threads: int = 1, progress: Progress = silent, stop: StopToken | None = None
) -> tuple[int, int]:
    """Index a folder of tiles, and keep the index in it.

    Parameters
    ----------
    path : str
    threads : int
    progress : Progress
    stop : StopToken, optional

    Returns
    -------
    (int, int)
        Stars and patterns of the index.

    Raises
    ------
    CatalogueError
        If there are no tiles, or one cannot be read.
    OSError
        If the folder takes no output.
    """
    state = state_of(path)
    index = build_index(load_catalogue(path), threads=threads, progress=progress, stop=stop)
    write_index(index, Path(path), state)
    return len(index.ra), len(index.stars)


@dataclass(frozen=True)
class WholeSky:
    """All of a catalogue on disk; what was opened of it stays open in a process.

    Attributes
    ----------
    path : str
        A table, or a folder of tiles.
    state : str
        See `state_of`.
    """

    path: str
    state: str

    @classmethod
    def of(cls, path: str) -> WholeSky:
        """Return a catalogue in the state that it is in.

        Raises
        ------
        CatalogueError
            If there is none.
        """
        return cls(path, state_of(path))

    @property
    def is_folder(self) -> bool:
        """Whether it is of tiles, whose index is kept."""
        return Path(self.path).is_dir()

    @property
    def indexed(self) -> bool:
        """Whether it has an index of the state that it is in."""
        return self.is_folder and open_index(Path(self.path), self.state) is not None

    def sky(self) -> Sky:
        """Return its stars with an index: the one that is kept, or one made in memory.

        Raises
        ------
        CatalogueError
            If it cannot be read.
        """
        return _opened(self)


@lru_cache(maxsize=2)
def _opened(whole: WholeSky) -> Sky:
    place = Path(whole.path)
    kept = open_index(place, whole.state) if place.is_dir() else None
    if kept is not None:
        return Sky(_TilesNear(whole.path), kept)
    catalogue = load_catalogue(whole.path)
    return Sky(catalogue.cone, build_index(catalogue))


class _TilesNear:
    """Stars of a folder of tiles about a place; what was read last is kept."""

    def __init__(self, path: str) -> None:
        self._path = path
        self._read: tuple[float, float, float, StarCatalogue] | None = None

    def __call__(self, ra: float, dec: float, radius_deg: float) -> StarCatalogue:
        if self._read is not None:
            ra0, dec0, reach, stars = self._read
            if float(separation_deg(ra, dec, ra0, dec0)) + radius_deg <= reach:
                return stars.cone(ra, dec, radius_deg)
        reach = radius_deg + _BESIDE_DEG
        try:
            stars = load_catalogue(self._path, near=[(ra, dec, reach)])
        except CatalogueError:
            return StarCatalogue.empty()
        self._read = ra, dec, reach, stars.cone(ra, dec, reach)
        return self._read[3].cone(ra, dec, radius_deg)
