"""Star catalogues on disk: CSV, or a folder of Parquet tiles."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from ulvar.astrometry.sphere import separation_deg
from ulvar.astrometry.tables import NoStars, Rows, star_rows
from ulvar.astrometry.tiles import read_tiles, write_columns
from ulvar.astrometry.words import WORDS
from ulvar.engine import F64Array
from ulvar.frames import fingerprint, in_circle

_POSITION = {"ra", "dec", "epoch", "pmra", "pmdec", "mag"}


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
    errors : dict of str to float64 array
        Standard errors of magnitudes [mag], by ``mag`` and the names of bands; NaN when unknown.
    variable : float64 array or None
        1 for a star that is known to vary, 0 for one that is known not to, NaN when unknown; None where the catalogue does not say.
    ids : array of text (objects) or None
        What the catalogue calls them; None where they were not asked for, or it has none.
    """

    ra: F64Array
    dec: F64Array
    epoch: F64Array
    pmra: F64Array
    pmdec: F64Array
    mag: F64Array
    bands: dict[str, F64Array] = field(default_factory=dict)
    errors: dict[str, F64Array] = field(default_factory=dict)
    variable: F64Array | None = None
    ids: np.ndarray | None = None

    def __len__(self) -> int:
        return len(self.ra)

    @classmethod
    def empty(cls) -> StarCatalogue:
        """Return a catalogue without stars."""
        none = np.empty(0)
        return cls(none, none, none, none, none, none)

    def select(self, which: np.ndarray) -> StarCatalogue:
        """Return the stars that `which` (mask or indices) picks."""
        return StarCatalogue(
            self.ra[which], self.dec[which], self.epoch[which], self.pmra[which], self.pmdec[which],
            self.mag[which], {name: values[which] for name, values in self.bands.items()},
            {name: values[which] for name, values in self.errors.items()},
            None if self.variable is None else self.variable[which], None if self.ids is None else self.ids[which],
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


@dataclass(frozen=True)
class Imported:
    """What became of a table: stars that came, tiles that they lie in, rows that could not be used and why the first could not."""

    stars: int
    tiles: int
    bad: int
    why: str


def _shift(ra: F64Array, dec: F64Array, xi: F64Array, eta: F64Array) -> tuple[F64Array, F64Array]:
    x, y, d0 = np.radians(xi), np.radians(eta), np.radians(dec)
    down = np.cos(d0) - y * np.sin(d0)
    moved = np.degrees(np.arctan2(x, down))
    return in_circle(ra + moved), np.degrees(np.arctan2(np.sin(d0) + y * np.cos(d0), np.hypot(x, down)))


def load_catalogue(
    path: str | Path, *, near: Sequence[tuple[float, float, float]] | None = None, ids: bool = False
) -> StarCatalogue:
    """Read a catalogue: a table with at least ``ra`` and ``dec`` (`ulvar.astrometry.tables`), or a folder of tiles.

    Columns are found without regard to case: ``ra, dec, epoch`` (default 2016.0), ``pmra, pmdec, mag`` and any
    other numeric column as a band. Rows whose position cannot be read are passed over.

    Parameters
    ----------
    path : str or Path
    near : sequence of (ra, dec, radius), optional
        Cones [deg]: of a folder of tiles only those that touch one of them are read. Stars outside may be among
        what comes back; a file is always read whole.
    ids : bool
        Whether identifiers are wanted, too.

    Raises
    ------
    CatalogueError
        If the file is missing, has no ra and dec columns or no usable row, or no tile is near.
    """
    place = Path(path)
    if place.is_dir():
        return _from_columns(read_tiles(place, near, words=ids), path if isinstance(path, str) else str(path))
    portions = list(star_rows(place))
    names = dict.fromkeys(name for part in portions for name in part.columns)
    if not any(len(part.columns.get("ra", ())) for part in portions):
        raise NoStars(f"{path}: no row has a usable position in degrees")
    return _from_columns({n: np.concatenate([part.columns[n] for part in portions]) for n in names}, str(path))


def _from_columns(columns: dict[str, F64Array], path: str) -> StarCatalogue:
    ra, dec = columns["ra"], columns["dec"]
    good = np.isfinite(ra) & np.isfinite(dec) & (np.abs(dec) <= 90)
    if not good.any():
        raise NoStars(f"{path}: no row has a usable position in degrees")
    n = int(good.sum())

    def column(name: str, default: float) -> F64Array:
        if name not in columns:
            return np.full(n, default)
        values = columns[name][good]
        return np.where(np.isfinite(values), values, default)

    of_numbers = {name: values[good] for name, values in columns.items() if name not in (*_POSITION, *WORDS)}
    known = {name: values for name, values in of_numbers.items() if np.isfinite(values).any()}
    bands = {name: values for name, values in known.items() if not name.startswith("error_")}
    errors = {name.removeprefix("error_"): values for name, values in known.items() if name.startswith("error_")}
    variable = columns["variable"][good] if "variable" in columns else None
    mag = columns["mag"][good] if "mag" in columns else next(iter(bands.values()), np.full(n, math.nan))
    return StarCatalogue(
        ra=in_circle(ra[good]), dec=dec[good], epoch=column("epoch", 2016.0), pmra=column("pmra", 0.0),
        pmdec=column("pmdec", 0.0), mag=mag, bands=bands, errors=errors, variable=variable,
        ids=columns["id"][good] if "id" in columns else None,
    )  # fmt: skip


def write_tiles(catalogues: Iterable[StarCatalogue], folder: Path) -> tuple[int, int]:
    """Write catalogues as Parquet tiles; returns (stars, tiles). Existing tiles are added to; a star at a
    position that a tile already holds is not doubled.
    """
    return write_columns((_columns(catalogue) for catalogue in catalogues), folder)


def import_stars(
    path: Path,
    folder: Path,
    given: dict[str, str] | None = None,
    told: Callable[[int, str], object] = lambda stars, text: None,
) -> Imported:
    """Add the stars of a table to a catalogue of tiles, in portions.

    Parameters
    ----------
    path : Path
        See `ulvar.astrometry.tables.star_rows`.
    folder : Path
    given : dict of str to str, optional
        Ulvar's name of a column to what it is called in the file.
    told : callable
        Given how many stars have come, and what goes on.

    Raises
    ------
    CatalogueError
        If the table cannot be used.
    """
    lost = Rows()

    def portions() -> Iterator[dict[str, F64Array]]:
        for rows in star_rows(path, given):
            lost.bad += rows.bad
            lost.why = lost.why or rows.why
            if len(rows.columns["ra"]):
                yield _columns(_from_columns(rows.columns, str(path)))

    stars, tiles = write_columns(portions(), folder, told, source=_source(path, given or {}))
    if not stars:
        raise NoStars(f"{path}: no row has a usable position in degrees")
    return Imported(stars, tiles, lost.bad, lost.why)


def _source(path: Path, given: dict[str, str]) -> str:
    """Return what tells a table, as it is now and is read, from all others."""
    try:
        status = path.stat()
    except OSError:
        return ""
    return fingerprint("import", str(path.resolve()), status.st_size, status.st_mtime_ns, given)[:16]


def _columns(part: StarCatalogue) -> dict[str, F64Array]:
    fixed = {name: getattr(part, name) for name in ("ra", "dec", "epoch", "pmra", "pmdec", "mag")}
    told: dict[str, np.ndarray] = {f"band_{name}": values for name, values in part.bands.items()}
    told |= {f"error_{name}": values for name, values in part.errors.items()}
    told |= {name: values for name, values in (("variable", part.variable), ("id", part.ids)) if values is not None}
    return {**fixed, **told}
