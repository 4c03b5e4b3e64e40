"""Full disks: a command writes into a small file system that is full, or fills up on the way."""

from __future__ import annotations

import ctypes
import json
import os
import random
import shutil
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from storm.call import Call, call
from storm.kill import COMMANDS, contents
from storm.marks import halves

_FITTING = [words for words in COMMANDS if words[0] != "run"]


@dataclass
class Count:
    """What a campaign saw."""

    disks: int = 0
    full: int = 0
    faults: dict[str, int] = field(default_factory=dict)


def mounted(place: Path, size: int) -> bool:
    """Mount a file system of a size [bytes] that vanishes with its contents; whether it was allowed."""
    place.mkdir(parents=True, exist_ok=True)
    libc = ctypes.CDLL(None, use_errno=True)
    return libc.mount(b"tmpfs", os.fsencode(place), b"tmpfs", 0, f"size={size},mode=0700".encode()) == 0


def unmounted(place: Path) -> None:
    """Take a file system away; what still uses it keeps it."""
    ctypes.CDLL(None).umount2(os.fsencode(place), 2)


def one(
    seed: int, lay: Callable[[], None], work: Path, count: Count, tell: Callable[[int, Call, list[str]], None]
) -> None:
    """Give one command one small disk."""
    rng = random.Random(seed)
    words = [*rng.choice(_FITTING), "--json"]
    lay()
    made = work / "made"
    size = rng.choice([4096, 40_960, 98_304, 204_800, 327_680, 409_600, 614_400])
    if not mounted(made, size):
        raise PermissionError("file systems may not be mounted here; the campaign needs root")
    try:
        if rng.random() < 0.3:
            # Somebody else's file fills most of it.
            (made / "other").write_bytes(b"x" * max(0, size - rng.choice([0, 4096, 90_000])))
        before = contents(work / "raw", work / "masters", work / "solved", work / "calibrated")
        done = call(words, work)
        faults = done.faults()
        count.disks += 1
        said = json.dumps(done.body) if done.body is not None else ""
        full = "disk" in said and ("full" in said or "free" in said)
        count.full += full
        if done.code == 3 and not full and done.body is not None and "error" in done.body:
            faults.append("no reason")
        if done.code == 0 and full:
            faults.append("full, and told as done")
        if halves(work):
            faults.append("half-file")
        if contents(work / "raw", work / "masters", work / "solved", work / "calibrated") != before:
            faults.append("inputs changed")
        for fault in faults:
            count.faults[fault] = count.faults.get(fault, 0) + 1
        if faults:
            tell(seed, done, faults)
    finally:
        unmounted(made)
        shutil.rmtree(made, ignore_errors=True)
