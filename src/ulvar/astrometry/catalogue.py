"""Star catalogues on disk: CSV, or a folder of Parquet tiles."""

from __future__ import annotations

import csv
import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from ulvar.astrometry.sphere import separation_deg
from ulvar.engine import F64Array, atomic_path
from ulvar.frames import in_circle

_POSITION = {"ra", "dec", "epoch", "pmra", "pmdec", "mag"}
_ZONE_DEG = 2.0


class CatalogueError(Exception):
    """A catalogue that cannot be used: which file and why."""


@dataclass(frozen=True)
class StarCatalogue:
    """Stars with positions at an epoch; arrays of shape (stars,).

    Attributes
    ----------
    ra, dec : float64 array
        ICRS at `epoch` [deg].
    epoch : float64 array
        Julian year.
    pmra, pmdec : float64 array
        Proper motion, pmra with cos dec [mas/yr]; 0 when unknown.
    mag : float64 array
        Brightness to sort by [mag]; NaN when unknown.
    bands : dict of str to float64 array
        Further magnitudes [mag].
    """

    ra: F64Array
    dec: F64Array
    epoch: F64Array
    pmra: F64Array
    pmdec: F64Array
    mag: F64Array
    bands: dict[str, F64Array] = field(default_factory=dict)

    def __len__(self) -> int:
        return len(self.ra)

    def select(self, which: np.ndarray) -> StarCatalogue:
        """Return the stars that `which` (mask or indices) picks."""
        return StarCatalogue(
            self.ra[which], self.dec[which], self.epoch[which], self.pmra[which], self.pmdec[which],
            self.mag[which], {name: values[which] for name, values in self.bands.items()},
        )  # fmt: skip

    def at_epoch(self, year: float) -> StarCatalogue:
        """Return positions carried to a Julian year by proper motion (along the tangent plane)."""
        years = year - self.epoch
        xi, eta = self.pmra * years / 3.6e6, self.pmdec * years / 3.6e6
        ra, dec = np.empty_like(self.ra), np.empty_like(self.dec)
        moving = (xi != 0) | (eta != 0)
        ra[~moving], dec[~moving] = self.ra[~moving], self.dec[~moving]
        if moving.any():
            ra[moving], dec[moving] = _shift(self.ra[moving], self.dec[moving], xi[moving], eta[moving])
        return replace(self, ra=ra, dec=dec, epoch=np.full(len(self), year))

    def cone(self, ra: float, dec: float, radius_deg: float) -> StarCatalogue:
        """Return the stars within a radius [deg], brightest first."""
        inside = np.flatnonzero(
            (np.abs(self.dec - dec) <= radius_deg)
            & (separation_deg(self.ra, self.dec, np.float64(ra), np.float64(dec)) <= radius_deg)
        )
        return self.select(inside[np.argsort(np.nan_to_num(self.mag[inside], nan=99.0), kind="stable")])


def _shift(ra: F64Array, dec: F64Array, xi: F64Array, eta: F64Array) -> tuple[F64Array, F64Array]:
    x, y, d0 = np.radians(xi), np.radians(eta), np.radians(dec)
    down = np.cos(d0) - y * np.sin(d0)
    moved = np.degrees(np.arctan2(x, down))
    return in_circle(ra + moved), np.degrees(np.arctan2(np.sin(d0) + y * np.cos(d0), np.hypot(x, down)))


def load_catalogue(path: str | Path, *, near: Sequence[tuple[float, float, float]] | None = None) -> StarCatalogue:
    """Read a catalogue: a CSV file with at least ``ra`` and ``dec`` [deg], or a folder of tiles.

    Columns are found without regard to case: ``ra, dec, epoch`` (default 2016.0), ``pmra, pmdec, mag`` and any
    other numeric column as a band. Rows whose position cannot be read are passed over.

    Parameters
    ----------
    path : str or Path
    near : sequence of (ra, dec, radius), optional
        Cones [deg]: of a folder of tiles only those that touch one of them are read. Stars outside may be among
        what comes back; a file is always read whole.

    Raises
    ------
    CatalogueError
        If the file is missing, has no ra and dec columns or no usable row, or no tile is near.
    """
    place = Path(path)
    if place.is_dir():
        return _load_tiles(place, near)
    if not place.exists():
        raise CatalogueError(f"{path}: there is no such file")
    try:
        with place.open(newline="", encoding="utf-8-sig") as handle:
            lines = (line for line in handle if line.strip() and not line.startswith("#"))
            reader = csv.reader(lines)
            header = [name.strip() for name in next(reader, [])]
            rows = list(reader)
    except (UnicodeDecodeError, csv.Error) as error:
        raise CatalogueError(f"{path}: it is not a text table ({error})") from None
    lower = [name.lower() for name in header]
    if "ra" not in lower or "dec" not in lower:
        raise CatalogueError(f"{path}: it has no ra and dec columns, only {', '.join(header) or 'nothing'}")
    twice = [name for name in _POSITION if lower.count(name) > 1]
    if twice:
        raise CatalogueError(f"{path}: the column {twice[0]} stands twice")
    columns: dict[str, F64Array] = {}
    for index, name in enumerate(header):
        key = name.lower() if name.lower() in _POSITION else name
        columns[key] = np.array([_number(row[index]) if index < len(row) else math.nan for row in rows])
    return _from_columns(columns, str(path))


def _number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return math.nan


def _from_columns(columns: dict[str, F64Array], path: str) -> StarCatalogue:
    ra, dec = columns["ra"], columns["dec"]
    good = np.isfinite(ra) & np.isfinite(dec) & (np.abs(dec) <= 90)
    if not good.any():
        raise CatalogueError(f"{path}: no row has a usable position in degrees")
    n = int(good.sum())

    def column(name: str, default: float) -> F64Array:
        if name not in columns:
            return np.full(n, default)
        values = columns[name][good]
        return np.where(np.isfinite(values), values, default)

    bands = {
        name: values[good]
        for name, values in columns.items()
        if name not in _POSITION and np.isfinite(values[good]).any()
    }
    mag = columns["mag"][good] if "mag" in columns else next(iter(bands.values()), np.full(n, math.nan))
    return StarCatalogue(
        ra=in_circle(ra[good]), dec=dec[good], epoch=column("epoch", 2016.0), pmra=column("pmra", 0.0),
        pmdec=column("pmdec", 0.0), mag=mag, bands=bands,
    )  # fmt: skip


def _tile_name(ra: float, dec: float) -> str:
    """Zones of equal height in declination, cut into about square tiles in right ascension."""
    zone = min(int((dec + 90.0) // _ZONE_DEG), int(180 / _ZONE_DEG) - 1)
    return f"{zone:03d}-{int(in_circle(ra) / 360 * _tiles_in(zone)):04d}"


def _tiles_in(zone: int) -> int:
    middle = math.radians(-90 + (zone + 0.5) * _ZONE_DEG)
    return max(1, round(360 * math.cos(middle) / _ZONE_DEG))


def write_tiles(catalogues: Iterable[StarCatalogue], folder: Path) -> tuple[int, int]:
    """Write catalogues as Parquet tiles; returns (stars, tiles). Existing tiles are added to; a star at a
    position that a tile already holds is not doubled.
    """
    import pyarrow as pa
    import pyarrow.parquet as pq

    stars = 0
    touched: set[str] = set()
    for catalogue in catalogues:
        names = np.array([_tile_name(a, d) for a, d in zip(catalogue.ra, catalogue.dec)])
        for name in np.unique(names):
            part = catalogue.select(np.flatnonzero(names == name))
            path = folder / f"{name}.parquet"
            columns = _columns(part)
            if path.exists():
                known = {name: np.asarray(column) for name, column in _read_tile(path).items()}
                columns = _merged(known, columns)
            # Arrow takes names that are UTF-8; a file that is open needs none.
            with atomic_path(path) as temporary, temporary.open("wb") as handle:
                pq.write_table(pa.table(columns), handle)
            touched.add(name)
        stars += len(catalogue)
    return stars, len(touched)


def _columns(part: StarCatalogue) -> dict[str, F64Array]:
    fixed = {name: getattr(part, name) for name in ("ra", "dec", "epoch", "pmra", "pmdec", "mag")}
    return {**fixed, **{f"band_{name}": values for name, values in part.bands.items()}}


def _merged(known: dict[str, F64Array], new: dict[str, F64Array]) -> dict[str, F64Array]:
    """Append rows that are not there yet; a band that one side lacks is NaN there."""
    seen = set(zip(known["ra"].tolist(), known["dec"].tolist()))
    fresh = np.array([pair not in seen for pair in zip(new["ra"].tolist(), new["dec"].tolist())], dtype=bool)
    result = {}
    for name in {**known, **new}:
        old = known.get(name, np.full(len(known["ra"]), math.nan))
        add = new.get(name, np.full(len(fresh), math.nan))[fresh]
        result[name] = np.concatenate([np.asarray(old, dtype=np.float64), add])
    return result


def tiles_near(ra: float, dec: float, radius_deg: float) -> set[str]:
    """Return the names of the tiles that a cone [deg] touches (and perhaps a few beside it)."""
    names: set[str] = set()
    zones = int(180 / _ZONE_DEG)
    first, last = (min(max(int((d + 90.0) // _ZONE_DEG), 0), zones - 1) for d in (dec - radius_deg, dec + radius_deg))
    for zone in range(first, last + 1):
        count = _tiles_in(zone)
        # The widest the cone gets in right ascension (Smart 1977, 10); over a pole it is all around.
        high = abs(dec) + radius_deg
        if high >= 90.0:
            names |= {f"{zone:03d}-{i:04d}" for i in range(count)}
            continue
        half = math.degrees(math.asin(min(1.0, math.sin(math.radians(radius_deg)) / math.cos(math.radians(dec)))))
        low, top = (math.floor(a / 360 * count) for a in (ra - half, ra + half))
        names |= {f"{zone:03d}-{i % count:04d}" for i in range(low, min(top, low + count) + 1)}
    return names


def _read_tile(path: Path) -> dict[str, F64Array]:
    """Return the columns of a tile.

    Raises
    ------
    CatalogueError
        If it cannot be read or is none.
    """
    import pyarrow as pa
    import pyarrow.parquet as pq

    try:
        with path.open("rb") as handle:
            table = pq.read_table(handle)
        columns = {name: np.asarray(table.column(name).to_numpy(), dtype=np.float64) for name in table.column_names}
    except (OSError, ValueError, TypeError, MemoryError, pa.ArrowException) as error:
        first = (str(error).splitlines() or [type(error).__name__])[0]
        raise CatalogueError(f"{path}: it cannot be read as a catalogue tile ({first})") from None
    if not {"ra", "dec"} <= set(columns):
        raise CatalogueError(f"{path}: it is no catalogue tile: it has no ra and dec columns")
    return columns


def _load_tiles(folder: Path, near: Sequence[tuple[float, float, float]] | None) -> StarCatalogue:
    files = sorted(folder.glob("*.parquet"))
    if not files:
        raise CatalogueError(f"{folder}: the folder holds no catalogue tiles")
    if near is not None:
        wanted = set().union(*(tiles_near(*cone) for cone in near))
        files = [path for path in files if path.stem in wanted]
        if not files:
            raise CatalogueError(f"{folder}: the catalogue does not cover this part of the sky")
    columns: dict[str, list[F64Array]] = {}
    total = 0
    for path in files:
        tile = _read_tile(path)
        for name, values in tile.items():
            parts = columns.setdefault(name.removeprefix("band_"), [])
            held = sum(len(part) for part in parts)
            if held < total:
                parts.append(np.full(total - held, math.nan))
            parts.append(values)
        total += len(tile["ra"])
    whole = {}
    for name, parts in columns.items():
        values = np.concatenate(parts)
        whole[name] = np.concatenate([values, np.full(total - len(values), math.nan)])
    return _from_columns(whole, str(folder))
