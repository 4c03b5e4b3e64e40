"""What every flow needs: outcomes of items, and products that are there already."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from ulvar.engine import Failed, write_text
from ulvar.frames import ExposureFacts, FrameError, header_of

if TYPE_CHECKING:
    from ulvar.stars import PairFit, StarFit


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


class _OfExposure(Protocol):
    @property
    def facts(self) -> ExposureFacts:
        """The exposure that a task is about."""
        ...


def failed_task(task: _OfExposure, reason: str) -> Failed:
    """Return the failure of a task about one exposure."""
    return Failed(reason, task.facts.path)


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


def fit_flags(fit: PairFit | StarFit, outlier: bool) -> str:
    """Return what a table's reader must know of a fit, as words joined by ``|``."""
    words = [("saturated", fit.saturated), ("own_shape", not fit.own_profile), ("outlier", outlier)]
    return "|".join(word for word, there in words if there)
