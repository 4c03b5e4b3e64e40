"""Failures as values, and counts in words."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Failed:
    """One item's failure: falsy, with the reason in plain words, and a code where the kind of failure matters."""

    reason: str
    file: str = ""
    code: str = ""

    def __bool__(self) -> bool:
        return False


def counted(count: int, word: str, one: str = "", many: str = "") -> str:
    """Return a count with its word, in the plural unless it is one, and with the verb that goes with it.

    Examples
    --------
    >>> counted(1, "light", "has", "have"), counted(3, "light", "has", "have"), counted(2, "file")
    ('1 light has', '3 lights have', '2 files')
    """
    what, verb = (word, one) if count == 1 else (f"{word}s", many)
    return f"{count} {what} {verb}".rstrip()


def percent(share: float, decimals: int = 0) -> str:
    """Return a share as per cent, with a space that no line ends at."""
    return f"{100 * share:.{decimals}f}\u00a0%"
