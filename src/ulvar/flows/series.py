"""Series: the lights of one field, one filter and one telescope, which alone are combined and measured together."""

from __future__ import annotations

import dataclasses
import math
import zlib
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ulvar.astrometry import separation_deg
from ulvar.frames import ExposureFacts, Role, in_circle
from ulvar.frames.sessions import SESSION

# Pointings of one field where no scale is known lie within this [deg]; mounts point to a few arc minutes.
_REACH_DEG = 0.25
_LEAST_REACH_DEG = 0.05


@dataclass(frozen=True)
class Field:
    """A place on the sky that one telescope took exposures of.

    Attributes
    ----------
    key : str
        Names it in files; it stays when exposures are added or the object is renamed.
    name : str
        What the exposures call it, else its position; empty where nothing is known.
    ra_deg, dec_deg : float or None
        Pointing [deg, ICRS].
    setup : tuple
        Camera, telescope and frame size of its exposures.
    objects : tuple of str
        Names that its exposures carry, folded.
    """

    key: str
    name: str
    ra_deg: float | None
    dec_deg: float | None
    setup: tuple[Any, ...]
    objects: tuple[str, ...] = ()

    def as_json(self) -> dict[str, Any]:
        """Return it as plain values."""
        return {**vars(self), "setup": list(self.setup), "objects": list(self.objects)}

    @classmethod
    def from_json(cls, body: Mapping[str, Any]) -> Field:
        """Return a field from plain values.

        Raises
        ------
        KeyError
            If one is missing.
        """
        return cls(
            body["key"], body["name"], body["ra_deg"], body["dec_deg"], tuple(body["setup"]), tuple(body["objects"])
        )


@dataclass(frozen=True)
class Series:
    """Exposures that are combined and measured together.

    Attributes
    ----------
    key : str
        Names the series in files and in the night's store.
    title : str
        What people read: field, filter, tags, and the telescope where there are several.
    field : Field
    filter : str
        Empty when the exposures have none.
    tags : mapping of str to str
        Values of the tags that part stacks.
    members : tuple of ExposureFacts
        In the order of time.
    """

    key: str
    title: str
    field: Field
    filter: str
    tags: Mapping[str, str] = dataclasses.field(default_factory=dict)
    members: tuple[ExposureFacts, ...] = ()

    @property
    def files(self) -> tuple[str, ...]:
        """The members' paths."""
        return tuple(facts.path for facts in self.members)

    def as_json(self) -> dict[str, Any]:
        """Return what `ulvar sort` tells of it."""
        return {
            "name": self.key, "title": self.title, "field": self.field.name, "filter": self.filter,
            "tags": dict(self.tags), "count": len(self.members), "files": list(self.files),
        }  # fmt: skip


def folded(name: str) -> str:
    """Return a name as it is compared: capitals, spaces and hyphens make no other object."""
    return "".join(c for c in name.casefold() if c.isalnum() or c in "+.")


def slug(text: str) -> str:
    """Return text as a part of a file name; what would be lost is kept apart by four digits."""
    safe = "-".join("".join(c if c.isascii() and (c.isalnum() or c in "+.") else " " for c in text).split())[:40]
    if safe and safe.replace("-", " ") == text:
        return safe
    return "-".join(part for part in (safe, f"{zlib.crc32(text.encode()) & 0xFFFF:04x}" if text else "") if part)


def find_series(
    exposures: Iterable[ExposureFacts], *, apart: Sequence[str] = (), known: Sequence[Field] = ()
) -> list[Series]:
    """Return the series among exposures, by field and filter.

    Pointings that lie within half the shorter side of the frame are one field, whatever name the headers give it;
    without pointings the name decides; a name that the user gave always does. Telescopes are kept apart by camera,
    telescope and frame size.

    Parameters
    ----------
    exposures : iterable of ExposureFacts
        Only lights count.
    apart : sequence of str
        Tags (or ``session``) whose values part series.
    known : sequence of Field
        Fields found before, which keep their keys.
    """
    lights = [f for f in exposures if f.role in (Role.LIGHT, Role.UNKNOWN) and not f.is_master]
    by_setup: dict[tuple[Any, ...], list[ExposureFacts]] = {}
    for facts in lights:
        by_setup.setdefault(_setup(facts), []).append(facts)
    taken = {one.key for one in known}
    found: list[tuple[Field, list[ExposureFacts]]] = []
    for setup, members in by_setup.items():
        old = [one for one in known if one.setup == setup]
        for together in _fields(members):
            made = _field(together, setup, old, taken)
            old = [one for one in old if one.key != made.key]
            taken.add(made.key)
            found.append((made, together))
    setups = _setup_names(list(by_setup))
    series = []
    for place, together in found:
        parts: dict[tuple[str, ...], list[ExposureFacts]] = {}
        for facts in together:
            values = [facts.session if tag == SESSION else facts.tags.get(tag, "") for tag in apart]
            parts.setdefault((facts.filter, *values), []).append(facts)
        for (name, *values), members in parts.items():
            told = [place.name, name or "no filter", *(v for v in values if v), setups[place.setup]]
            key = "-".join([place.key, slug(name) if name else "nofilter", *(slug(v) for v in values if v)])
            ordered = sorted(members, key=_when)
            title = " · ".join(part for part in told if part)
            series.append(Series(key, title, place, name, dict(zip(apart, values)), tuple(ordered)))
    return _distinct(sorted(series, key=lambda s: (_when(s.members[0])[:2], s.title)))


def _when(facts: ExposureFacts) -> tuple[bool, float, str]:
    return facts.mid_utc is None, facts.mid_utc.timestamp() if facts.mid_utc else 0.0, facts.path


def _setup(facts: ExposureFacts) -> tuple[Any, ...]:
    return facts.camera, facts.telescope, facts.width, facts.height, facts.binning


def _setup_names(setups: Sequence[tuple[Any, ...]]) -> dict[tuple[Any, ...], str]:
    """Return the shortest words that tell telescopes apart; empty where there is one."""
    if len(setups) < 2:
        return dict.fromkeys(setups, "")
    for words in (
        lambda s: s[0], lambda s: s[1], lambda s: f"{s[2]} x {s[3]}",
        lambda s: " ".join(str(w) for w in (s[0], s[1], f"{s[2]} x {s[3]}", f"binning {s[4]}") if w),
    ):  # fmt: skip
        named = {setup: str(words(setup)) for setup in setups}
        if len(set(named.values())) == len(setups):
            break
    return named


def _reach(members: Sequence[ExposureFacts]) -> float:
    """Return how far pointings of one field lie apart at most [deg]: half the shorter side of the frame."""
    scales = [f.scale_arcsec_px for f in members if f.scale_arcsec_px]
    if not scales:
        return _REACH_DEG
    side = min(members[0].width, members[0].height) * float(np.median(scales)) / 3600
    return max(_LEAST_REACH_DEG, side / 2)


def _fields(members: Sequence[ExposureFacts]) -> list[list[ExposureFacts]]:
    """Split exposures of one telescope by field."""
    named = [f for f in members if f.object and f.origins.get("object") == "user"]
    rest = [f for f in members if not (f.object and f.origins.get("object") == "user")]
    pointed = [f for f in rest if f.ra_deg is not None and f.dec_deg is not None]
    places = [(f.ra_deg or 0.0, f.dec_deg or 0.0) for f in pointed]
    groups: dict[Any, list[ExposureFacts]] = {}
    for facts, label in zip(pointed, _linked(places, _reach(members))):
        groups.setdefault(label, []).append(facts)
    by_name: dict[str, Any] = {}
    for label, together in groups.items():
        for facts in together:
            if facts.object:
                by_name.setdefault(folded(facts.object), label)
    for facts in rest:
        if facts.ra_deg is not None and facts.dec_deg is not None:
            continue
        name = folded(facts.object)
        alone = next(iter(groups)) if len(groups) == 1 else ""
        groups.setdefault(by_name.get(name, name) if name else alone, []).append(facts)
    for facts in named:
        name = folded(facts.object)
        groups.setdefault(by_name.get(name, name), []).append(facts)
    return list(groups.values())


def _linked(places: Sequence[tuple[float, float]], reach: float) -> list[int]:
    """Return a label for each position [deg]; positions within `reach` [deg] of each other, in chains, share one."""
    if not places:
        return []
    # Hundreds of exposures have few pointings.
    cell = reach / 20
    rounded = [(round(ra / cell), round(dec / cell)) for ra, dec in places]
    first = {key: i for i, key in reversed(list(enumerate(rounded)))}
    ra, dec = (np.array([places[i][axis] for i in first.values()]) for axis in (0, 1))
    labels = np.arange(ra.size)
    for i in range(ra.size):
        near = separation_deg(ra[i], dec[i], ra, dec) <= reach
        joined = np.isin(labels, labels[near])
        labels[joined] = labels[near].min()
    by_cell = dict(zip(first, labels.tolist()))
    return [by_cell[key] for key in rounded]


def _position(members: Sequence[ExposureFacts]) -> tuple[float | None, float | None]:
    pointed = [(f.ra_deg, f.dec_deg) for f in members if f.ra_deg is not None and f.dec_deg is not None]
    if not pointed:
        return None, None
    # Right ascensions on both sides of 0 are near each other.
    ra, dec = np.radians(np.array(pointed, dtype=np.float64)).T
    x, y, z = np.median([np.cos(dec) * np.cos(ra), np.cos(dec) * np.sin(ra), np.sin(dec)], axis=1)
    return in_circle(math.degrees(math.atan2(y, x))), math.degrees(math.atan2(z, math.hypot(x, y)))


def _field(members: Sequence[ExposureFacts], setup: tuple[Any, ...], known: Sequence[Field], taken: set[str]) -> Field:
    names = Counter(f.object.strip() for f in members if f.object.strip())
    objects = tuple(sorted({folded(name) for name in names}))
    ra, dec = _position(members)
    given = Counter(f.object.strip() for f in members if f.origins.get("object") == "user" and f.object.strip())
    counted = given or names
    name = max(sorted(counted), key=lambda n: counted[n]) if counted else ""
    if not name and ra is not None and dec is not None:
        name = f"{ra:.2f} {dec:+.2f}"
    fitting = []
    for one in known:
        near = None not in (ra, dec, one.ra_deg, one.dec_deg) and float(
            separation_deg(ra, dec, one.ra_deg, one.dec_deg)  # type: ignore[arg-type]
        ) <= _reach(members)
        alike = bool(set(objects) & set(one.objects)) or not (objects or one.objects)
        if near or (alike and None in (ra, one.ra_deg)):
            fitting.append((near and alike, near, one))
    if fitting:
        # Of two fields at one place, which a name given by hand made, the one of the same name.
        _, _, old = max(fitting, key=lambda fit: fit[:2])
        return replace(old, name=name, ra_deg=ra, dec_deg=dec, objects=objects)
    base = slug(name) or "field"
    key, number = base, 2
    while key in taken:
        key, number = f"{base}-{number}", number + 1
    return Field(key, name, ra, dec, setup, objects)


def _distinct(series: list[Series]) -> list[Series]:
    """Return series with keys and titles that tell them apart."""
    keys, titles = Counter(s.key.casefold() for s in series), Counter(s.title for s in series)
    result, seen = [], set()
    for one in series:
        key, number = one.key, 2
        if keys[key.casefold()] > 1 and one.filter:
            key = f"{key}-{zlib.crc32(one.filter.encode()) & 0xFFFF:04x}"
        while key.casefold() in seen:
            key, number = f"{one.key}-{number}", number + 1
        seen.add(key.casefold())
        title = one.title if titles[one.title] == 1 else f"{one.title} ({one.field.key})"
        result.append(replace(one, key=key, title=title))
    return result


def picked(series: Sequence[Series], name: str) -> list[Series]:
    """Return the series that a word means: a key or a title, else all of a filter or of a field.

    Raises
    ------
    ValueError
        If it means none; the message names those that there are.
    """
    word = name.strip().casefold()
    for found in (
        [one for one in series if word in (one.key.casefold(), one.title.casefold())],
        [one for one in series if word and one.filter == name.strip()],
        [one for one in series if word and (one.filter.casefold() or "nofilter") == word],
        [one for one in series if word and folded(name) in (folded(one.field.name), *one.field.objects)],
    ):
        if found:
            return found
    raise ValueError(f"there is no series '{name}'; there are {', '.join(one.key for one in series) or 'none'}")
