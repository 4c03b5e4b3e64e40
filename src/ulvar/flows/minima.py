"""Minima of many nights: each night timed by itself."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from ulvar.engine import Failed
from ulvar.flows.curve import CurveOptions, CurvePart, CurveResult, make_curve
from ulvar.frames import write_table

# A dip is one that is deeper than so many of its errors, with points on both sides of its middle.
_SURE = 5.0
MINIMA_COLUMNS = (
    ("time", "d", 7, "middle of the minimum, by the fitted shape: BJD, TDB"), ("error", "d", 7, "its standard error"),
    ("folded", "d", 7, "by folding the curve on itself; empty where that is not possible"), ("folded_error", "d", 7, "its standard error"),
    ("depth", "mag", 5, ""), ("depth_error", "mag", 5, ""), ("duration", "d", 6, "first to last contact"),
    ("points", "", 0, "of the night that count"), ("session", "", None, "night and filter"),
)  # fmt: skip


@dataclass(frozen=True)
class NightMinimum:
    """A minimum of one night and filter.

    Attributes
    ----------
    name : str
        Of the session.
    time, error : float
        By the fitted shape [d].
    folded, folded_error : float
        By folding [d]; NaN where that is not possible.
    depth_mag, depth_error_mag, duration_d : float
    points : int
    """

    name: str
    time: float
    error: float
    folded: float
    folded_error: float
    depth_mag: float
    depth_error_mag: float
    duration_d: float
    points: int


def time_minima(parts: Sequence[CurvePart], options: CurveOptions) -> tuple[list[NightMinimum], list[tuple[str, str]]]:
    """Time the minimum of each night and filter by itself.

    Parameters
    ----------
    parts : sequence of CurvePart
    options : CurveOptions
        Its model is one with a middle: ``eclipse`` or ``transit``.

    Returns
    -------
    list of NightMinimum, in the order of time, and (session, why there is none).

    Raises
    ------
    ValueError
        For another model, or as `make_curve`.
    """
    if options.model not in ("eclipse", "transit"):
        raise ValueError(f"a {options.model} has no middle to time: eclipse or transit")
    plain = replace(options, period=None, sample=False)
    found, missing = [], []
    for part in parts:
        made = make_curve([part], plain)
        timed = made.reason if isinstance(made, Failed) else _timed(part.name, made)
        if isinstance(timed, str):
            missing.append((part.name, timed))
        else:
            found.append(timed)
    return sorted(found, key=lambda one: one.time), missing


def _timed(name: str, made: CurveResult) -> NightMinimum | str:
    """Return the minimum of a fitted curve, or why there is none."""
    fit = made.fit
    if fit is None or "mid" not in fit.values:
        return "; ".join(made.notes) or "nothing could be fitted"
    values, errors = fit.values, fit.errors
    mid, depth, length = values["mid"], values["depth_mag"], values["duration_d"]
    good = made.curve.good
    time = made.curve.time[good]
    if not depth > _SURE * errors["depth_mag"]:
        return "no dip stands out of the scatter"
    inside = np.abs(time - mid) < length / 2
    if not (inside & (time < mid)).any() or not (inside & (time > mid)).any():
        return "its minimum is seen from one side only"
    if not (math.isfinite(errors["mid"]) and 0 < errors["mid"] < length / 2):
        return "its middle cannot be told from these points"
    folded = made.minimum
    return NightMinimum(
        name, mid, errors["mid"], folded.time if folded else math.nan, folded.error if folded else math.nan, depth,
        errors["depth_mag"], length, int(good.sum()),
    )  # fmt: skip


def write_minima(path: Path, minima: Sequence[NightMinimum], *, replace: bool = False) -> None:
    """Write minima with the columns of `MINIMA_COLUMNS`, atomically, in the format that the name's ending says.

    Raises
    ------
    OutputExists
        If `path` exists and may not be replaced.
    ValueError
        If the ending is none of a table.
    """
    names = ("time", "error", "folded", "folded_error", "depth_mag", "depth_error_mag", "duration_d", "points", "name")
    cells = {column[0]: [getattr(one, name) for one in minima] for column, name in zip(MINIMA_COLUMNS, names)}
    write_table(path, MINIMA_COLUMNS, cells, about={"time": "BJD, TDB", "folded": "BJD, TDB"}, replace=replace)
