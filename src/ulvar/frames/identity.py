"""What makes a file that file, and the fingerprints of what is made of it."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from typing import Any

from ulvar import __version__
from ulvar.frames.facts import ExposureFacts


def fingerprint(*parts: Any) -> str:
    """Return 16 hexadecimal digits that stand for inputs, settings and version."""
    text = json.dumps([__version__, *parts], sort_keys=True, default=str)
    return hashlib.sha256(text.encode()).hexdigest()[:16]


# Where a fact came from when it is not from the file: changed, it changes what is made of the file.
GIVEN = ("user",)
KNOWN_OTHERWISE = ("user", "measured")


# What the camera's clock and shutter make of times: no pixel hangs on them.
CLOCK_FACTS = ("clock_s", "row_us")


def identity(facts: ExposureFacts, origins: Sequence[str] = KNOWN_OTHERWISE, *, timed: bool = False) -> list[Any]:
    """Return what makes a file that file: its path, size and time, and the facts that came from elsewhere.

    Gain and read noise that were measured count by default; what does not use them asks for `GIVEN` facts only. Where a camera's clock
    is told to be off counts where what is made is `timed`.
    """
    given = {
        name: str(getattr(facts, name, ""))
        for name, origin in facts.origins.items()
        if origin in origins and (timed or name not in CLOCK_FACTS)
    }
    return [facts.path, facts.size_bytes, facts.mtime_ns, given]
