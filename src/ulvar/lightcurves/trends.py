"""Which trends the points of a light curve ask for."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from ulvar.engine import F64Array, Failed
from ulvar.lightcurves.joint import JointFit, fit_jointly
from ulvar.lightcurves.shapes import Shape

# A trend is taken when the criterion gains more than this by it.
_GAIN = 2.0


@dataclass(frozen=True)
class TrendChoice:
    """What a criterion says of a set of trends: how much lower it is than without any, and the scatter."""

    names: tuple[str, ...]
    gain: float
    rms_mag: float


def choose_trends(
    time: F64Array, magnitude: F64Array, error: F64Array, shape: Shape, companions: Mapping[str, F64Array],
    sessions: Sequence[str] | None = None,
) -> tuple[tuple[str, ...], list[TrendChoice]] | Failed:  # fmt: skip
    """Propose the companions whose linear terms the points ask for.

    One is added after the other, the one first that lowers Schwarz's criterion most, model and terms fitted together each time; then
    any that is not needed any more is dropped.

    Parameters
    ----------
    time, magnitude, error, shape, sessions
        As `fit_jointly`.
    companions : mapping of str to float64 array, shape (n,)

    Returns
    -------
    (names, tried), or Failed as `fit_jointly`
        What is proposed, and all sets that were tried, the best first.
    """
    plain = fit_jointly(time, magnitude, error, shape, sessions=sessions, noise=False)
    if isinstance(plain, Failed):
        return plain
    tried: dict[tuple[str, ...], JointFit] = {(): plain}

    def bic(names: tuple[str, ...]) -> float:
        key = tuple(sorted(names))
        if key not in tried:
            made = fit_jointly(
                time, magnitude, error, shape, trends={name: companions[name] for name in key}, sessions=sessions,
                start=plain.parameters, noise=False,
            )  # fmt: skip
            tried[key] = replace(plain, bic=math.inf) if isinstance(made, Failed) else made
        return tried[key].bic

    chosen: tuple[str, ...] = ()
    while left := [name for name in companions if name not in chosen]:
        best = min(left, key=lambda name: bic((*chosen, name)))
        if bic((*chosen, best)) > bic(chosen) - _GAIN:
            break
        chosen = (*chosen, best)
    while len(chosen) > 1:
        without = min((tuple(n for n in chosen if n != name) for name in chosen), key=bic)
        if bic(without) > bic(chosen) + _GAIN:
            break
        chosen = without
    order = sorted(tried, key=lambda names: tried[names].bic)
    return chosen, [TrendChoice(names, plain.bic - tried[names].bic, tried[names].rms_mag) for names in order]
