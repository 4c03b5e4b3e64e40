"""Stars to measure: lists and lines that people write."""

from __future__ import annotations

import csv
import math
import re
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from ulvar.engine import reason_words
from ulvar.frames import in_circle, parse_angle, parse_time, split_position
from ulvar.photometry.track import place_on_track

ROLES = ("target", "comparison", "check")


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
        raise StarListError(f"{path}: {reason_words(error)}") from None
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
