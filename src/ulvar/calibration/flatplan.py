"""From a test flat or a few to the exposure that gives the wanted level."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.engine import Failed

# Shutters and lamps that flicker want more than this.
_SHORT_S = 0.3


@dataclass(frozen=True)
class FlatPlan:
    """What to set for flats through one filter.

    Attributes
    ----------
    exposure_s : float
        Exposure that gives the wanted level with the light of the test [s].
    level_factor : float
        What the light would have to be multiplied with to reach the level at the test's own exposure.
    wanted_adu : float
        The level aimed at, level without light included [ADU].
    rate_adu_s : float
        [ADU/s] of the test.
    warnings : tuple of str
    """

    exposure_s: float
    level_factor: float
    wanted_adu: float
    rate_adu_s: float
    warnings: tuple[str, ...] = ()


def plan_flat(
    tests: Sequence[tuple[float, float]],
    *,
    zero_adu: float,
    full_adu: float,
    fraction: float = 0.5,
) -> FlatPlan | Failed:
    """Return the exposure for flats.

    Parameters
    ----------
    tests : sequence of (exposure s, level ADU)
        One or more test flats through one filter, with the same light.
    zero_adu : float
        Level without light [ADU].
    full_adu : float
        The true full range [ADU]: 4095 for a camera of 12 bits, whatever the file holds.
    fraction : float
        Wanted level as a part of the full range.

    Returns
    -------
    FlatPlan, or Failed when no test can be used.

    Raises
    ------
    ValueError
        If the fraction is not between 0 and 1.
    """
    if not 0 < fraction < 1:
        raise ValueError("the wanted level is a fraction between 0 and 1")
    if full_adu <= zero_adu:
        # Both come from headers and files.
        return Failed(f"the full range of {full_adu:.6g} ADU lies below the {zero_adu:.6g} ADU without light")
    good = [(t, v) for t, v in tests if t > 0 and zero_adu + 0.005 * full_adu < v < 0.95 * full_adu]
    if not good:
        if any(v >= 0.95 * full_adu for _, v in tests):
            return Failed("every test is saturated: take one ten times shorter")
        return Failed("no test saw light: take one ten times longer")
    times = np.array([t for t, _ in good])
    signal = np.array([v - zero_adu for _, v in good])
    rates = signal / times
    wanted = fraction * full_adu
    # The test nearest the wanted level says most about the level there.
    nearest = int(np.argmin(np.abs(signal + zero_adu - wanted)))
    rate = float(rates[nearest])
    exposure = (wanted - zero_adu) / rate
    warnings = []
    spread = float(np.ptp(rates) / np.mean(rates)) if len(rates) > 1 else 0.0
    if spread > 0.02:
        warnings.append(
            f"the tests differ by {100 * spread:.0f} % in light per second: the lamp or the sky changes, or the sensor "
            "is not linear"
        )
    if fraction > 0.75:
        warnings.append("above three quarters of the range many sensors are not linear")
    if fraction < 0.2:
        warnings.append("below a fifth of the range many more flats are needed for the same noise")
    if exposure < _SHORT_S:
        warnings.append(
            f"{exposure:.3g} s is short: a shutter leaves its own pattern, a lamp flickers; dim the light "
            f"{_SHORT_S / exposure:.0f} times"
        )
    if exposure > 60:
        warnings.append("over a minute: stars show in sky flats; use more light")
    return FlatPlan(exposure, (wanted - zero_adu) / float(signal[nearest]), wanted, rate, tuple(warnings))
