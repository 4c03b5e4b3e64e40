"""How long work takes on this machine: as long as it took before, by what was done and how many pixels it was done with."""

from __future__ import annotations

import contextlib
import json
import logging
import math
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import platformdirs

from ulvar.engine import write_text

log = logging.getLogger(__name__)

# Seconds a megapixel of an exposure by the clock, on two processors (docs/benchmarks.md): what is told before anything ran here.
_UNTIL_KNOWN = {
    "find": 0.045, "find quick": 0.006, "stack": 0.02, "small find": 0.25, "small find quick": 0.25, "small stack": 0.05,
}  # fmt: skip
# What begins and ends whatever its size [s].
_ALWAYS_S = 1.0
# Less work says more of what else the machine does.
_LEAST_MPX, _LEAST_S = 20.0, 2.0
# Of frames under this size it is the frames that take time more than their pixels: they have a pace of their own [Mpx].
_SMALL_MPX, _SMALL = 4.0, "small "
# What ran last counts so much of what is remembered.
_NEWEST = 0.5


def _file() -> Path:
    return platformdirs.user_state_path("ulvar") / "pace.json"


def _known() -> dict[str, float]:
    try:
        stored = json.loads(_file().read_text(encoding="utf-8"))
        return {str(kind): float(v) for kind, v in stored.items() if 0 < float(v) < 3600}
    except (OSError, ValueError, TypeError, AttributeError):
        # Never written, or spoiled: then it is learnt anew.
        return {}


def _sized(kind: str, megapixels: float, frames: int) -> str:
    return f"{_SMALL}{kind}" if megapixels < _SMALL_MPX * frames else kind


def expected_s(kind: str, megapixels: float, frames: int) -> float:
    """Return how long work of a kind will take [s].

    Parameters
    ----------
    kind : str
        A kind is a word (``find``, ``stack``) and what makes it slower or faster behind it; where the whole was never done
        here, the longest beginning of it that is known is told of.
    megapixels : float
        Of all exposures.
    frames : int
    """
    known = _UNTIL_KNOWN | _known()
    words = kind.split()
    names = [" ".join(words[:n]) for n in range(len(words), 0, -1)]
    names = [*(name for n in names if (name := _sized(n, megapixels, frames)) != n), *names]
    pace = next((known[name] for name in names if name in known), math.nan)
    return _ALWAYS_S + pace * megapixels


@dataclass
class Work:
    """What was done in all; known when it is done."""

    megapixels: float = 0.0
    frames: int = 0
    begun: float = field(default_factory=lambda: time.monotonic())


@contextlib.contextmanager
def timed(kind: str) -> Iterator[Work]:
    """Remember how long work of a kind takes; what breaks off tells nothing."""
    work = Work()
    yield work
    took = time.monotonic() - work.begun
    if work.megapixels < _LEAST_MPX or took < _LEAST_S:
        return
    known, kind = _known(), _sized(kind, work.megapixels, work.frames)
    pace = (took - _ALWAYS_S) / work.megapixels
    before = known.get(kind, pace)
    known[kind] = _NEWEST * pace + (1 - _NEWEST) * before
    try:
        _file().parent.mkdir(parents=True, exist_ok=True)
        write_text(_file(), json.dumps(known, indent=1, sort_keys=True), replace=True)
    except OSError as error:
        # A home that takes no files keeps nobody from working.
        log.info("the pace of this machine is not remembered: %s", error)


def time_words(seconds: float) -> str:
    """Return a time that is roughly known, in words.

    Examples
    --------
    >>> time_words(3.4), time_words(47), time_words(200), time_words(9000)
    ('about 3 s', 'about 50 s', 'about 3 min', 'about 2.5 h')
    """
    if seconds < 20:
        return f"about {max(1, round(seconds))} s"
    if seconds < 90:
        return f"about {10 * round(seconds / 10)} s"
    if seconds < 5400:
        return f"about {round(seconds / 60)} min"
    return f"about {seconds / 3600:.1f} h"
