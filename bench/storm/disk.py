"""Bad disks: a command writes to a place that is full or fills up, fails, goes away, or is slow."""

from __future__ import annotations

import ctypes
import errno
import json
import os
import random
import resource
import shutil
import signal
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from storm.call import Call, call
from storm.kill import COMMANDS, Known, contents, undisturbed
from storm.marks import halves

_FITTING = [words for words in COMMANDS if words[0] != "run"]
_SIZES = [4096, 40_960, 98_304, 204_800, 327_680, 409_600, 614_400]
# What is told of a place that takes no more, or fails.
_TOLD = ("full", "free", "not allowed", "does not answer", "there is no", "in the way", "gone")


@dataclass
class Count:
    """What a campaign saw."""

    disks: int = 0
    full: int = 0
    limits: int = 0
    failing: int = 0
    vanished: int = 0
    slow: int = 0
    faults: dict[str, int] = field(default_factory=dict)


def mounted(place: Path, size: int) -> bool:
    """Mount a file system of a size [bytes] that vanishes with its contents; whether it was allowed."""
    place.mkdir(parents=True, exist_ok=True)
    libc = ctypes.CDLL(None, use_errno=True)
    return libc.mount(b"tmpfs", os.fsencode(place), b"tmpfs", 0, f"size={size},mode=0700".encode()) == 0


def unmounted(place: Path) -> None:
    """Take a file system away; what still uses it keeps it."""
    ctypes.CDLL(None).umount2(os.fsencode(place), 2)


def _limited(size: int) -> Callable[[], None]:
    """Return what keeps a process from writing more than `size` into any file."""

    def prepare() -> None:
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (size, size))

    return prepare


def _wrapped(before: Callable[[], None]) -> Callable[[], None]:
    """Return what has `before` called ahead of every flush and every renaming in a process."""

    def prepare() -> None:
        flush, rename = os.fsync, os.replace

        def slow_flush(handle: Any) -> None:
            before()
            flush(handle)

        def slow_rename(*names: Any, **given: Any) -> None:
            before()
            rename(*names, **given)

        os.fsync, os.replace = slow_flush, slow_rename

    return prepare


def _failing(after: int) -> Callable[[], None]:
    """Return what makes a disk fail from the n-th flush or renaming on."""
    count = [0]

    def fails() -> None:
        count[0] += 1
        if count[0] > after:
            raise OSError(errno.EIO, os.strerror(errno.EIO))

    return _wrapped(fails)


@dataclass
class _Try:
    """One command at one bad place."""

    words: list[str]
    work: Path
    lay: Callable[[], None]
    rng: random.Random
    count: Count
    known: Known

    @property
    def made(self) -> Path:
        return self.work / "made"

    def small(self) -> tuple[Call, list[str]]:
        """A disk that is full, or fills up on the way."""
        size = self.rng.choice(_SIZES)
        if not mounted(self.made, size):
            return self.limited()
        try:
            if self.rng.random() < 0.3:
                # Somebody else's file fills most of it.
                (self.made / "other").write_bytes(b"x" * max(0, size - self.rng.choice([0, 4096, 90_000])))
            done = call(self.words, self.work)
            self.count.disks += 1
            said = json.dumps(done.body) if done.body is not None else ""
            full = "disk" in said and ("full" in said or "free" in said)
            self.count.full += full
            return done, ["full, and told as done"] if done.code == 0 and full else []
        finally:
            unmounted(self.made)

    def limited(self) -> tuple[Call, list[str]]:
        """Files that may not grow beyond a size, as under a quota; needs no rights."""
        self.count.limits += 1
        return call(self.words, self.work, prepare=_limited(self.rng.choice(_SIZES))), []

    def failing(self) -> tuple[Call, list[str]]:
        """A disk that fails from some moment on."""
        self.count.failing += 1
        done = call(self.words, self.work, prepare=_failing(self.rng.choice([0, 0, 1, 2, 5])))
        return done, []

    def vanishing(self) -> tuple[Call, list[str]]:
        """A disk that is pulled out."""
        _, seconds = self._undisturbed()
        self.lay()
        own = mounted(self.made, 64 * 1024**2)
        moment, gone = self.rng.uniform(0, seconds), [False]

        def meanwhile(process: int, elapsed: float) -> None:
            if elapsed > moment and not gone[0]:
                gone[0] = True
                if own:
                    unmounted(self.made)
                shutil.rmtree(self.made, ignore_errors=True)

        try:
            done = call(self.words, self.work, meanwhile=meanwhile)
        finally:
            if own and not gone[0]:
                unmounted(self.made)
        self.count.vanished += 1
        return done, []

    def slow(self) -> tuple[Call, list[str]]:
        """A disk that takes its time; what is made is the same."""
        wanted, _ = self._undisturbed()
        self.lay()
        pause = self.rng.uniform(0.05, 0.4)
        done = call(self.words, self.work, prepare=_wrapped(lambda: time.sleep(pause)))
        self.count.slow += 1
        return done, [] if contents(self.made) == wanted else ["differs"]

    def _undisturbed(self) -> tuple[dict[str, str], float]:
        key = (" ".join(self.words), False)
        if key not in self.known:
            self.known[key] = undisturbed(self.words, self.lay, self.work, False)
        return self.known[key]


def one(
    seed: int, lay: Callable[[], None], work: Path, count: Count, tell: Callable[[int, Call, list[str]], None],
    known: Known,
) -> None:  # fmt: skip
    """Give one command one bad disk."""
    rng = random.Random(seed)
    trial = _Try([*rng.choice(_FITTING), "--json"], work, lay, rng, count, known)
    kind = rng.choice([trial.small] * 4 + [trial.limited, trial.failing, trial.vanishing, trial.slow])
    lay()
    before = contents(work / "raw", work / "masters", work / "solved", work / "calibrated")
    done, faults = kind()
    faults = [*done.faults(), *faults]
    if done.code == 3 and done.body is not None and not any(word in json.dumps(done.body) for word in _TOLD):
        faults.append("no reason")
    if halves(work):
        faults.append("half-file")
    if contents(work / "raw", work / "masters", work / "solved", work / "calibrated") != before:
        faults.append("inputs changed")
    for fault in faults:
        count.faults[fault] = count.faults.get(fault, 0) + 1
    if faults:
        tell(seed, done, faults)
    shutil.rmtree(work / "made", ignore_errors=True)
