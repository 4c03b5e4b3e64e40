"""Angles as people and headers write them."""

from __future__ import annotations

import math
import re
from typing import TypeVar

from ulvar.engine.arrays import F64Array

_Angle = TypeVar("_Angle", float, F64Array)
_SEXAGESIMAL = re.compile(
    r"^\s*([+\-−]?)\s*(\d+(?:\.\d*)?)\s*[hHdD°:\s]\s*(\d+(?:\.\d*)?)(?:\s*[mM'′:\s]\s*(\d+(?:\.\d*)?))?\s*[sS\"″']?\s*$"
)


def parse_angle(text: str, *, hours: bool = False) -> float:
    """Return an angle [deg] from decimal degrees or sexagesimal text.

    Parameters
    ----------
    text : str
        ``115.54``, ``07:42:10.5``, ``07 42 10.5``, ``+41:18:03`` or ``07h42m10.5s``.
    hours : bool
        Whether sexagesimal text is in hours; a plain number is in degrees all the same.

    Raises
    ------
    ValueError
        If the text is not an angle, or minutes or seconds reach 60.

    Examples
    --------
    >>> round(parse_angle("07:42:10.5", hours=True), 6)
    115.54375
    >>> parse_angle("-00:30:00")
    -0.5
    """
    cleaned = text.strip().replace("−", "-")
    try:
        value = float(cleaned)
    except ValueError:
        pass
    else:
        if not math.isfinite(value):
            raise ValueError(f"'{text}' is not an angle")
        return value
    match = _SEXAGESIMAL.match(cleaned)
    if match is None:
        raise ValueError(f"'{text}' is not an angle")
    sign, whole, minutes, seconds = match.groups()
    if float(minutes) >= 60 or float(seconds or 0) >= 60:
        raise ValueError(f"'{text}' has minutes or seconds of 60 or more")
    value = float(whole) + float(minutes) / 60 + float(seconds or 0) / 3600
    if hours:
        value *= 15
    return -value if sign in ("-", "−") else value


_PACKED = re.compile(r"^J?(\d{2})(\d{2})(\d{2}(?:\.\d+)?)([+\-])(\d{2})(\d{2})(\d{2}(?:\.\d+)?)$")


def split_position(text: str) -> tuple[str, str] | None:
    """Return the two angles of a place on the sky as they are written; None where the text does not tell two apart.

    Examples
    --------
    >>> split_position("07 42 10.5 +41 18 03"), split_position("J074210.5+411803"), split_position("115.5 -3.5")
    (('07 42 10.5', '+41 18 03'), ('07:42:10.5', '+41:18:03'), ('115.5', '-3.5'))
    >>> split_position("RA 7h42m Dec 41d18m"), split_position("7 42 10 41 18 3"), split_position("somewhere")
    (('7h42m', '41d18m'), ('7 42 10', '41 18 3'), None)
    """
    cleaned = text.strip().replace("−", "-")
    if "," in cleaned:
        first, _, second = cleaned.partition(",")
        return (first.strip(), second.strip()) if "," not in second else None
    if packed := _PACKED.match(cleaned):
        h, m, s, sign, d, n, a = packed.groups()
        return f"{h}:{m}:{s}", f"{sign}{d}:{n}:{a}"
    if named := re.match(r"^ra\s*=?\s*(\S.*?)\s*;?\s*dec?l?\s*=?\s*(\S.*)$", cleaned, re.IGNORECASE):
        return named.group(1), named.group(2)
    if signed := re.match(r"^(.*\S)\s+([+\-].+)$", cleaned):
        return signed.group(1), signed.group(2)
    parts = cleaned.split()
    if len(parts) in (2, 4, 6):
        half = len(parts) // 2
        return " ".join(parts[:half]), " ".join(parts[half:])
    return None


def parse_position(text: str) -> tuple[float, float]:
    """Return (ra, dec) [deg] of a place on the sky as people write it: two angles, in degrees or sexagesimal (RA then in hours).

    ``115.54, 41.3``, ``07:42:10.5 +41:18:03``, ``7h42m10.5s 41d18m03s``, ``J074210.5+411803``, ``RA 07 42 10.5 Dec +41 18 03``.

    Raises
    ------
    ValueError
        If it is not two angles, or dec is outside -90..90, or ra outside 0..360.
    """
    parts = split_position(text)
    if parts is None:
        raise ValueError(f"'{text}' is not RA,DEC")
    ra, dec = parse_angle(parts[0], hours=True), parse_angle(parts[1])
    if not -90 <= dec <= 90 or not 0 <= ra <= 360:
        raise ValueError(f"'{text}' is outside the sky: ra 0..360, dec -90..90 degrees")
    return ra, dec


def in_circle(degrees: _Angle) -> _Angle:
    """Return angles [deg] brought into 0 up to, never including, 360.

    Examples
    --------
    >>> in_circle(-90.0), in_circle(-1e-14)
    (270.0, 0.0)
    """
    # A tiny negative angle leaves a remainder that rounds to 360 itself.
    return degrees % 360.0 % 360.0
