"""Exposures in the night's file: stored as they were scanned, given back with what is known from elsewhere."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from ulvar.engine import Failed
from ulvar.flows import CameraNumbers
from ulvar.frames import (
    CLOCK_FACTS,
    ExposureFacts,
    Role,
    assign_sessions,
    facts_from_text,
    facts_to_text,
    file_of,
    with_user_facts,
)
from ulvar.inspection import camera_key
from ulvar.night.settings import NightSettings
from ulvar.night.store import Store, sealed, unsealed


def stored_exposures(
    store: Store, settings: NightSettings, raw: Sequence[str]
) -> tuple[list[ExposureFacts], list[Failed]]:
    """Return exposures with the user's corrections, sessions and tags, and the files that could not be read."""
    given: dict[str, dict[str, str]] = {}
    for path, name, value in store.rows("SELECT path, name, value FROM corrections"):
        given.setdefault(path, {})[name] = value
    # What is told of the camera holds where nothing is told of the exposure itself.
    of_all = {name: repr(value) for name in CLOCK_FACTS if (value := getattr(settings.intake, name))}
    exposures, failed = [], []
    for path, facts, reason in store.rows("SELECT path, facts, reason FROM exposures ORDER BY position"):
        if facts is None:
            failed.append(Failed(reason, path))
        else:
            exposures.append(with_user_facts(facts_from_text(unsealed(facts)), of_all | given.get(path, {})))
    exposures = assign_sessions(exposures, settings.intake.rules, raw)
    linear = settings.calibrate.linear_adu
    if linear is not None:
        exposures = [
            replace(f, nonlinear_adu=linear, origins={**f.origins, "nonlinear_adu": "user"})
            if "nonlinear_adu" not in given.get(f.path, {})
            else f
            for f in exposures
        ]
    if exposures and all(f.role is Role.UNKNOWN for f in exposures):
        # A folder where nothing says what it is holds lights: who takes calibration frames labels them.
        exposures = [replace(f, role=Role.LIGHT, origins={**f.origins, "role": "guessed"}) for f in exposures]
    return exposures, failed


def with_camera_numbers(
    exposures: Sequence[ExposureFacts], numbers: Mapping[str, CameraNumbers]
) -> list[ExposureFacts]:
    """Return exposures with the gain and read noise that photon transfer measured, each where header and user are silent."""
    result = []
    for facts in exposures:
        known = numbers.get(camera_key(facts))
        if known is not None:
            told = {"gain_e_per_adu": known.gain_e_per_adu, "read_noise_e": known.read_noise_e}
            missing: dict[str, Any] = {name: value for name, value in told.items() if getattr(facts, name) is None}
            facts = replace(facts, origins={**facts.origins, **dict.fromkeys(missing, "measured")}, **missing)
        result.append(facts)
    return result


def replace_exposures(
    store: Store, order: Sequence[str], scanned: Iterable[ExposureFacts], failed: Iterable[Failed]
) -> None:
    """Store the outcome of a scan; files not in `order` are gone and are forgotten."""
    position = {path: i for i, path in enumerate(order)}
    rows: list[tuple[str, int, int, int, str | None, str]] = [
        (f.path, position[file_of(f.path)], f.size_bytes, f.mtime_ns, sealed(facts_to_text(f)), "") for f in scanned
    ]
    for failure in failed:
        try:
            status = Path(failure.file).stat()
            size, mtime = status.st_size, status.st_mtime_ns
        except OSError:
            size = mtime = 0
        rows.append((failure.file, position[failure.file], size, mtime, None, failure.reason))
    renewed = {file_of(row[0]) for row in rows}
    with store.transaction() as connection:
        paths = [path for (path,) in connection.execute("SELECT path FROM exposures")]
        old = [(p,) for p in paths if file_of(p) not in position or file_of(p) in renewed]
        connection.executemany("DELETE FROM exposures WHERE path = ?", old)
        connection.executemany("INSERT OR REPLACE INTO exposures VALUES (?, ?, ?, ?, ?, ?)", rows)
        connection.executemany(
            "UPDATE exposures SET position = ? WHERE path = ?",
            [(position[file_of(p)], p) for p in paths if file_of(p) in position],
        )
