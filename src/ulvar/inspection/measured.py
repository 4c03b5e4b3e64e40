"""Findings about measurements: stars that are clipped, gone, blended, off; apertures too small; flats that show."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np

from ulvar.engine import BoolArray, F64Array, counted
from ulvar.inspection.findings import CODES, Finding, Mend, Severity, notice
from ulvar.photometry import SeriesRow, SeriesTable
from ulvar.photometry.weighing import weigh
from ulvar.stars import StarFlag

_FULL = int(StarFlag.SATURATED | StarFlag.NONLINEAR)
# Blends, and annuli under other stars, are told from this share of a star's exposures on, and of its annulus.
_OFTEN, _COVERED = 0.25, 0.5
# An aperture of fewer FWHM holds less than half of the light, and more or less of it as the seeing changes.
_SMALL_FWHM = 0.6
# Light that follows the place: moved over so many pixels, by so much, and so surely.
_MOVED_PX, _FLAT_ERROR, _FLAT_SIGMA = 3.0, 0.003, 6.0
# Of more stars than these one finding tells, and names so many.
_EACH, _NAMED = 3, 8
# A centre that is so far from where the others say it is has gone to another star [FWHM].
_JUMPED_FWHM = 1.0


def measured_findings(table: SeriesTable, raw_of: Mapping[str, str]) -> list[Finding]:
    """Return what is wrong with the measurements of a series, before a light curve shows it.

    Parameters
    ----------
    table : SeriesTable
    raw_of : mapping of str to str
        Name of an exposure in the table to the file that findings name.
    """
    found: list[Finding] = []
    stars = {name: table.star(name) for name in table.names()}
    each: dict[str, list[Finding]] = {}
    for name, rows in stars.items():
        for one in _of_star(name, rows, raw_of):
            each.setdefault(one.code, []).append(one)
    for code, alike in each.items():
        found += alike if len(alike) <= _EACH else [_together(code, alike)]
    found += _small_aperture(table, raw_of)
    found += _jumps(stars, raw_of)
    found += _flat(table)
    return found


def _together(code: str, alike: list[Finding]) -> Finding:
    """Return one finding for many stars."""
    names = [str(one.evidence["star"]) for one in alike]
    files = list(dict.fromkeys(file for one in alike for file in one.files))
    told = ", ".join(names[:_NAMED]) + (f" and {len(names) - _NAMED} others" if len(names) > _NAMED else "")
    return notice(
        code,
        f"{CODES[code].meaning}: {len(names)} stars",
        f"{told}. {alike[0].text}",
        files,
        {"stars": names},
        severity=alike[0].severity,
    )


def _files(rows: list[SeriesRow], raw_of: Mapping[str, str]) -> list[str]:
    return [raw_of[row.file] for row in rows if row.file in raw_of]


def _of_star(name: str, rows: list[SeriesRow], raw_of: Mapping[str, str]) -> list[Finding]:
    found = []
    role = rows[0].role
    mend = Mend.leave_out_star(name) if role == "comparison" else None
    full = [row for row in rows if row.flags & _FULL]
    if full:
        what = "is saturated" if any(row.flags & StarFlag.SATURATED for row in full) else "is over the linear limit"
        brightest = max((row.peak for row in full if math.isfinite(row.peak)), default=math.nan)
        peak = f", up to {brightest:.0f} ADU" if math.isfinite(brightest) else ""
        found.append(
            notice(
                "star_full", f"Star {name} {what}", f"In {counted(len(full), 'exposure')} of {len(rows)}{peak}: they count in no fit.",
                _files(full, raw_of), {"star": name}, mend,
            )
        )  # fmt: skip
    gone = [row for row in rows if row.flags & StarFlag.EDGE]
    if gone:
        found.append(
            notice(
                "star_left", f"Star {name} leaves the frame", f"In {counted(len(gone), 'exposure')} of {len(rows)} its aperture is not whole.",
                _files(gone, raw_of), {"star": name}, mend,
            )
        )  # fmt: skip
    blended = [row for row in rows if row.flags & StarFlag.NEIGHBOUR]
    if len(blended) > _OFTEN * len(rows):
        found.append(
            notice(
                "star_blended", f"Another star shines into the aperture of {name}",
                f"In {counted(len(blended), 'exposure')} of {len(rows)}: its light changes with the seeing. "
                "A smaller aperture or the profile fit helps.",
                (), {"star": name}, mend,
            )
        )  # fmt: skip
    covered = [row for row in rows if row.covered > _COVERED]
    if len(covered) > _OFTEN * len(rows):
        share = float(np.median([row.covered for row in covered]))
        found.append(
            notice(
                "sky_covered", f"The annulus of {name} lies on other stars",
                f"{100 * share:.0f} % of it is left out: what is left tells the sky less surely. Another annulus helps.", (), {"star": name},
                severity=Severity.NOTE,
            )
        )  # fmt: skip
    lost = [row for row in rows if row.flags & StarFlag.LOST]
    if lost:
        found.append(
            notice(
                "star_lost", f"Star {name} is not found in {counted(len(lost), 'exposure')}",
                f"Of {len(rows)}: there the aperture stays where the star should be, and the point counts for nothing.",
                _files(lost, raw_of), {"star": name},
            )
        )  # fmt: skip
    return found


def _small_aperture(table: SeriesTable, raw_of: Mapping[str, str]) -> list[Finding]:
    narrow: dict[str, tuple[float, SeriesRow]] = {}
    for row in table.rows:
        if row.fwhm_px > 0 and row.radius_px < _SMALL_FWHM * row.fwhm_px:
            narrow.setdefault(row.file, (row.radius_px / row.fwhm_px, row))
    if not narrow:
        return []
    worst, row = min(narrow.values(), key=lambda one: one[0])
    return [
        notice(
            "small_aperture", "The aperture is too small for the seeing",
            f"In {counted(len(narrow), 'exposure')}; at worst it is {worst:.2f} FWHM ({row.radius_px:.1f} px of {row.fwhm_px:.1f} px), "
            "less than half of the light.",
            [raw_of[file] for file in narrow if file in raw_of],
        )
    ]  # fmt: skip


def _jumps(stars: Mapping[str, list[SeriesRow]], raw_of: Mapping[str, str]) -> list[Finding]:
    """Name stars whose centre is somewhere else than the others say."""
    names = [name for name, rows in stars.items() if len(rows) >= 5]
    if len(names) < 3:
        return []
    place = {name: {row.file: row for row in stars[name]} for name in names}
    files = sorted(set.intersection(*(set(place[name]) for name in names)))
    if len(files) < 5:
        return []
    found = []
    xs, ys = (np.array([[getattr(place[n][f], axis) for f in files] for n in names]) for axis in ("x", "y"))
    turned = _turned(xs, ys)
    for sign in (False, True):
        part = np.flatnonzero(turned == sign)
        if len(part) < 5:
            continue
        # What each star is off its usual place by, less what all are. A star that jumps while all drift has its usual place after that only.
        moved = [v[:, part] - np.median(v[:, part], axis=1)[:, None] for v in (xs, ys)]
        alone = [v - np.median(v, axis=0) for v in moved]
        off = np.hypot(*(v - np.median(v, axis=1)[:, None] for v in alone))
        for k, name in enumerate(names):
            rows = [place[name][files[i]] for i in part]
            usual = float(np.median(off[k]))
            bad = [row for row, o in zip(rows, off[k]) if o > _JUMPED_FWHM * row.fwhm_px + 5 * usual]
            if bad and len(bad) < len(part) / 2:
                found.append(
                    notice(
                        "centre_jumped", f"The aperture of {name} jumps",
                        f"In {counted(len(bad), 'exposure')} it lies more than a star's width from where the other stars say it is.",
                        _files(bad, raw_of), {"star": name},
                    )
                )  # fmt: skip
    return found


def _turned(x: F64Array, y: F64Array) -> BoolArray:
    """Tell the exposures in which the field is turned about against the first one."""
    first = np.array([x[:, 0] - x[:, 0].mean(), y[:, 0] - y[:, 0].mean()])
    here = np.array([x - x.mean(axis=0), y - y.mean(axis=0)])
    return np.asarray((first[:, :, None] * here).sum(axis=(0, 1)) < 0)


def _flat(table: SeriesTable) -> list[Finding]:
    """Tell where comparison stars change with their place on the sensor."""
    names = table.names("comparison")
    exposures = table.exposures()
    if len(names) < 3 or len(exposures) < 15:
        return []
    flux, error = table.clean_light(names, exposures)
    try:
        curves = weigh(flux, error).curves
    except ValueError:
        return []
    places = {axis: table.column(names, exposures, axis) for axis in ("x", "y")}
    surest = (0.0, "", 0.0, "")
    for k, name in enumerate(names):
        for axis in ("x", "y"):
            place = places[axis][k]
            good = np.isfinite(curves[k]) & np.isfinite(place)
            if good.sum() < 15 or np.ptp(place[good]) < _MOVED_PX:
                continue
            at = place[good] - place[good].mean()
            value = curves[k][good] - curves[k][good].mean()
            slope = float((at * value).sum() / (at**2).sum())
            left = value - slope * at
            sigma = math.sqrt(float((left**2).sum()) / (good.sum() - 2) / float((at**2).sum()))
            change = abs(slope) * float(np.ptp(place[good]))
            # What is slow in time follows a slow drift: only what is left of a line in time may speak.
            hours = np.array([e[1] for e in exposures])[good]
            drift = np.polyfit(hours - hours.mean(), at, 1)
            free = at - np.polyval(drift, hours - hours.mean())
            own = value - np.polyval(np.polyfit(hours - hours.mean(), value, 1), hours - hours.mean())
            if not (free**2).sum() > 0:
                continue
            second = float((free * own).sum() / (free**2).sum())
            spread = math.sqrt(
                float(((own - second * free) ** 2).sum()) / max(good.sum() - 3, 1) / float((free**2).sum())
            )
            sure = min(abs(slope) / sigma if sigma > 0 else 0.0, abs(second) / spread if spread > 0 else 0.0)
            if change > _FLAT_ERROR and sure > max(_FLAT_SIGMA, surest[0]):
                surest = (sure, name, change, axis)
    if not surest[1]:
        return []
    return [
        notice(
            "flat_follows", "Light follows the place on the sensor",
            f"Star {surest[1]} changes by {1086 * surest[2]:.0f} mmag as it moves along {surest[3]}: the flat does not even it out.",
            (), {"star": surest[1]},
        )
    ]  # fmt: skip
