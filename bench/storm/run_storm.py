"""Runs campaigns of damage against the commands and prints what was counted.

Usage: run_storm.py [fuzz|kill|disk|all] [--minutes N] [--count N] [--seed S] [--only KIND]

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
from collections.abc import Sequence
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent.parent
sys.path[:0] = [str(ROOT / "bench"), str(ROOT)]

from storm import disk, kill
from storm.base import make_base
from storm.call import Call, preload
from storm.fuzz import Count, Input, laid_out, one

PLACE = ROOT / "build" / "storm"


def signature(done: Call, faults: list[str]) -> str:
    """Return what failures of one cause share."""
    places = re.findall(r'File "[^"]*?([\w.]+)", line (\d+)', done.err)
    last = [line for line in done.err.strip().splitlines() if line.strip()]
    own = ":".join(places[-1]) if places else ""
    return f"{'+'.join(faults)} | {done.words[0]} | {own} | {re.sub(chr(39) + '.*', '', last[-1])[:90] if last else ''}"


def fuzz(seeds: Sequence[int], minutes: float, only: str, kept: Path) -> tuple[Count, dict[str, list[int]]]:
    """Try inputs until there were enough or time is up; returns counts, and the seeds of each kind of failure."""
    base = make_base(PLACE)
    counted, seen = Count(), dict[str, list[int]]()
    end = time.monotonic() + 60 * minutes
    for n in seeds:
        if time.monotonic() > end:
            break

        def tell(given: Input, done: Call, faults: list[str], n: int = n) -> None:
            mark = signature(done, faults)
            fresh = mark not in seen
            seen.setdefault(mark, []).append(n)
            if fresh:
                place = kept / f"{n}"
                place.mkdir(parents=True, exist_ok=True)
                if len(given.data) < 2_000_000:
                    (place / Path(given.file).name).write_bytes(given.data)
                told = {"seed": n, "kind": given.kind.name, "words": done.words, "faults": faults, "code": done.code}
                (place / f"{'-'.join(faults).replace(' ', '-')}.json").write_text(
                    json.dumps({**told, "out": done.out[-3000:], "err": done.err[-6000:]}, indent=1)
                )

        if counted.inputs % 500 == 499:
            print(
                f"... {counted.inputs + 1} inputs, {counted.calls} calls, {sum(counted.faults.values())} faults",
                flush=True,
            )
        one(n, base, PLACE / f"work-{os.getpid()}", counted, tell, only)
    return counted, seen


def _kept(kept: Path, seen: dict[str, list[int]], seed: int, done: Call, faults: list[str]) -> None:
    """Note a failure that is no damaged input: the command, what it said, and the seed."""
    mark = signature(done, faults)
    if mark not in seen:
        kept.mkdir(parents=True, exist_ok=True)
        told = {
            "seed": seed,
            "words": done.words,
            "faults": faults,
            "code": done.code,
            "out": done.out[-3000:],
            "err": done.err[-6000:],
        }
        (kept / f"{seed}.json").write_text(json.dumps(told, indent=1))
    seen.setdefault(mark, []).append(seed)


def _tell(seen: dict[str, list[int]], faults: dict[str, int]) -> int:
    for fault, number in sorted(faults.items()):
        print(f"  {fault:32} {number}")
    for mark, seeds in sorted(seen.items(), key=lambda pair: -len(pair[1])):
        print(f"{len(seeds):5}  {mark}  seeds {seeds[:3]}")
    return sum(faults.values())


def kills(seed: int, count: int, minutes: float, work: Path) -> int:
    """End commands at random moments; every tenth has workers."""
    base = make_base(PLACE)
    counted, seen, known = kill.Count(), dict[str, list[int]](), dict[tuple[str, bool], tuple[dict[str, str], float]]()
    end = time.monotonic() + 60 * minutes
    for n in range(seed, seed + count):
        if time.monotonic() > end:
            break
        if counted.kills % 100 == 99:
            print(f"... {counted.kills + 1} kills, {sum(counted.faults.values())} faults", flush=True)
        kill.one(
            n, lambda: laid_out(base, work), work, counted,
            lambda s, done, faults: _kept(PLACE / "failures" / "kill", seen, s, done, faults), known, n % 10 == 0,
        )  # fmt: skip
    print(
        f"kill: {counted.kills} kills, {counted.in_the_middle} before the end; slowest stop {counted.slowest_stop:.1f} s"
    )
    return _tell(seen, counted.faults)


def disks(seed: int, count: int, minutes: float, work: Path) -> int:
    """Give commands small disks."""
    base = make_base(PLACE)
    counted, seen = disk.Count(), dict[str, list[int]]()
    end = time.monotonic() + 60 * minutes
    for n in range(seed, seed + count):
        if time.monotonic() > end:
            break
        disk.one(
            n, lambda: laid_out(base, work), work, counted,
            lambda s, done, faults: _kept(PLACE / "failures" / "disk", seen, s, done, faults),
        )  # fmt: skip
    print(f"disk: {counted.disks} small disks, {counted.full} of them too small")
    return _tell(seen, counted.faults)


def main() -> int:
    """Run, count, print."""
    parser = argparse.ArgumentParser(prog="./run storm", description="Damage, kills and full disks, counted.")
    parser.add_argument("campaign", nargs="?", default="all", choices=["fuzz", "kill", "disk", "all"])
    parser.add_argument("--minutes", type=float, default=10.0)
    parser.add_argument("--count", type=int, default=1_000_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--also", default="", help="Further seeds of inputs, with commas between.")
    parser.add_argument("--only", default="", help="Only this kind of input.")
    given = parser.parse_args()
    preload()
    bad = 0
    if given.campaign in ("fuzz", "all"):
        seeds = [
            *(int(n) for n in given.also.split(",") if n),
            *range(given.seed, given.seed + min(given.count, 10**7)),
        ]
        counted, seen = fuzz(seeds, given.minutes, given.only, PLACE / "failures")
        print(
            f"fuzz: {counted.inputs} inputs, {counted.calls} calls, {counted.sentences} sentences; longest {counted.longest:.1f} s, "
            f"most memory {counted.most_memory / 1e6:.0f} MB, {counted.seconds / max(1, counted.calls):.2f} s a call"
        )
        bad += _tell(seen, counted.faults)
    work = PLACE / f"work-{os.getpid()}"
    if given.campaign in ("kill", "all"):
        bad += kills(given.seed, given.count, given.minutes, work)
    if given.campaign in ("disk", "all"):
        bad += disks(given.seed, given.count, given.minutes, work)
    kill.tidy(work)
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
