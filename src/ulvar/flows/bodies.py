"""Moving bodies on the sky: from tables of places, from orbital elements, from marks in exposures."""

from __future__ import annotations

import csv
import math
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from ulvar.astrometry import OrbitError, Wcs, ephemeris, has_elements, offset_position, read_orbits, tangent_plane
from ulvar.engine import Failed, reason_words
from ulvar.flows.body import straight_or_bent
from ulvar.frames import ExposureFacts
from ulvar.lightcurves import jd_from_utc
from ulvar.photometry import ListedStar, StarListError, read_star_list

# Elements are turned into places so often [min]; splines between them are good to a milliarcsecond.
_STEP_MIN, _MOST_STEPS = 5.0, 2000
# Elements of so long before or after are doubted [d].
_FAR_DAYS = 60.0


def read_bodies(path: str | Path, exposures: Sequence[ExposureFacts]) -> list[ListedStar]:
    """Return the moving bodies of a table, each with its places on the sky over the time of the exposures.

    The table holds places by time (``name, ra, dec, time_utc``) or orbital elements (see `read_orbits`). Elements are seen from the site of the
    exposures, or from the Earth's centre where that is not known.

    Raises
    ------
    StarListError
        If it cannot be used, or no star of it moves; the message names the line.
    """
    try:
        with Path(path).open(newline="", encoding="utf-8-sig") as handle:
            first = next((line for line in handle if line.strip() and not line.startswith("#")), "")
        names = next(csv.reader([first]), [])
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise StarListError(f"{path}: {reason_words(error)}") from None
    if has_elements(names):
        return _of_elements(path, exposures)
    bodies = [star for star in read_star_list(path) if star.track]
    if not bodies:
        raise StarListError(
            f"{path}: no star in it moves: the table needs the column time_utc, or orbital elements (e, q or a, i, node, peri)"
        )
    return bodies


def _of_elements(path: str | Path, exposures: Sequence[ExposureFacts]) -> list[ListedStar]:
    try:
        orbits = read_orbits(path)
    except OrbitError as error:
        raise StarListError(str(error)) from None
    times = sorted(when.timestamp() for facts in exposures if (when := facts.mid_utc) is not None)
    if not times:
        raise StarListError(f"{path}: elements need the times of the exposures, and none is known")
    site = next((facts.site for facts in exposures if facts.site is not None), None)
    first, last = times[0] - 1800.0, times[-1] + 1800.0
    count = min(_MOST_STEPS, math.ceil((last - first) / (60 * _STEP_MIN)) + 1)
    seconds = np.linspace(first, last, max(count, 4))
    moments = [datetime.fromtimestamp(float(s), UTC) for s in seconds]
    bodies = []
    for orbit in orbits:
        seen = ephemeris(orbit, moments, site)
        track = tuple((float(s), float(a), float(d)) for s, a, d in zip(seconds, seen.ra, seen.dec))
        bodies.append(ListedStar(orbit.name, "target", track=track))
    return bodies


def doubts_of(path: str | Path, exposures: Sequence[ExposureFacts]) -> list[str]:
    """Return what makes places by orbital elements doubtful, in sentences: no site, elements of another time; nothing for tables of places."""
    try:
        orbits = read_orbits(path)
    except OrbitError:
        return []
    doubts = []
    if all(facts.site is None for facts in exposures):
        doubts.append(
            "The site is not known: bodies are seen from the Earth's centre, off by up to 8.8″ over their distance in au."
        )
    times = [when for facts in exposures if (when := facts.mid_utc) is not None]
    if times:
        now = float(jd_from_utc([times[len(times) // 2]])[0])
        far = [(abs(now - orbit.epoch_jd), orbit.name) for orbit in orbits if abs(now - orbit.epoch_jd) > _FAR_DAYS]
        if far:
            days, name = max(far)
            doubts.append(
                f"The elements of {name} are of {days:.0f} days away: the planets may have pulled it off by arcseconds."
            )
    return doubts


def named_body(path: str | Path, exposures: Sequence[ExposureFacts], name: str = "") -> ListedStar:
    """Return the body of a table that is called so; the first one where no name is given.

    Raises
    ------
    StarListError
        If the table cannot be used or has no such body.
    """
    bodies = read_bodies(path, exposures)
    if not name:
        return bodies[0]
    wanted = name.strip().casefold()
    found = next((body for body in bodies if body.name.strip().casefold() == wanted), None)
    if found is None:
        raise StarListError(f"{path}: there is no '{name}' in it; there are {', '.join(body.name for body in bodies)}")
    return found


def marked_body(
    name: str,
    marks: Sequence[tuple[ExposureFacts, Wcs, float, float]],
    exposures: Sequence[ExposureFacts],
    *,
    rate: tuple[float, float] | None = None,
) -> ListedStar | Failed:
    """Return a body by its places in two exposures or more, or by one and its rate.

    It goes on in a straight line, through more places in a curve.

    Parameters
    ----------
    name : str
    marks : sequence of (ExposureFacts, Wcs, float, float)
        Exposure, its solution, and x, y of the body there [px].
    exposures : sequence of ExposureFacts
        Over whose times the way is wanted.
    rate : (float, float), optional
        Speed [arcsec/h] and position angle of the way [deg]: then one place is enough, and others do not count.
    """
    timed = [(facts.mid_utc, wcs.sky(x, y)) for facts, wcs, x, y in marks]
    moments = [when for when, _ in timed if when is not None]
    if len(moments) < (2 if rate is None else 1):
        return Failed("a body has to be marked in two solved exposures of known times, or in one with its rate")
    ra, dec = (
        np.array(column, dtype=np.float64) for column in zip(*(place for when, place in timed if when is not None))
    )
    ra0, dec0 = float(ra[0]), float(dec[0])
    xi, eta = tangent_plane(ra, dec, ra0, dec0)
    every = sorted({*moments, *(facts.mid_utc for facts in exposures if facts.mid_utc is not None)})
    if rate is not None:
        speed, angle = rate[0] / 3600, math.radians(rate[1])
        begin = moments[0]
        hours = [(when.timestamp() - begin.timestamp()) / 3600 for when in every]
        track = [
            (when.timestamp(), *offset_position(ra0, dec0, speed * h * math.sin(angle), speed * h * math.cos(angle)))
            for when, h in zip(every, hours)
        ]
        return ListedStar(name, "target", track=tuple(track))
    way = straight_or_bent(moments, list(zip(xi.tolist(), eta.tolist())), every)
    if isinstance(way, Failed):
        return way
    track = [(when.timestamp(), *offset_position(ra0, dec0, *way(when))) for when in every]
    return ListedStar(name, "target", track=tuple(track))
