"""Stars and places for lists: from a click, from a catalogue by name; a measured pair in words."""

from __future__ import annotations

import math
from datetime import datetime
from pathlib import Path

import numpy as np

from ulvar.astrometry import CatalogueError, StarCatalogue, load_catalogue, star_by_id
from ulvar.desktop.models.ground import Ground
from ulvar.desktop.models.looking import Looking
from ulvar.engine import true_minus
from ulvar.flows import PairRow
from ulvar.lightcurves import julian_year
from ulvar.night.settings import PlaceSettings
from ulvar.night.stations import keep_origin
from ulvar.photometry import ListedStar


def listed_at(
    ground: Ground, looking: Looking, name: str, role: str, place: tuple[float, float], shown: str = ""
) -> ListedStar | None:
    """Return a star for a list, on the sky where the exposure is solved, else on the reference; None without either.

    Parameters
    ----------
    ground : Ground
    looking : Looking
    name, role : str
    place : (float, float)
        In the exposure [px].
    shown : str
        The exposure; the one on screen unless given.
    """
    shown = shown or looking.at_hand()
    wcs = ground.plates().get(shown)
    if wcs is not None:
        ra, dec = wcs.sky(*place)
        return ListedStar(name, role, ra=float(ra), dec=float(dec))
    transform, series = looking.way_to_stars(shown), ground.series_of_exposure(shown)
    if transform is None or series is None or ground.night is None:
        return None
    keep_origin(ground.night, series, ground.products("score"))
    x, y = transform(np.array([place[0]]), np.array([place[1]]))
    return ListedStar(name, role, x=float(x[0]), y=float(y[0]))


def stored_place(star: ListedStar) -> PlaceSettings:
    return PlaceSettings(name=star.name, ra=star.ra, dec=star.dec, x=star.x, y=star.y)


def star_at(path: Path, name: str, when: datetime | None) -> tuple[str, float, float] | str:
    """Return a star of a catalogue with its place at a time, or why it cannot be looked for; empty where there is none."""
    try:
        if path.is_dir():
            star = star_by_id(path, name)
            if star is None:
                return ""
            called, *numbers = star
        else:
            stars = load_catalogue(path, ids=True)
            plain = ["".join(str(i).split()).lower() for i in stars.ids] if stars.ids is not None else []
            wanted = "".join(name.split()).lower()
            if wanted not in plain:
                return ""
            k = plain.index(wanted)
            called = str(stars.ids[k]) if stars.ids is not None else name
            numbers = [float(v[k]) for v in (stars.ra, stars.dec, stars.epoch, stars.pmra, stars.pmdec)]
    except CatalogueError as error:
        return str(error)
    ra, dec, epoch, pmra, pmdec = (np.array([v]) for v in numbers)
    one = StarCatalogue(ra, dec, epoch, np.nan_to_num(pmra), np.nan_to_num(pmdec), np.array([math.nan]))
    if when is not None and math.isfinite(float(epoch[0])):
        one = one.at_epoch(julian_year(when))
    return called, float(one.ra[0]), float(one.dec[0])


def measured_words(row: PairRow) -> str:
    """Return a measured pair in words: separation and angle with their errors, difference in brightness."""
    apart, error, angle, angle_error = row.measured
    unit, way = ("″", "position angle") if row.sky is not None else (" px", "angle from +x")
    places = max(0, min(4, 1 - math.floor(math.log10(max(error, 1e-9)))))
    turns = max(0, min(4, 1 - math.floor(math.log10(max(angle_error, 1e-9)))))
    difference, of_difference = row.fit.difference_mag
    text = (
        f"{apart:.{places}f}{unit} ± {error:.{places}f}{unit}, {way} {angle:.{turns}f}° ± {angle_error:.{turns}f}°, "
        f"difference {difference:+.3f} ± {of_difference:.3f} mag"
    )
    return true_minus(text)
