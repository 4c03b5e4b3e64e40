"""A campaign shared among processes: each takes every n-th seed, and what they counted is put together."""

from __future__ import annotations

import os
import pickle
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, fields
from typing import Any


@dataclass
class Seen:
    """What a campaign counted, and the seeds of each kind of failure."""

    count: Any
    seeds: dict[str, list[int]] = field(default_factory=dict)


# Of these the largest counts, not the sum.
_LARGEST = ("longest", "most_memory", "slowest_stop")


def _joined(first: Seen, second: Seen) -> Seen:
    for item in fields(first.count):
        one, other = getattr(first.count, item.name), getattr(second.count, item.name)
        if isinstance(one, dict):
            for key, number in other.items():
                one[key] = one.get(key, 0) + number
        else:
            setattr(first.count, item.name, max(one, other) if item.name in _LARGEST else one + other)
    for mark, seeds in second.seeds.items():
        first.seeds.setdefault(mark, []).extend(seeds)
    return first


def shared(seeds: Sequence[int], workers: int, run: Callable[[Sequence[int]], Seen]) -> Seen:
    """Return what `run` saw of all seeds, worked on by so many processes forked from this one.

    Raises
    ------
    RuntimeError
        If one of the processes ended without a result.
    """
    if workers < 2 or len(seeds) < 2:
        return run(seeds)
    children = []
    for n in range(workers):
        result = tempfile.TemporaryFile()  # noqa: SIM115
        child = os.fork()
        if child == 0:
            code = 1
            try:
                result.write(pickle.dumps(run(seeds[n::workers])))
                result.flush()
                code = 0
            finally:
                os._exit(code)
        children.append((child, result))
    found = []
    for child, result in children:
        _, status = os.waitpid(child, 0)
        if status:
            raise RuntimeError(f"a process of the campaign ended with {os.waitstatus_to_exitcode(status)}")
        result.seek(0)
        found.append(pickle.loads(result.read()))
        result.close()
    whole = found[0]
    for other in found[1:]:
        whole = _joined(whole, other)
    return whole
