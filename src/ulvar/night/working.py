"""One process at a time works on a night: another one waits, and says so."""

from __future__ import annotations

import fcntl
import os
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import wraps
from pathlib import Path
from typing import Concatenate, ParamSpec, TypeVar

from ulvar.engine import JobContext
from ulvar.night.project import Night

_P = ParamSpec("_P")
_R = TypeVar("_R")

_FILE = "night.lock"
_WAITING = "Waiting for another Ulvar that works on this night"
# What this process holds: folder to (descriptor, how many times). A station may call another.
_held: dict[Path, tuple[int, int]] = {}
_guard = threading.Lock()


def _take(place: Path) -> int | None:
    """Return a descriptor that holds the lock, None while another process has it."""
    descriptor = os.open(place / _FILE, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o666)
    try:
        # The kernel gives it back when the process ends, however that ends.
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        os.close(descriptor)
        return None
    except OSError:
        # Some network disks know no locks; who works there works beside others as before.
        return descriptor
    return descriptor


@contextmanager
def alone(night: Night, context: JobContext) -> Iterator[None]:
    """Hold a night while a station works on it; while another process does, wait, and tell it as the job's progress.

    Raises
    ------
    StopRequested
        If a stop is asked while it waits.
    """
    place = night.folder.resolve()
    waited = False
    while True:
        context.stop.check()
        with _guard:
            descriptor, times = _held.get(place, (-1, 0))
            if not times:
                found = _take(place)
                descriptor = -1 if found is None else found
            if descriptor >= 0:
                _held[place] = descriptor, times + 1
                break
        context.progress(0, 0, _WAITING)
        waited = True
        time.sleep(0.2)
    if waited:
        night.look_again()
    try:
        yield
    finally:
        with _guard:
            descriptor, times = _held[place]
            if times == 1:
                del _held[place]
                os.close(descriptor)
            else:
                _held[place] = descriptor, times - 1


def one_at_a_time(
    runner: Callable[Concatenate[Night, JobContext, _P], _R],
) -> Callable[Concatenate[Night, JobContext, _P], _R]:
    """Return a station's work as it is done while no other process works on the night."""

    @wraps(runner)
    def run(night: Night, context: JobContext, /, *args: _P.args, **named: _P.kwargs) -> _R:
        with alone(night, context):
            return runner(night, context, *args, **named)

    return run
