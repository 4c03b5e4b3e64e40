"""Kills: a command is ended at a random moment, and run again; nothing may be lost, half, orphaned or different."""

from __future__ import annotations

import hashlib
import os
import random
import shutil
import signal
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from storm.call import PATIENCE_S, Call, call
from storm.marks import HALF, halves, is_worker, members

_STARS = ["--stars", "stars.csv", "--aperture", "5"]
COMMANDS = [
    ["stars", "raw", "--table", "made"],
    ["masters", "raw", "--out", "made"],
    ["calibrate", "raw", "--masters", "masters", "--out", "made", "--partial"],
    ["stack", "solved", "--out", "made/stack.fits"],
    ["solve", "calibrated", "--catalogue", "catalogue.csv", "--out", "made"],
    ["measure", "solved", *_STARS, "--out", "made/series.csv"],
    ["curve", "series.csv", "--out", "made/curve.csv"],
    ["catalogue", "import", "catalogue.csv", "--out", "made"],
    ["library", "add", "masters/bias.fits", "masters/flat.fits", "--library", "made"],
    ["run", "recipe.toml", "--night", "raw"],
]
# How a command is ended: by which signal, and who gets it.
WAYS = [
    ("main", signal.SIGKILL), ("main", signal.SIGKILL), ("group", signal.SIGKILL), ("main", signal.SIGTERM), ("group", signal.SIGTERM),
    ("group", signal.SIGINT), ("worker", signal.SIGKILL),
]  # fmt: skip
# Command, and whether it has workers, to what it makes undisturbed, and how long that takes [s].
Known = dict[tuple[str, bool], tuple[dict[str, str], float]]
_FIRST_S = 0.05
# How long processes may take to follow their parent [s].
_FOLLOW_S = 3.0


def contents(*places: Path) -> dict[str, str]:
    """Return a checksum of every file but those that tell times (stores, logs, recipes, indexes)."""
    found = {}
    for place in places:
        for path in sorted(place.rglob("*")):
            timed = (
                path.name.startswith("night.sqlite")
                or path.name in ("recipe.toml", "library.json")
                or "log" in path.parts
            )
            if path.is_file() and not timed and not HALF.match(path.name):
                found[str(path.relative_to(place.parent))] = hashlib.blake2b(path.read_bytes()).hexdigest()
    return found


@dataclass
class Count:
    """What a campaign saw."""

    kills: int = 0
    in_the_middle: int = 0
    slowest_stop: float = 0.0
    faults: dict[str, int] = field(default_factory=dict)


def _places(work: Path) -> tuple[Path, ...]:
    return tuple(p for p in (work / "made", work / "raw-night" / "products") if p.exists())


def undisturbed(words: list[str], lay: Callable[[], None], work: Path, workers: bool) -> tuple[dict[str, str], float]:
    """Return what a command makes when nobody disturbs it, and how long it takes [s]."""
    lay()
    # Whether it hangs is asked of the others.
    done = call(words, work, workers=workers, patience_s=10 * PATIENCE_S)
    if done.hung or done.code not in (0, 1):
        raise RuntimeError(f"undisturbed it fails: {' '.join(words)}: exit {done.code}\n{done.err}")
    return contents(*_places(work)), done.seconds


def one(
    seed: int, lay: Callable[[], None], work: Path, count: Count, tell: Callable[[int, Call, list[str]], None],
    known: Known, workers: bool,
) -> None:  # fmt: skip
    """End one command once, and run it again."""
    rng = random.Random(seed)
    words = rng.choice(COMMANDS)
    who, number = rng.choice(WAYS if workers else WAYS[:6])
    key = (" ".join(words), workers)
    if key not in known:
        known[key] = undisturbed(words, lay, work, workers)
    wanted, seconds = known[key]
    lay()
    before = contents(work / "raw", work / "masters", work / "solved", work / "calibrated")
    moment, sent = rng.uniform(0, 1.05 * seconds), [0.0]

    def meanwhile(process: int, elapsed: float) -> None:
        if sent[0] or elapsed < moment:
            return
        targets = [process]
        if who == "worker":
            targets = [p for p in members(process) if is_worker(p)][-1:] or [process]
        sent[0] = time.monotonic()
        for target in targets:
            try:
                (os.killpg if who == "group" else os.kill)(target, number)
            except ProcessLookupError:
                continue

    done = call(words, work, workers=workers, meanwhile=meanwhile)
    count.kills += 1
    if sent[0]:
        count.in_the_middle += 1
    faults = []
    # In its first moments, before it has begun, a command ends by the signal itself.
    ended = (-int(number),) if number == signal.SIGKILL else (130, -int(number)) if moment < _FIRST_S else (130,)
    if sent[0] and who != "worker" and done.code not in (0, 1, *ended):
        faults.append(f"exit {done.code} after {number.name}")
    if who == "worker" and done.code not in (0, 1, -9):
        faults.append(f"exit {done.code} after a worker was killed")
    if "Traceback" in done.err:
        faults.append("traceback")
    if done.hung:
        faults.append("hang")
    if number != signal.SIGKILL and sent[0]:
        count.slowest_stop = max(count.slowest_stop, time.monotonic() - sent[0])
    end = time.monotonic() + _FOLLOW_S
    process = done.process
    while members(process) and time.monotonic() < end:
        time.sleep(0.02)
    orphans = members(process)
    if orphans:
        faults.append("orphan")
        for orphan in orphans:
            os.kill(orphan, signal.SIGKILL)
    if number != signal.SIGKILL and halves(work):
        faults.append("half-file after a stop")
    if contents(work / "raw", work / "masters", work / "solved", work / "calibrated") != before:
        faults.append("inputs changed")
    again = call(words, work)
    # What is there already may be told as such; whatever is said, the products have to be those of the undisturbed run.
    if again.hung or again.code < 0 or "Traceback" in again.err:
        faults.append(f"the next run fails ({again.code})")
    if halves(work):
        faults.append("half-file after the next run")
    if contents(*_places(work)) != wanted:
        faults.append("differs")
    for fault in faults:
        count.faults[fault] = count.faults.get(fault, 0) + 1
    if faults:
        tell(seed, done if not faults[-1].startswith(("differs", "the next")) else again, faults)


def tidy(work: Path) -> None:
    """Take the working folder away."""
    shutil.rmtree(work, ignore_errors=True)
