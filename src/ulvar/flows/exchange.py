"""Text files in which observers' associations take light curves, with a check of what they require.

Two public forms: that for variable stars, lines of commas under a head of ``#`` keywords (``#TYPE=EXTENDED``), and that for minor planets,
blocks of keywords between ``STARTMETADATA`` and ``ENDMETADATA`` with ``DATA=`` lines of bars.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np

from ulvar.engine import write_text
from ulvar.lightcurves import LightCurve

FORMS = ("variable-star", "minor-planet")
# Letters of filters that the forms know, by the words of headers.
_FILTERS = {
    "v": "V", "b": "B", "r": "R", "i": "I", "u": "U", "rc": "R", "ic": "I", "g'": "SG", "r'": "SR", "i'": "SI", "z'": "SZ", "sg": "SG",
    "sr": "SR", "si": "SI", "sz": "SZ", "clear": "CV", "c": "CV", "l": "CV", "lum": "CV", "luminance": "CV", "": "CV",
}  # fmt: skip


@dataclass(frozen=True)
class ExchangeFacts:
    """What is told beside the points.

    Attributes
    ----------
    observer : str
        The association's code of the observer; of a minor planet the observers' names.
    target : str
        Name of the star or minor planet as the association has it.
    filter : str
        As in the headers, or the form's own letters.
    check : str
        Name of the check star, where there is one.
    check_magnitudes : mapping of str to float
        File of each exposure to the check star's instrumental magnitude.
    chart : str
        Of the comparison stars.
    notes : str
    number : int
        Of a minor planet; 0 for none.
    contact : str
        Who answers questions, of a minor planet.
    ra, dec : str
        Of a minor planet in the middle of the session, sexagesimal.
    phase_deg, longitude_deg, latitude_deg : float
        Phase angle, and phase angle bisector, of a minor planet.
    """

    observer: str
    target: str
    filter: str = ""
    check: str = ""
    check_magnitudes: Mapping[str, float] = field(default_factory=dict)
    chart: str = ""
    notes: str = ""
    number: int = 0
    contact: str = ""
    ra: str = ""
    dec: str = ""
    phase_deg: float = math.nan
    longitude_deg: float = math.nan
    latitude_deg: float = math.nan


class ExchangeError(ValueError):
    """What a form requires and is not there; the message lists all of it."""


def filter_letters(told: str) -> str:
    """Return the form's letters of a filter; those that are not known are taken as they are."""
    return _FILTERS.get(told.strip().casefold(), told.strip())


def exchange_text(form: str, curve: LightCurve, facts: ExchangeFacts) -> str:
    """Return a light curve in one of the forms.

    Parameters
    ----------
    form : str
        One of `FORMS`.
    curve : LightCurve
        Points that are left out or flagged are not told.
    facts : ExchangeFacts

    Raises
    ------
    ExchangeError
        If something that the form requires is not there.
    ValueError
        For a form that there is not.
    """
    if form not in FORMS:
        raise ValueError(f"'{form}' is no form; there are {', '.join(FORMS)}")
    return _variable_star(curve, facts) if form == "variable-star" else _minor_planet(curve, facts)


def write_exchange(path: Path, form: str, curve: LightCurve, facts: ExchangeFacts, *, replace: bool = False) -> None:
    """Write `exchange_text`, atomically.

    Raises
    ------
    OutputExists, ExchangeError, ValueError
        As `exchange_text`, or if `path` exists and may not be replaced.
    """
    write_text(path, exchange_text(form, curve, facts), replace=replace)


def _points(curve: LightCurve) -> list[int]:
    return np.flatnonzero(curve.good & np.isfinite(curve.jd_utc)).tolist()


def _refuse(missing: list[str]) -> None:
    if missing:
        raise ExchangeError("the form needs " + "; ".join(missing))


def _one_line(text: str, forbidden: str) -> str:
    return "".join(" " if c in forbidden + "\n\r" else c for c in text).strip()


def _variable_star(curve: LightCurve, facts: ExchangeFacts) -> str:
    points = _points(curve)
    errors = curve.magnitude_error[points]
    _refuse(
        [
            *([] if facts.observer.strip() else ["the observer's code"]), *([] if facts.target.strip() else ["the star's name"]),
            *([] if points else ["at least one good point"]),
            *([] if filter_letters(facts.filter) else ["the filter"]),
        ]
    )  # fmt: skip
    lines = [
        "#TYPE=EXTENDED", f"#OBSCODE={_one_line(facts.observer, ',')}", "#SOFTWARE=Ulvar", "#DELIM=,", "#DATE=JD", "#OBSTYPE=CCD",
        "#NAME,DATE,MAG,MERR,FILT,TRANS,MTYPE,CNAME,CMAG,KNAME,KMAG,AMASS,GROUP,CHART,NOTES",
    ]  # fmt: skip
    several = len(curve.ensemble.names) > 1
    comparison = "ENSEMBLE" if several else _one_line(curve.ensemble.names[0], ",")
    airmass = curve.companions["airmass"]
    for k, error in zip(points, errors):
        check = facts.check_magnitudes.get(curve.files[k], math.nan)
        comparison_magnitude = -2.5 * math.log10(curve.ensemble_flux[k])
        told_error = f"{error:.4f}" if math.isfinite(error) else "na"
        row = [
            _one_line(facts.target, ","), f"{curve.jd_utc[k]:.6f}", f"{curve.magnitude[k]:.4f}", told_error,
            filter_letters(facts.filter), "NO", "DIF", comparison, "na" if several else f"{comparison_magnitude:.4f}",
            _one_line(facts.check, ",") if facts.check and math.isfinite(check) else "na", f"{check:.4f}" if math.isfinite(check) else "na",
            f"{airmass[k]:.4f}" if math.isfinite(airmass[k]) else "na", "na", _one_line(facts.chart, ",") or "na",
            _one_line(facts.notes, ",") or "na",
        ]  # fmt: skip
        lines.append(",".join(row))
    return "\n".join(lines) + "\n"


def _minor_planet(curve: LightCurve, facts: ExchangeFacts) -> str:
    points = _points(curve)
    _refuse(
        [
            *([] if facts.target.strip() else ["the minor planet's name"]), *([] if facts.observer.strip() else ["the observers"]),
            *([] if facts.contact.strip() else ["a contact"]),
            *([] if facts.ra.strip() and facts.dec.strip() else ["right ascension and declination in the middle of the session"]),
            *([] if filter_letters(facts.filter) else ["the filter"]), *([] if points else ["at least one good point"]),
        ]
    )  # fmt: skip
    middle = datetime.fromtimestamp(0, UTC) + timedelta(days=float(np.mean(curve.jd_utc[points])) - 2440587.5)
    band = filter_letters(facts.filter)
    told = {
        "REVISEDDATA": "FALSE", "ALLOWSHARING": "TRUE", "OBJECTNUMBER": str(facts.number), "OBJECTNAME": facts.target,
        "OBJECTRA": facts.ra, "OBJECTDEC": facts.dec, "CONTACTNAME": facts.contact, "OBSERVERS": facts.observer,
        "SESSIONDATE": f"{middle:%Y-%m-%d}", "SESSIONTIME": f"{middle:%H:%M:%S}", "FILTER": band, "MAGBAND": "V" if band == "CV" else band,
        "DIFFERMAGS": "TRUE", "STANDARD": "NONE", "CICORRECTION": "FALSE", "CIBAND": "NONE", "LTCTYPE": "NONE", "LTCDAYS": "0", "LTCAPP": "NONE",
        "REDUCEDMAGS": "NONE", "UCORMAG": "0", "DELIMITER": "PIPE",
    }  # fmt: skip
    for key, value in (("PHASE", facts.phase_deg), ("PABL", facts.longitude_deg), ("PABB", facts.latitude_deg)):
        if math.isfinite(value):
            told[key] = f"{value:+.2f}"
    if facts.notes:
        told["COMMENT"] = facts.notes
    lines = ["# ALCDEF light curve, times of the middle of each exposure, UTC", "STARTMETADATA"]
    lines += [f"{key}={_one_line(value, '|=')}" for key, value in told.items()]
    lines.append("ENDMETADATA")
    airmass = curve.companions["airmass"]
    for k in points:
        error = curve.magnitude_error[k]
        cells = [
            f"{curve.jd_utc[k]:.6f}",
            f"{curve.magnitude[k]:+.4f}",
            f"{error:+.4f}" if math.isfinite(error) else "",
        ]
        if math.isfinite(airmass[k]):
            cells.append(f"{airmass[k]:.4f}")
        lines.append("DATA=" + "|".join(cells))
    return "\n".join([*lines, "ENDDATA"]) + "\n"
