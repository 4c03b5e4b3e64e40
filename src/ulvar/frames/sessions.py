"""Observing sessions from times, and sessions and tags from folder names by the user's own example."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import timedelta
from pathlib import PurePosixPath

from ulvar.frames.address import file_of
from ulvar.frames.facts import ExposureFacts, Role

SESSION = "session"


@dataclass(frozen=True)
class TagRule:
    """Where in the path a tag's value stands.

    Attributes
    ----------
    name : str
        The tag; ``session`` overrides the session found from times.
    pattern : str
        One folder part a segment, the first below the folder that was opened. ``{}`` in a segment stands for the
        value, ``*`` for anything, other text for itself: ``{}/*``, ``*/night {}/lights``. Deeper folders
        are not looked at. An empty pattern gives no value.
    matches, stacks : bool
        Whether calibration frames must have the same value as the lights; whether lights of different
        values are stacked apart.
    """

    name: str
    pattern: str = ""
    matches: bool = False
    stacks: bool = False

    def value(self, path: str, roots: Sequence[str]) -> str:
        """Return the value that a file's path gives, or an empty text.

        Raises
        ------
        ValueError
            If the pattern does not have exactly one ``{}``.
        """
        wanted = _segments(self.pattern)
        folders = folder_parts(path, roots)
        if not wanted or len(folders) < len(wanted):
            return ""
        value = ""
        for segment, folder in zip(wanted, folders):
            # Names of folders may hold line ends.
            found = re.fullmatch(_expression(segment), folder, re.DOTALL)
            if found is None:
                return ""
            if found.groups():
                value = found.group(1)
        return value


def _segments(pattern: str) -> list[str]:
    segments = [s for s in pattern.strip().strip("/").split("/") if s]
    if segments and sum(s.count("{}") for s in segments) != 1:
        raise ValueError("a pattern names the value once, with {}")
    return segments


def _expression(segment: str) -> str:
    pieces = re.split(r"(\{\}|\*)", segment)
    return "".join("(.+?)" if p == "{}" else ".*" if p == "*" else re.escape(p) for p in pieces)


def folder_parts(path: str, roots: Sequence[str]) -> list[str]:
    """Return the folders between the opened folder and the file, outermost first."""
    place = PurePosixPath(file_of(path))
    inside = [root for root in roots if place.is_relative_to(root)]
    if inside:
        # Of nested roots the innermost is what the user opened for this file.
        place = place.relative_to(max(inside, key=len))
        return list(place.parts[:-1])
    return [part for part in place.parts[:-1] if part != "/"]


def pattern_by_example(path: str, roots: Sequence[str], part: int) -> str:
    """Return the pattern that takes the value from folder `part` (0 = outermost) of an example file.

    Raises
    ------
    ValueError
        If the example has no such folder.
    """
    folders = folder_parts(path, roots)
    if not 0 <= part < len(folders):
        raise ValueError("the example has no such folder")
    return "/".join(["*"] * part + ["{}"])


def preview_rule(rule: TagRule, exposures: Iterable[ExposureFacts], roots: Sequence[str]) -> dict[str, int]:
    """Return how all files would fall: value to count; files without a value count under an empty text.

    Raises
    ------
    ValueError
        As `TagRule.value`.
    """
    counts: dict[str, int] = {}
    for facts in exposures:
        value = rule.value(facts.path, roots)
        counts[value] = counts.get(value, 0) + 1
    return dict(sorted(counts.items()))


def noon_offset(exposures: Sequence[ExposureFacts]) -> timedelta:
    """Return how long after UTC midnight the sessions change: local mean noon of the site.

    Without a site it is the middle of the longest stretch of the day in which no light was taken, which for a
    night's work is the day.
    """
    for facts in exposures:
        if facts.site_longitude_deg is not None:
            return timedelta(hours=(12 - facts.site_longitude_deg / 15) % 24)
    lights = [f for f in exposures if f.role in (Role.LIGHT, Role.UNKNOWN) and f.start_utc]
    hours = sorted(f.start_utc.hour + f.start_utc.minute / 60 for f in (lights or exposures) if f.start_utc is not None)
    if not hours:
        return timedelta(hours=12)
    gaps = [(b - a, a) for a, b in zip(hours, hours[1:])] + [(hours[0] + 24 - hours[-1], hours[-1])]
    width, start = max(gaps)
    return timedelta(hours=(start + width / 2) % 24)


def assign_sessions(
    exposures: Sequence[ExposureFacts], rules: Sequence[TagRule] = (), roots: Sequence[str] = ()
) -> list[ExposureFacts]:
    """Return exposures with session and tags.

    The session is the evening's date, from noon to noon (see `noon_offset`); a rule named ``session`` overrides
    it where it gives a value, and a session that the user set stays as it is. Files without a time and without
    a rule's value have no session, unless there is only one.

    Raises
    ------
    ValueError
        As `TagRule.value`.
    """
    noon = noon_offset(exposures)
    result = []
    for facts in exposures:
        session, origin = facts.session, facts.origins.get(SESSION, "")
        tags: dict[str, str] = {}
        for rule in rules:
            value = rule.value(facts.path, roots)
            if rule.name == SESSION and value and origin != "user":
                session, origin = value, "path"
            elif rule.name != SESSION and value:
                tags[rule.name] = value
        if origin not in ("user", "path"):
            session = ""
            if facts.start_utc is not None:
                session, origin = (facts.start_utc - noon).strftime("%Y-%m-%d"), "time"
        origins: Mapping[str, str] = {**facts.origins, SESSION: origin} if session else facts.origins
        result.append(replace(facts, session=session, tags=tags, origins=origins))
    only = {f.session for f in result} - {""}
    if len(only) == 1:
        # With a single session there is no doubt where a file without a time belongs.
        (name,) = only
        result = [
            f if f.session else replace(f, session=name, origins={**f.origins, SESSION: "guessed"}) for f in result
        ]
    return result
