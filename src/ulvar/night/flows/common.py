"""What every flow needs: fingerprints, outcomes, reading with given facts."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ulvar import __version__
from ulvar.engine import write_text
from ulvar.frames import ExposureFacts, FrameError, header_of


def fingerprint(*parts: Any) -> str:
    """Return 16 hexadecimal digits that stand for inputs, settings and version."""
    text = json.dumps([__version__, *parts], sort_keys=True, default=str)
    return hashlib.sha256(text.encode()).hexdigest()[:16]


# Where a fact came from when it is not from the file: changed, it changes what is made of the file.
GIVEN = ("user",)
KNOWN_OTHERWISE = ("user", "measured")


def identity(facts: ExposureFacts, origins: Sequence[str] = KNOWN_OTHERWISE) -> list[Any]:
    """Return what makes a file that file: its path, size and time, and the facts that came from elsewhere.

    Gain and read noise that were measured count by default; what does not use them asks for `GIVEN` facts only.
    """
    given = {name: str(getattr(facts, name, "")) for name, origin in facts.origins.items() if origin in origins}
    return [facts.path, facts.size_bytes, facts.mtime_ns, given]


def existing_fingerprint(path: Path) -> str | None:
    """Return the fingerprint in a product's header, None when there is no product, empty when it has none."""
    if not path.exists():
        return None
    try:
        return str(header_of(str(path)).get("RECIPEID") or "")
    except FrameError:
        return ""


# A product of another recipe is in the way; the plate was solved before; no master is safe for it.
KEPT, SOLVED_BEFORE, NO_MATCH = "kept", "solved_before", "no_match"


@dataclass(frozen=True)
class Outcome:
    """What became of one item; `code` tells kinds of failure apart where somebody acts on them (`KEPT` and its like)."""

    file: str
    ok: bool
    reason: str = ""
    output: str = ""
    skipped: bool = False
    code: str = ""
    values: Mapping[str, Any] = field(default_factory=dict)


def may_write(path: Path, wanted: str, replace: bool) -> Outcome | None:
    """Return an outcome when a product must not be written: it is there already, or another one is."""
    have = existing_fingerprint(path)
    if have is None or replace:
        return None
    if have == wanted:
        return Outcome(str(path), True, "it exists with the same recipe", str(path), skipped=True)
    return Outcome(str(path), False, f"{path.name} exists and was made otherwise; it is kept", str(path), code=KEPT)


def done_before(path: Path, wanted: str, replace: bool) -> Outcome | None:
    """As `may_write`, but a product of the same recipe counts as done even where others are replaced."""
    there = may_write(path, wanted, False)
    return None if there is not None and not there.ok and replace else there


def write_same_text(path: Path, text: str, replace: bool) -> Outcome:
    """Write a text table unless it exists; an identical one counts as done, another one is kept."""
    if path.exists() and not replace:
        if path.read_text(encoding="utf-8") == text:
            return Outcome(str(path), True, "it exists with the same recipe", str(path), skipped=True)
        return Outcome(str(path), False, f"{path.name} exists and differs; it is kept", str(path), code=KEPT)
    write_text(path, text)
    return Outcome(str(path), True, "", str(path))
