"""Stacks as results of their own: each is kept with what it was made by, and none is written over by another."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from ulvar.flows import Series
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.stations.shared import series_file

# Settings whose choice made a result what it is, in the order that they are told.
_TOLD = (
    "method", "low", "high", "normalise", "weights", "framing", "scale", "north_up", "turn_deg", "part", "kernel", "colours",
)  # fmt: skip


def results_of(night: Night, series: str) -> list[Product]:
    """Return the stacks of a series that are there, the newest first."""
    found = night.products_of("result", series).values()
    return sorted(found, key=lambda p: str(p.values.get("made_utc", "")), reverse=True)


def result_file(night: Night, series: Series, stamp: str) -> Path:
    """Return where a stack goes: where one of the same exposures and settings lies, or where nothing does yet."""
    for result in results_of(night, series.key):
        if result.values.get("print") == stamp:
            return Path(result.output)
    first = series_file(night, series, "stack.fits")
    known = {result.output for result in night.products_of("result", series.key).values()}
    number = 1
    while True:
        path = first if number == 1 else first.with_name(f"{first.stem}-{number}.fits")
        # A stack of before there were results is none of them: it is the one that is made anew.
        if str(path) not in known and (number == 1 or not path.exists()):
            return path
        number += 1


def remember_result(night: Night, series: Series, stack: Product, stamp: str) -> None:
    """Store a stack among the results of its series; one made again keeps its name.

    Parameters
    ----------
    night : Night
    series : Series
    stack : Product
        As it is stored for the series.
    stamp : str
        Fingerprint of exposures and settings.
    """
    known = night.products_of("result", series.key)
    before = next((p for p in known.values() if p.output == stack.output), None)
    name = before.values["name"] if before is not None else f"Stack {len(known) + 1}"
    known_depth: dict[str, Any] = (
        {} if before is None else {n: before.values[n] for n in ("band", "limit_mag") if n in before.values}
    )
    chosen = night.settings.combine.model_dump(mode="json")
    values: dict[str, Any] = {
        "name": name, "print": stamp, "made_utc": datetime.now(UTC).isoformat(timespec="microseconds"),
        "settings": {key: chosen[key] for key in _TOLD},
        **{key: stack.values.get(key) for key in ("count", "noise_adu", "fwhm_px", "faintest_adu", "width", "height", "snr_gain")},
        # The same exposures and settings make the same pixels.
        **(known_depth if before is not None and before.values.get("print") == stamp else {}),
    }  # fmt: skip
    night.store_products("result", [Product("result", stack.output, stack.output, values)], series=series.key)


def remember_depth(night: Night, series: Series, output: str, depth: Mapping[str, Any]) -> None:
    """Store how deep a result is, once its place on the sky is known; nothing takes away what was known."""
    result = night.products_of("result", series.key).get(output)
    if result is not None and depth:
        values = {**result.values, **{name: depth[name] for name in ("band", "limit_mag")}}
        night.store_products("result", [Product("result", output, output, values)], series=series.key)


def name_result(night: Night, series: str, output: str, name: str) -> str:
    """Give a result another name; returns the one that it had.

    Raises
    ------
    KeyError
        If there is no such result.
    """
    result = night.products_of("result", series)[output]
    before = str(result.values["name"])
    values = {**result.values, "name": name.strip() or before}
    night.store_products("result", [Product("result", output, output, values)], series=series)
    return before


def differing(newer: Mapping[str, Any], older: Mapping[str, Any]) -> list[str]:
    """Return the names of settings in which two results differ."""
    return [key for key in _TOLD if newer.get(key) != older.get(key)]
