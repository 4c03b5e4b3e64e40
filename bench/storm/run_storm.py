"""Runs campaigns of damage against the commands and prints what was counted.

Usage: run_storm.py [fuzz|kill|disk|all] [--minutes N] [--count N] [--seed S] [--only KIND] [--calls N] [--workers N]

A failure is kept below ``build/storm/failures``: the damaged file, the command, what it said, the seed that makes it again
(``--seed S --count 1``).
"""

from __future__ import annotations

import argparse
import json
import os
import re
import sys
import time
import traceback
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent.parent
sys.path[:0] = [str(ROOT / "bench"), str(ROOT)]

from storm import disk, fuzz, kill
from storm.base import make_base
from storm.call import Call, preload
from storm.sharing import Seen, shared

PLACE = ROOT / "build" / "storm"


def signature(done: Call, faults: list[str]) -> str:
    """Return what failures of one cause share."""
    places = re.findall(r'File "[^"]*?([\w.]+)", line (\d+)', done.err)
    last = [line for line in done.err.strip().splitlines() if line.strip()]
    own = ":".join(places[-1]) if places else ""
    return f"{'+'.join(faults)} | {done.words[0]} | {own} | {re.sub(chr(39) + '.*', '', last[-1])[:90] if last else ''}"


def _note(seen: Seen, campaign: str, seed: int, done: Call, faults: list[str], given: fuzz.Input | None = None) -> None:
    """Keep the first failure of each kind: the command, what it said, the damaged file, and the seed."""
    mark = signature(done, faults)
    if mark not in seen.seeds:
        place = PLACE / "failures" / campaign / f"{seed}"
        place.mkdir(parents=True, exist_ok=True)
        if given is not None and len(given.data) < 2_000_000:
            (place / Path(given.file).name).write_bytes(given.data)
        told = {
            "seed": seed,
            "words": done.words,
            "faults": faults,
            "code": done.code,
            "out": done.out[-3000:],
            "err": done.err[-6000:],
        }
        (place / f"{'-'.join(faults).replace(' ', '-')}.json").write_text(json.dumps(told, indent=1))
    seen.seeds.setdefault(mark, []).append(seed)


def _campaign(
    seeds: Sequence[int], minutes: float, count: Any, one: Callable[[int, Path, Seen], object]
) -> Seen:  # fmt: skip
    """Go through seeds, in a working folder of this process, until there were enough or time is up."""
    seen, work, end = Seen(count), _work(), time.monotonic() + 60 * minutes
    try:
        for n, seed in enumerate(seeds):
            if time.monotonic() > end:
                break
            if n % 500 == 499:
                print(f"... {n + 1} of {len(seeds)}, {sum(count.faults.values())} faults", flush=True)
            try:
                one(seed, work, seen)
            except Exception:
                print(f"seed {seed}:", flush=True)
                traceback.print_exc()
                raise
    finally:
        kill.tidy(work)
    return seen


def _work() -> Path:
    return PLACE / f"work-{os.getpid()}"


def fuzzed(seeds: Sequence[int], given: argparse.Namespace, base: Path) -> Seen:
    """Give damaged inputs to commands."""

    def one(seed: int, work: Path, seen: Seen) -> None:
        def tell(what: fuzz.Input, done: Call, faults: list[str]) -> None:
            _note(seen, "fuzz", seed, done, faults, what)

        fuzz.one(seed, base, work, seen.count, tell, given.only, given.calls)

    return _campaign(seeds, given.minutes, fuzz.Count(), one)


def killed(seeds: Sequence[int], given: argparse.Namespace, base: Path) -> Seen:
    """End commands at random moments; every tenth has workers."""
    known: kill.Known = {}

    def one(seed: int, work: Path, seen: Seen) -> None:
        tell, workers = partial(_note, seen, "kill"), seed % 10 == 0
        kill.one(seed, lambda: fuzz.laid_out(base, work), work, seen.count, tell, known, workers)

    return _campaign(seeds, given.minutes, kill.Count(), one)


def filled(seeds: Sequence[int], given: argparse.Namespace, base: Path) -> Seen:
    """Give commands bad disks."""
    known: kill.Known = {}

    def one(seed: int, work: Path, seen: Seen) -> None:
        disk.one(seed, lambda: fuzz.laid_out(base, work), work, seen.count, partial(_note, seen, "disk"), known)

    return _campaign(seeds, given.minutes, disk.Count(), one)


def _tell(line: str, seen: Seen, begun: float) -> int:
    print(f"{line} ({(time.monotonic() - begun) / 60:.0f} minutes)")
    for fault, number in sorted(seen.count.faults.items()):
        print(f"  {fault:32} {number}")
    for mark, seeds in sorted(seen.seeds.items(), key=lambda pair: -len(pair[1])):
        print(f"{len(seeds):5}  {mark}  seeds {sorted(seeds)[:3]}")
    return sum(seen.count.faults.values())


def main() -> int:
    """Run, count, print."""
    parser = argparse.ArgumentParser(prog="./run storm", description="Damage, kills and full disks, counted.")
    parser.add_argument("campaign", nargs="?", default="all", choices=["fuzz", "kill", "disk", "all"])
    parser.add_argument("--minutes", type=float, default=10.0)
    parser.add_argument("--count", type=int, default=100_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--also", default="", help="Further seeds of inputs, with commas between.")
    parser.add_argument("--only", default="", help="Only this kind of input.")
    parser.add_argument("--calls", type=int, default=3, help="At most so many commands an input.")
    parser.add_argument("--workers", type=int, default=max(1, len(os.sched_getaffinity(0))))
    given = parser.parse_args()
    preload()
    base, seeds, bad = make_base(PLACE), range(given.seed, given.seed + given.count), 0
    if given.count > 100:
        fuzz.warm(base, _work())
    if given.campaign in ("fuzz", "all"):
        begun, also = time.monotonic(), [int(n) for n in given.also.split(",") if n]
        seen = shared([*also, *seeds], given.workers, lambda part: fuzzed(part, given, base))
        count = seen.count
        bad += _tell(
            f"fuzz: {count.inputs} inputs, {count.calls} calls, {count.sentences} sentences; longest {count.longest:.1f} s, "
            f"most memory {count.most_memory / 1e6:.0f} MB, {count.seconds / max(1, count.calls):.2f} s a call", seen, begun,
        )  # fmt: skip
    if given.campaign in ("kill", "all"):
        begun, seen = time.monotonic(), shared(seeds, given.workers, lambda part: killed(part, given, base))
        count = seen.count
        bad += _tell(
            f"kill: {count.kills} kills, {count.in_the_middle} before the end; slowest stop {count.slowest_stop:.1f} s",
            seen,
            begun,
        )
    if given.campaign in ("disk", "all"):
        begun, seen = time.monotonic(), shared(seeds, given.workers, lambda part: filled(part, given, base))
        count = seen.count
        bad += _tell(
            f"disk: {count.disks} small disks, {count.full} of them too small; {count.limits} limits of size, {count.failing} that failed, "
            f"{count.vanished} pulled out, {count.slow} slow", seen, begun,
        )  # fmt: skip
    kill.tidy(_work())
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
