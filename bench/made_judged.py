"""Made-up nights of judged exposures: what star finding tells of each, without the pixels."""

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np

from ulvar.inspection import ExposureSummary

COUNT = 200


def clean_night(seed: int) -> list[ExposureSummary]:
    """Return a night without trouble: correlated seeing, extinction, a field that wanders a little."""
    rng = np.random.default_rng(seed)
    start = datetime(2027, 2, 11, 18, tzinfo=UTC)
    # The field culminates at a time of the night that differs from night to night.
    hours = np.arange(COUNT) * 150 / 3600
    hour_angle = np.radians(15 * (hours - rng.uniform(1, 7)))
    sine = np.sin(np.radians(50)) * np.sin(np.radians(40)) + np.cos(np.radians(50)) * np.cos(np.radians(40)) * np.cos(
        hour_angle
    )
    airmass = 1 / np.maximum(sine, 0.3)
    seeing = np.zeros(COUNT)
    for i in range(1, COUNT):
        seeing[i] = 0.9 * seeing[i - 1] + 0.02 * rng.standard_normal()
    fwhm = 2.8 * np.exp(seeing) * airmass**0.6 * (1 + 0.02 * rng.standard_normal(COUNT))
    extinction = 10 ** (-0.4 * rng.uniform(0.1, 0.3) * (airmass - 1))
    transparency = extinction * (1 + 0.008 * rng.standard_normal(COUNT))
    wander = np.cumsum(rng.normal(0, 0.4, (COUNT, 2)), axis=0) + rng.normal(0, 0.5, (COUNT, 2))
    return [
        ExposureSummary(
            f"f{i:03d}.fits", start + timedelta(seconds=150 * i), float(fwhm[i]), float(abs(0.04 + 0.015 * rng.standard_normal())),
            float(110 * airmass[i] ** 0.5 + rng.standard_normal()), float(transparency[i] / transparency.max()),
            (float(wander[i, 0]), float(wander[i, 1])), 0.0, float(0.003 + 0.0003 * rng.standard_normal()), 0,
            float(airmass[i]), -40.0,
        )
        for i in range(COUNT)
    ]  # fmt: skip


def planted(night: list[ExposureSummary], span: range, **changes) -> list[ExposureSummary]:  # type: ignore[no-untyped-def]
    """Return the night with numbers of a span changed by functions of (old value, place within the span)."""
    result = list(night)
    for k, i in enumerate(span):
        result[i] = replace(result[i], **{n: f(getattr(result[i], n), k) for n, f in changes.items()})
    return result
