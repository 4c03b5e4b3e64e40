"""Failures as values, counts and signs in words."""

from __future__ import annotations

import re
from dataclasses import dataclass

# A hyphen before a number, not within a name or a date; that of a power of ten.
_SIGN = re.compile(r"(?<!\w)-(?=\.?\d|inf)|(?<=\de)-(?=\d)")


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


def told_chi2(value: float) -> str:
    """Return a reduced chi-squared in words: two decimals, three where it is small, and what it is under where points lie on the model.

    Examples
    --------
    >>> told_chi2(1.2345), told_chi2(0.0023), told_chi2(6e-29)
    ('1.23', '0.002', 'under 0.001')
    """
    if value < 0.0005:
        return "under 0.001"
    return f"{value:.3f}" if value < 0.005 else f"{value:.2f}"


def true_minus(text: str) -> str:
    """Return a text whose negative numbers have the sign of a minus; names and dates keep their hyphens.

    Examples
    --------
    >>> true_minus("UM-17 at -10.5 °C on 2026-03-14"), true_minus("2e-09")
    ('UM-17 at −10.5 °C on 2026-03-14', '2e−09')
    """
    return _SIGN.sub("−", text)
