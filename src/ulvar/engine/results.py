"""Failures as values, and findings: what a room noticed, told to whoever asked."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import IntEnum
from typing import Any


@dataclass(frozen=True)
class Failed:
    """One item's failure: falsy, with the reason in plain words, and a code where the kind of failure matters."""

    reason: str
    file: str = ""
    code: str = ""

    def __bool__(self) -> bool:
        return False


class Severity(IntEnum):
    """How serious a finding is; the order is the order of display."""

    BLOCKS = 0
    CHECK = 1
    NOTE = 2

    @property
    def word(self) -> str:
        """The lower-case word used in files and on the command line."""
        return self.name.lower()


@dataclass(frozen=True)
class Mend:
    """An offer to put a finding right: what the button says, and what it does to which files."""

    label: str
    action: str
    files: tuple[str, ...] = ()

    @classmethod
    def leave_out(cls, files: Iterable[str]) -> Mend:
        """Return the offer to leave exposures out; the button says how many."""
        paths = tuple(files)
        return cls(f"Leave out {len(paths)}", "leave_out", paths)


@dataclass(frozen=True)
class Finding:
    """Something noticed: how serious, what, the evidence, the frames, and a mend where one exists.

    Attributes
    ----------
    severity : Severity
    code : str
        Stable lower-case identifier, such as ``truncated`` or ``dark_temperature``.
    title : str
        A few words.
    text : str
        One sentence with the number in it.
    files : tuple of str
        The frames it speaks of.
    evidence : dict
        Numbers behind it; ``series`` holds a short list of numbers worth a small plot.
    mend : Mend or None
    station : str
        The station whose work raised it.
    """

    severity: Severity
    code: str
    title: str
    text: str
    files: tuple[str, ...] = ()
    evidence: dict[str, Any] = field(default_factory=dict)
    mend: Mend | None = None
    station: str = "intake"

    def as_json(self) -> dict[str, Any]:
        """Return the finding as the command line's JSON has it."""
        return {
            "severity": self.severity.word,
            "code": self.code,
            "title": self.title,
            "text": self.text,
            "files": list(self.files),
        }


def sort_findings(findings: Iterable[Finding]) -> list[Finding]:
    """Return findings most serious first, keeping the given order within a severity."""
    return sorted(findings, key=lambda finding: finding.severity)


def counted(count: int, word: str) -> str:
    """Return a count with its word, in the plural unless it is one."""
    return f"{count} {word}" if count == 1 else f"{count} {word}s"
