"""What became of a finding's offer: whether it was taken, and how it is taken back."""

from __future__ import annotations

from collections.abc import Container

from ulvar.engine import counted
from ulvar.inspection import Finding
from ulvar.night import NightSettings


def done_words(finding: Finding, left_out: Container[str], settings: NightSettings) -> str:
    """Return what was done about a finding, in words; empty while its offer stands, or where it has none.

    A finding whose mend corrects facts needs none: it is told anew, and goes.
    """
    mend = finding.mend
    if mend is None or not mend.files:
        return ""
    if mend.action == "leave_out" and all(path in left_out for path in mend.files):
        return f"{counted(len(mend.files), 'exposure')} left out."
    if mend.action == "leave_out_star" and all(name in settings.curve.leave_out for name in mend.files):
        return f"{', '.join(mend.files)} left out of the comparison."
    return ""


def without_stars(leave_out: list[str], finding: Finding) -> list[str]:
    """Return the comparison stars left out when a finding's star is put back."""
    gone = set(finding.mend.files) if finding.mend is not None else set()
    return [name for name in leave_out if name not in gone]
