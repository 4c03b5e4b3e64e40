"""Watching a folder while exposures are taken: each is calibrated, scored, aligned and added as it arrives."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

from ulvar.calibration import Candidate
from ulvar.engine import JobContext
from ulvar.flows.arriving import Arrivals
from ulvar.flows.calibrate import calibrate_lights, load_masters
from ulvar.flows.common import Outcome
from ulvar.flows.lights import calibrated_facts
from ulvar.flows.masters import make_masters
from ulvar.flows.running import Progressed, RunningStack
from ulvar.flows.series import folded
from ulvar.flows.stack import StackOptions
from ulvar.flows.starfind import find_all
from ulvar.frames import ExposureFacts, Role, file_of, with_user_facts

_CALIBRATION = (Role.BIAS, Role.DARK, Role.FLAT, Role.DARK_FLAT)
# A master is made of so many frames at least.
_LEAST_FRAMES = 3


@dataclass(frozen=True)
class Event:
    """What happened to a file, or how a stack stands after it.

    Attributes
    ----------
    kind : str
        ``added``, ``not added``, ``failed``, ``master`` or ``begun anew``.
    file : str
    reason : str
        Why it was not added; of one that was, why it was not calibrated.
    stack : Progressed, optional
    """

    kind: str
    file: str
    reason: str = ""
    stack: Progressed | None = None


@dataclass
class Watch:
    """A watched folder with a running stack for each object and filter.

    Attributes
    ----------
    folder : Path
        What arrives here, and in folders below it, is taken.
    out : Path
        Stacks and their pictures, named by filter, those of further objects by object and filter; ``calibrated`` and ``masters`` below it.
    context : JobContext
    masters : Path, optional
        Folder of masters; those of calibration frames that arrive come to them.
    options : StackOptions, optional
    given : mapping of str to str
        Facts that the user knows better than the headers.
    replace_existing : bool
        Whether stacks that lie there may be replaced.
    """

    folder: Path
    out: Path
    context: JobContext
    masters: Path | None = None
    options: StackOptions | None = None
    given: Mapping[str, str] = field(default_factory=dict)
    replace_existing: bool = False

    def __post_init__(self) -> None:
        self.arrivals = Arrivals(self.folder, self.out)
        self.stacks: dict[tuple, RunningStack] = {}
        self._refused: dict[tuple, str] = {}
        self._names: set[str] = set()
        self._first_object: str | None = None
        self._lights: list[ExposureFacts] = []
        self._frames: list[ExposureFacts] = []
        self._candidates: list[tuple[Candidate, str]] = load_masters(self.masters)[0] if self.masters else []
        self._given_masters = list(self._candidates)
        self._dirty = False

    @property
    def count(self) -> int:
        """Exposures in all stacks."""
        return sum(len(stack.members) for stack in self.stacks.values())

    def step(self) -> Iterator[Event]:
        """Take what arrived since the last call; yields what becomes of each file.

        Raises
        ------
        FileNotFoundError
            If the folder is gone.
        OSError
            If the place takes no output.
        """
        arrived, failed = self.arrivals.poll()
        yield from (Event("failed", f.file, f.reason) for f in failed)
        exposures = [with_user_facts(facts, self.given) for facts in arrived]
        fresh = [f for f in exposures if f.role in _CALIBRATION and not f.is_master]
        # What does not say what it is, is a light.
        lights = [
            replace(f, role=Role.LIGHT) for f in exposures if f.role in (Role.LIGHT, Role.UNKNOWN) and not f.is_master
        ]
        self._frames += fresh
        self._dirty |= bool(fresh)
        # While calibration frames arrive one after the other, masters wait; lights do not wait for masters.
        if self._dirty and (lights or not fresh):
            yield from self._make_masters()
        for facts in lights:
            self.context.stop.check()
            self._lights.append(facts)
            yield self._add(facts)

    def finish(self) -> list[Progressed]:
        """Compare all exposures of each stack once more, write them, and clear up."""
        try:
            done = [stack.finish() for stack in self.stacks.values()]
            return [one for one in done if one is not None]
        finally:
            self.close()

    def close(self) -> None:
        """Take away what was kept on the way."""
        for stack in self.stacks.values():
            stack.close()

    # ---- on the way

    def _make_masters(self) -> Iterator[Event]:
        self._dirty = False
        folder = self.out / "masters"
        before = {path: Path(path).stat().st_mtime_ns for _, path in self._candidates}
        groups: dict[tuple, list[ExposureFacts]] = {}
        for facts in self._frames:
            groups.setdefault((facts.role, facts.filter, facts.exposure_s, facts.width, facts.height), []).append(facts)
        enough = [facts for many in groups.values() if len(many) >= _LEAST_FRAMES for facts in many]
        if not enough:
            return
        done, _ = make_masters(enough, folder, self.context, others=self._given_masters, replace_existing=True)
        for outcome in done:
            kind = "master" if outcome.ok else "failed"
            if not (outcome.ok and outcome.skipped):
                yield Event(kind, outcome.output or outcome.file, outcome.reason)
        self._candidates = [*load_masters(folder)[0], *self._given_masters]
        after = {path: Path(path).stat().st_mtime_ns for _, path in self._candidates}
        if after != before and self._lights:
            yield from self._again()

    def _again(self) -> Iterator[Event]:
        """Begin anew with all lights: better masters are there."""
        for stack in self.stacks.values():
            stack.close()
            yield Event("begun anew", str(stack.output), "masters came or changed")
        outputs = {key: stack.output for key, stack in self.stacks.items()}
        self.stacks = {}
        for key, output in outputs.items():
            self.stacks[key] = RunningStack(output, self.context, options=self.options, name=key[1])
        for facts in self._lights:
            self.context.stop.check()
            yield self._add(facts)

    def _add(self, facts: ExposureFacts) -> Event:
        working, note = self._calibrated(facts)
        scored, unread = find_all([working], self.context)
        if not scored:
            return Event("failed", facts.path, unread[0].reason if unread else "it could not be read")
        # Fields that lie beside each other would match by their edges, and make one stack with a seam.
        key = (folded(facts.object), facts.filter, working.width, working.height, working.binning)
        if key not in self.stacks and key not in self._refused:
            output = self.out / f"{self._name(facts)}.fits"
            if output.exists() and not self.replace_existing:
                self._refused[key] = f"{output.name} exists; it is kept"
            else:
                self.stacks[key] = RunningStack(output, self.context, options=self.options, name=facts.filter)
        if key in self._refused:
            return Event("not added", facts.path, self._refused[key])
        stack = self.stacks[key]
        failed = stack.add(scored[0])
        mine = next((f for f in failed if f.file == working.path), None)
        if mine is not None:
            return Event("not added", facts.path, mine.reason, stack.progressed)
        return Event("added", facts.path, note, stack.progressed)

    def _calibrated(self, facts: ExposureFacts) -> tuple[ExposureFacts, str]:
        """Return the calibrated copy of a light, or the light itself and why there is none."""
        if not self._candidates:
            return facts, ""
        # Folders below the watched one are mirrored: cameras begin to count anew in each.
        place = Path(file_of(facts.path)).parent
        below = place.relative_to(self.folder) if place.is_relative_to(self.folder) else Path()
        out = self.out / "calibrated" / below
        done, _ = calibrate_lights([facts], self._candidates, out, self.context, replace_existing=True)
        outcome: Outcome = done[0]
        if not outcome.ok:
            return facts, f"not calibrated: {outcome.reason}"
        return calibrated_facts(facts, outcome.output, outcome.values), ""

    def _name(self, facts: ExposureFacts) -> str:
        if self._first_object is None:
            self._first_object = folded(facts.object)
        parts = [facts.filter] if folded(facts.object) == self._first_object else [facts.object, facts.filter]
        plain = [re.sub(r"[^A-Za-z0-9+-]+", "-", part).strip("-")[:40] for part in parts]
        base = "-".join(part for part in plain if part) or "stack"
        name = base if base not in self._names else f"{base}-{facts.width}x{facts.height}"
        number = 2
        while name in self._names:
            name, number = f"{base}-{number}", number + 1
        self._names.add(name)
        return name
