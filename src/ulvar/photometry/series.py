"""Measurements over a series of exposures: star lists in, one row a star and exposure out."""

from __future__ import annotations

import csv
import math
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, fields
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry import CatalogueError, read_rows
from ulvar.engine import F64Array
from ulvar.frames import Frame, in_circle, parse_angle, parse_time, split_position, write_table
from ulvar.photometry.aperture import measure_apertures
from ulvar.photometry.options import ApertureOptions
from ulvar.photometry.track import place_on_track
from ulvar.stars import StarFlag, StarTable, flag_words

ROLES = ("target", "comparison", "check")

# name, unit, decimals (None for text), meaning
SERIES_COLUMNS: tuple[tuple[str, str, int | None, str], ...] = (
    ("file", "", None, "name of the exposure"),
    ("time_utc_mid", "", None, "middle of the exposure, UTC"),
    ("jd_utc", "d", 9, "the same as a Julian date"),
    ("bjd_tdb", "d", 9, "barycentric Julian date in TDB, with the star's own coordinates"),
    ("name", "", None, "star"),
    ("role", "", None, "target, comparison or check"),
    ("x", "px", 4, "aperture centre in this exposure, 0-based"),
    ("y", "px", 4, "aperture centre"),
    ("flux", "ADU", 4, "sky-subtracted sum in the aperture"),
    ("flux_error", "ADU", 4, "its standard error; empty when the gain is unknown"),
    ("sky", "ADU", 5, "sky per pixel"),
    ("sky_error", "ADU", 5, "its standard error"),
    ("peak", "ADU", 2, "highest pixel in the aperture, sky included"),
    ("fwhm_px", "px", 4, "FWHM of the exposure"),
    ("airmass", "", 6, "empty without a site"),
    ("flags", "", None, "words joined by |"),
)


# File and JD UTC of an exposure.
Exposure = tuple[str, float]


class StarListError(Exception):
    """A star list that cannot be used: which file, which line, why."""


@dataclass(frozen=True)
class ListedStar:
    """A star to measure: by sky position [deg] or by pixel of the reference exposure."""

    name: str
    role: str
    ra: float | None = None
    dec: float | None = None
    x: float | None = None
    y: float | None = None
    track: tuple[tuple[float, float, float], ...] = ()

    @property
    def on_sky(self) -> bool:
        """Whether the position is one on the sky."""
        return self.ra is not None or bool(self.track)

    def sky_at(self, when: datetime | None) -> tuple[float, float]:
        """Return (ra, dec) [deg] at a time; of a moving target by cubic splines through the directions of its track.

        NaN outside the times of the track, or without a time.
        """
        if not self.track:
            return (math.nan if self.ra is None else self.ra), (math.nan if self.dec is None else self.dec)
        if when is None:
            return math.nan, math.nan
        return place_on_track(self.track, when.timestamp())


def read_star_list(path: str | Path) -> list[ListedStar]:
    """Read a star list: CSV with ``name, role`` and ``ra, dec`` [deg or sexagesimal] or ``x, y`` [px].

    Several rows of one name with a ``time_utc`` column are the track of a moving target.

    Raises
    ------
    StarListError
        If the file cannot be read, a column is missing, or a line is wrong; the message names the line.
    """
    place = Path(path)
    try:
        with place.open(newline="", encoding="utf-8-sig") as handle:
            reader = csv.DictReader(line for line in handle if line.strip() and not line.startswith("#"))
            names = [name.strip().lower() for name in reader.fieldnames or []]
            reader.fieldnames = names
            rows = list(reader)
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise StarListError(f"{path}: {error}") from None
    if len(set(names)) < len(names):
        raise StarListError(f"{path}: a column stands twice: {', '.join(names)}")
    if "name" not in names or not ({"ra", "dec"} <= set(names) or {"x", "y"} <= set(names)):
        raise StarListError(f"{path}: it needs the columns name, role and ra, dec (or x, y); it has {', '.join(names)}")
    stars: dict[str, ListedStar] = {}
    tracks: dict[str, list[tuple[float, float, float]]] = {}
    for number, row in enumerate(rows, 2):
        star, when = _listed(row, f"{path}, line {number}")
        if when is not None:
            tracks.setdefault(star.name, []).append((when, star.ra or 0.0, star.dec or 0.0))
        elif star.name in stars:
            raise StarListError(f"{path}, line {number}: the name {star.name} stands twice")
        stars.setdefault(star.name, star)
    if not stars:
        raise StarListError(f"{path}: it lists no star")
    for name, track in tracks.items():
        if len({when for when, _, _ in track}) < len(track):
            raise StarListError(f"{path}: {name} is at two places at one time")
        stars[name] = ListedStar(name, stars[name].role, track=tuple(sorted(track)))
    return list(stars.values())


def _listed(row: dict[str, Any], where: str) -> tuple[ListedStar, float | None]:
    name = (row.get("name") or "").strip()
    role = (row.get("role") or "target").strip().lower()
    if not name:
        raise StarListError(f"{where}: the star has no name")
    if role not in ROLES:
        raise StarListError(f"{where}: the role '{role}' is not target, comparison or check")
    text = {key: (row.get(key) or "").strip() for key in ("ra", "dec", "x", "y", "time_utc")}
    try:
        if text["ra"] and text["dec"]:
            ra, dec = parse_angle(text["ra"], hours=True), parse_angle(text["dec"])
            if not -90 <= dec <= 90:
                raise ValueError(f"dec {dec} is outside -90..90")
            moment = parse_time(text["time_utc"]) if text["time_utc"] else None
            if text["time_utc"] and moment is None:
                raise ValueError(f"'{text['time_utc']}' is not a time")
            return ListedStar(name, role, ra=in_circle(ra), dec=dec), None if moment is None else moment.timestamp()
        if text["x"] and text["y"]:
            x, y = float(text["x"]), float(text["y"])
            if not (math.isfinite(x) and math.isfinite(y)):
                raise ValueError(f"{text['x']}, {text['y']} is no place in a picture")
            return ListedStar(name, role, x=x, y=y), None
    except ValueError as error:
        raise StarListError(f"{where}: {error}") from None
    raise StarListError(f"{where}: {name} has neither ra, dec nor x, y")


def read_star_line(line: str) -> ListedStar:
    """Read one star as people write it: a name, a place on the sky, a role; name and role may be missing.

    Parameters
    ----------
    line : str
        Parts between commas, semicolons or tabs: ``T, 07:42:10.5, +41:18:03, target``; a place alone in any notation of
        `parse_position`. Right ascension is in hours when it is sexagesimal, in degrees when it is one number.

    Returns
    -------
    ListedStar
        With an empty name or role where the line has none.

    Raises
    ------
    StarListError
        If there is no place on the sky in it, or too much.

    Examples
    --------
    >>> star = read_star_line("a, 115.5, -3:30, comparison")
    >>> star.name, star.role, star.ra, star.dec
    ('a', 'comparison', 115.5, -3.5)
    """
    parts = [part.strip() for part in re.split(r"[,;\t]", line)]
    if len(parts) == 1 and (pair := split_position(parts[0])) is not None:
        parts = list(pair)
    role = parts.pop().lower() if parts[-1].lower() in ROLES else ""
    if len(parts) not in (2, 3):
        raise StarListError(f"'{line.strip()}' is not a name, a right ascension and a declination with commas between")
    name = parts.pop(0) if len(parts) == 3 else ""
    try:
        ra, dec = parse_angle(parts[0], hours=True), parse_angle(parts[1])
    except ValueError as error:
        raise StarListError(str(error)) from None
    if not -90 <= dec <= 90 or not 0 <= ra <= 360:
        raise StarListError(f"'{line.strip()}' is outside the sky: ra 0 to 360, dec -90 to 90 degrees")
    return ListedStar(name, role, ra=in_circle(ra), dec=dec)


@dataclass(frozen=True)
class SeriesRow:
    """One star in one exposure; fields as `SERIES_COLUMNS`, NaN where unknown, `flags` as bits."""

    file: str
    time_utc_mid: datetime | None
    jd_utc: float
    bjd_tdb: float
    name: str
    role: str
    x: float
    y: float
    flux: float
    flux_error: float
    sky: float
    sky_error: float
    peak: float
    fwhm_px: float
    airmass: float
    flags: int

    @property
    def exposure(self) -> Exposure:
        """What tells its exposure from others: tables of two nights put together may hold one file name twice."""
        return self.file, self.jd_utc if math.isfinite(self.jd_utc) else 0.0


def row_values(row: SeriesRow) -> list[Any]:
    """Return a row's fields in their order as plain values: time as ISO text, NaN as None."""
    values = []
    for field in fields(row):
        value = getattr(row, field.name)
        if isinstance(value, datetime):
            value = value.isoformat()
        elif isinstance(value, float) and not math.isfinite(value):
            value = None
        values.append(value)
    return values


def row_from_values(values: Sequence[Any]) -> SeriesRow:
    """Return the row of `row_values`."""
    told = dict(zip([field.name for field in fields(SeriesRow)], values, strict=True))
    when = told["time_utc_mid"]
    told["time_utc_mid"] = None if when is None else datetime.fromisoformat(when)
    texts = ("file", "time_utc_mid", "name", "role", "flags")
    restored: dict[str, Any] = {n: math.nan if v is None and n not in texts else v for n, v in told.items()}
    return SeriesRow(**restored)


class SeriesTable:
    """Rows of a series with quick columns."""

    def __init__(self, rows: Sequence[SeriesRow]) -> None:
        self.rows = list(rows)

    def __len__(self) -> int:
        return len(self.rows)

    def star(self, name: str) -> list[SeriesRow]:
        """Return the rows of a star in the order of time."""
        return sorted((row for row in self.rows if row.name == name), key=lambda row: (row.jd_utc, row.file))

    def names(self, role: str | None = None) -> list[str]:
        """Return star names in their first order, of one role if given."""
        return list(dict.fromkeys(row.name for row in self.rows if role is None or row.role == role))

    def column(self, names: Sequence[str], exposures: Sequence[Exposure], what: str) -> F64Array:
        """Return a numeric column as an array of shape (names, exposures); NaN where there is no row."""
        index = {(row.name, row.exposure): row for row in self.rows}
        return np.array(
            [[getattr(index[n, e], what) if (n, e) in index else math.nan for e in exposures] for n in names],
            dtype=float,
        ).reshape(len(names), len(exposures))


def measure_exposure(
    frame: Frame,
    stars: Sequence[ListedStar],
    x: F64Array,
    y: F64Array,
    *,
    fwhm_px: float,
    options: ApertureOptions,
    detected: StarTable | None = None,
    lost: np.ndarray | None = None,
    file: str = "",
) -> list[SeriesRow]:
    """Measure listed stars at given positions of one calibrated exposure.

    Parameters
    ----------
    frame : Frame
        A pedestal in it is no sky: it is taken off before.
    stars : sequence of ListedStar
    x, y : float64 array, shape (stars,)
        Aperture centres [px].
    fwhm_px : float
        Of the exposure [px].
    options : ApertureOptions
    detected : StarTable, optional
        Raises the flag ``neighbour`` for stars with another inside the aperture.
    lost : bool array, optional
        Stars whose re-centring failed.
    file : str
        What the rows call the exposure; its file name unless given.

    Returns
    -------
    list of SeriesRow
        Without times and airmass (NaN), which need the site and the star's coordinates.

    Raises
    ------
    ValueError
        If the aperture follows an unknown FWHM.
    """
    radius, inner, outer = options.radii(fwhm_px)
    result = measure_apertures(
        frame.above_pedestal(), x, y, radius_px=radius, inner_px=inner, outer_px=outer, mask=frame.mask,
        gain_e_per_adu=frame.facts.gain_e_per_adu,
        noise_correlation=frame.facts.noise_correlation or 1.0,
    )  # fmt: skip
    flags = result.flags.copy()
    if detected is not None and len(detected):
        reach = radius + 0.5 * (fwhm_px if math.isfinite(fwhm_px) else 0.0)
        for k in range(len(stars)):
            distance = np.hypot(detected.x - x[k], detected.y - y[k])
            own = distance < max(0.7 * fwhm_px, 1.0) if math.isfinite(fwhm_px) else distance < 1.5
            other = (distance < reach) & ~own
            if other.any() and detected.flux[other].max() > 0.005 * max(result.flux[k], 0.0):
                flags[k] |= StarFlag.NEIGHBOUR
    if lost is not None:
        flags[lost] |= StarFlag.LOST
    return [
        SeriesRow(
            file=file or frame.facts.name, time_utc_mid=frame.facts.mid_utc, jd_utc=math.nan, bjd_tdb=math.nan,
            name=star.name, role=star.role, x=float(x[k]), y=float(y[k]), flux=float(result.flux[k]),
            flux_error=float(result.flux_error[k]), sky=float(result.sky[k]), sky_error=float(result.sky_error[k]),
            peak=float(result.peak[k]), fwhm_px=fwhm_px, airmass=math.nan, flags=int(flags[k]),
        )
        for k, star in enumerate(stars)
    ]  # fmt: skip


def write_series(path: Path, rows: Iterable[SeriesRow], *, replace: bool = False) -> None:
    """Write a series table with the columns of `SERIES_COLUMNS`, atomically, in the format that the name's ending says (see `write_table`).

    Raises
    ------
    OutputExists
        If `path` exists and may not be replaced.
    ValueError
        If the ending is none of a table.
    """
    told = list(rows)
    cells: dict[str, list[Any]] = {name: [getattr(row, name) for row in told] for name, *_ in SERIES_COLUMNS}
    cells["flags"] = [flag_words(int(flags)) for flags in cells["flags"]]
    about = {"time_utc_mid": "UTC", "jd_utc": "JD, UTC", "bjd_tdb": "BJD, TDB, with the star's own coordinates"}
    write_table(path, SERIES_COLUMNS, cells, about=about, replace=replace)


def read_series(path: str | Path) -> SeriesTable:
    """Read a series table that `write_series` wrote, in whatever format, or one with the same columns.

    Raises
    ------
    StarListError
        If the file cannot be read or lacks a column; the message names it.
    """
    bits = {flag.name.lower(): int(flag) for flag in StarFlag if flag.name}
    try:
        names, entries = read_rows(Path(path))
    except CatalogueError as error:
        raise StarListError(str(error)) from None
    missing = {"file", "name", "role", "flux"} - set(names)
    if missing:
        raise StarListError(f"{path}: it is not a series table; it lacks {', '.join(sorted(missing))}")
    rows = []
    for number, entry in enumerate(entries, 2):
        try:
            values: dict[str, Any] = {}
            for name, _, decimals, _ in SERIES_COLUMNS:
                text = (entry.get(name) or "").strip()
                if name == "flags":
                    values[name] = sum(bits.get(word, 0) for word in text.split("|"))
                elif name == "time_utc_mid":
                    values[name] = parse_time(text) if text else None
                elif decimals is None:
                    values[name] = text
                else:
                    values[name] = float(text) if text else math.nan
            rows.append(SeriesRow(**values))
        except ValueError as error:
            raise StarListError(f"{path}, line {number}: {error}") from None
    return SeriesTable(rows)
