"""Exposures that belong together."""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from statistics import median

from ulvar.frames.facts import ExposureFacts, Role


@dataclass(frozen=True)
class Tolerances:
    """How far off still counts as the same.

    Attributes
    ----------
    exposure_s, exposure_fraction : float
        Exposure times agree within the larger of the two [s, 1].
    temperature_c : float
        Sensor temperatures agree within this [C].
    age_d : float
        Calibration frames older than this are used with a warning [d].
    """

    exposure_s: float = 0.5
    exposure_fraction: float = 0.02
    temperature_c: float = 1.0
    age_d: float = 30.0

    def same_exposure(self, first: float | None, second: float | None) -> bool:
        """Whether two exposure times [s] agree; two unknown ones do."""
        if first is None or second is None:
            return first is None and second is None
        # Short exposures (flats) are told apart by the fraction, not by half a second.
        limit = max(self.exposure_fraction * max(first, second), min(self.exposure_s, 0.05 * max(first, second)))
        return abs(first - second) <= limit + 1e-9


@dataclass(frozen=True)
class Group:
    """Exposures of one kind. Numbers are those of the group's first member or its median.

    `one_of_sessions` tells that the exposures that were grouped are of more than one session, so that the
    session has to be named.
    """

    role: Role
    filter: str
    exposure_s: float | None
    gain: float | None
    offset: float | None
    temperature_c: float | None
    binning: int
    width: int
    height: int
    camera: str
    readout_mode: str
    is_master: bool
    members: tuple[ExposureFacts, ...]
    session: str = ""
    tags: Mapping[str, str] = field(default_factory=dict)
    one_of_sessions: bool = False

    @property
    def count(self) -> int:
        """How many exposures."""
        return len(self.members)

    @property
    def files(self) -> tuple[str, ...]:
        """The members' paths."""
        return tuple(member.path for member in self.members)

    @property
    def typical(self) -> ExposureFacts:
        """The first member's facts with the group's median temperature: what is matched for the whole group."""
        return replace(self.members[0], temperature_c=self.temperature_c)

    @property
    def key(self) -> str:
        """A short text that names the group, the same wherever and with whatever others it is met."""
        parts = [self.role.value]
        if self.filter:
            parts.append(self.filter)
        if self.exposure_s is not None:
            parts.append(f"{self.exposure_s:g}s")
        if self.gain is not None:
            parts.append(f"gain{self.gain:g}")
        if self.temperature_c is not None:
            parts.append(f"{self.temperature_c:+.0f}C")
        if self.binning != 1:
            parts.append(f"bin{self.binning}")
        if self.one_of_sessions and self.session:
            parts.append(self.session)
        parts += [self.tags[name] for name in sorted(self.tags)]
        # Four digits stand for what is seldom different and would make the text long.
        rest = f"{self.camera}|{self.readout_mode}|{self.offset}|{self.width}|{self.height}"
        parts.append(f"{zlib.crc32(rest.encode()) & 0xFFFF:04x}")
        return "-".join(parts)


def _exact_key(facts: ExposureFacts) -> tuple:
    # Bias and darks are taken with whatever filter was in the way.
    filtered = facts.role in (Role.FLAT, Role.LIGHT, Role.UNKNOWN)
    return (
        facts.role, facts.is_master, facts.filter if filtered else "", facts.gain, facts.offset, facts.binning,
        facts.width, facts.height, facts.camera, facts.readout_mode, facts.session, tuple(sorted(facts.tags.items())),
    )  # fmt: skip


def group_exposures(
    exposures: Iterable[ExposureFacts], tolerances: Tolerances | None = None, *, name_sessions: bool | None = None
) -> list[Group]:
    """Return groups by role, filter, exposure, gain, offset, temperature, binning, size, camera, session and tags.

    Exposure time and temperature agree within the tolerances of their neighbours: values are sorted and a
    gap wider than the tolerance starts a new group, so the result does not depend on the order of files.
    `name_sessions` says whether keys name the session; by default they do when there are several. Who groups a
    part of a night's exposures passes what holds for all, so that a group has one key wherever it is met.
    """
    limits = tolerances or Tolerances()
    exact: dict[tuple, list[ExposureFacts]] = {}
    sessions: set[str] = set()
    for facts in exposures:
        sessions.add(facts.session)
        exact.setdefault(_exact_key(facts), []).append(facts)
    groups: list[Group] = []
    named = len(sessions - {""}) > 1 if name_sessions is None else name_sessions
    for same in exact.values():
        for by_time in _split_exposure(same, limits):
            for members in _split_temperature(by_time, limits):
                groups.append(_group(members, several=named))
    order = list(Role)
    groups.sort(
        key=lambda g: (order.index(g.role), g.is_master, g.filter, g.exposure_s or 0.0, g.temperature_c or 0, g.session)
    )
    return groups


def _split_exposure(members: Sequence[ExposureFacts], limits: Tolerances) -> list[list[ExposureFacts]]:
    ordered = sorted(members, key=lambda f: (f.exposure_s is None, f.exposure_s or 0.0))
    split: list[list[ExposureFacts]] = []
    for facts in ordered:
        if split and limits.same_exposure(split[-1][-1].exposure_s, facts.exposure_s):
            split[-1].append(facts)
        else:
            split.append([facts])
    return split


def _split_temperature(members: Sequence[ExposureFacts], limits: Tolerances) -> list[list[ExposureFacts]]:
    known = [f for f in members if f.sensor_temperature_c is not None]
    unknown = [f for f in members if f.sensor_temperature_c is None]
    split: list[list[ExposureFacts]] = []
    for facts in sorted(known, key=lambda f: f.sensor_temperature_c or 0.0):
        last = split[-1][-1].sensor_temperature_c if split else None
        if last is not None and (facts.sensor_temperature_c or 0.0) - last <= limits.temperature_c:
            split[-1].append(facts)
        else:
            split.append([facts])
    if unknown:
        split.append(unknown)
    return split


def _group(members: Sequence[ExposureFacts], *, several: bool) -> Group:
    ordered = sorted(
        members, key=lambda f: (f.start_utc is None, f.start_utc.timestamp() if f.start_utc else 0, f.path)
    )
    first = ordered[0]
    temperatures = [f.sensor_temperature_c for f in ordered if f.sensor_temperature_c is not None]
    return Group(
        role=first.role,
        filter=_exact_key(first)[2],
        exposure_s=first.exposure_s,
        gain=first.gain,
        offset=first.offset,
        temperature_c=median(temperatures) if temperatures else None,
        binning=first.binning,
        width=first.width,
        height=first.height,
        camera=first.camera,
        readout_mode=first.readout_mode,
        is_master=first.is_master,
        members=tuple(ordered),
        session=first.session,
        tags=first.tags,
        one_of_sessions=several,
    )
