"""Masters and frames still to be taken, in a few words."""

from __future__ import annotations

from ulvar.calibration import Candidate, Shot
from ulvar.desktop.parts.widgets import number
from ulvar.frames import Role


def candidate_words(candidate: Candidate) -> str:
    """Return a candidate in a few words."""
    facts = candidate.facts
    parts = [
        facts.filter if candidate.kind is Role.FLAT else "",
        "" if facts.exposure_s is None else f"{facts.exposure_s:g} s",
    ]
    if facts.gain is not None:
        parts.append(f"gain {facts.gain:g}")
    if facts.sensor_temperature_c is not None:
        parts.append(f"{number(facts.sensor_temperature_c, 0)} °C")
    parts.append(f"× {candidate.count}")
    if facts.start_utc is not None:
        parts.append(facts.start_utc.strftime("%Y-%m-%d"))
    return " ".join(p for p in parts if p)


def shot_words(shot: Shot) -> str:
    """Return a line of the shooting list in a few words."""
    parts = [f"{shot.count} × {shot.kind.word}", shot.filter]
    if shot.exposure_s is not None and shot.kind is not Role.BIAS:
        parts.append(f"{shot.exposure_s:g} s")
    if shot.temperature_c is not None and shot.kind is not Role.FLAT:
        parts.append(f"at {number(shot.temperature_c, 0)} °C")
    if shot.gain is not None:
        parts.append(f"gain {shot.gain:g}")
    return " ".join(p for p in parts if p)
