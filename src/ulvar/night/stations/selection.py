"""Qualities of a night's exposures, and which of them the rules keep."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from ulvar.flows import Series
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.settings import NightSettings
from ulvar.night.stations.plate import solutions
from ulvar.night.stations.shared import number_of
from ulvar.stacking import Rule
from ulvar.stars import BLENDS, blend_scores

QualityRow = dict[str, float | None]


def quality_rows(
    night: Night,
    series: Series | None = None,
    settings: NightSettings | None = None,
    scores: dict[str, Product] | None = None,
) -> dict[str, QualityRow]:
    """Return raw path to every quality of each scored exposure, with scores by the night's blend.

    Parameters
    ----------
    night : Night
    series : Series, optional
        By default the exposures of all series.
    settings : NightSettings, optional
        Others than the night's own, to see what they would do.
    scores : dict, optional
        The night's scores where they are read already.
    """
    scores = night.products_of("score", series.key if series else None) if scores is None else scores
    if not scores:
        return {}
    chosen = settings or night.settings
    plates = solutions(night)
    facts = {f.path: f for f in night.exposures}
    rows: dict[str, QualityRow] = {}
    for raw, product in scores.items():
        values = product.values
        row: QualityRow = {k: v for k, v in values.items() if v is None or isinstance(v, (int, float))}
        exposure = facts.get(raw)
        scale = plates[raw].scale_arcsec_px if raw in plates else exposure.scale_arcsec_px if exposure else None
        fwhm, noise, expected = (number_of(values.get(k)) for k in ("fwhm_px", "noise_adu", "expected_noise_adu"))
        row["fwhm_arcsec"] = _finite(fwhm * scale) if scale else None
        row["noise_ratio"] = _finite(noise / expected) if expected > 0 else None
        row["shift_px"] = None
        if values["matrix"] is not None and exposure is not None:
            row["shift_px"] = float(np.hypot(*field_shift(values["matrix"], exposure.width, exposure.height)))
        rows[raw] = row
    for group in _comparable(scores, facts):
        columns = {key: [rows[raw].get(key) for raw in group] for key in BLENDS}
        for raw, score in zip(group, blend_scores(columns, chosen.combine.blend)):
            rows[raw]["score"] = float(score)
    return rows


def _finite(value: float) -> float | None:
    return value if math.isfinite(value) else None


def _comparable(scores: dict[str, Product], facts: dict[str, Any]) -> list[list[str]]:
    """Split exposures into those of one series and exposure time, which alone can be compared."""
    groups: dict[tuple, list[str]] = {}
    for raw, product in scores.items():
        seconds = facts[raw].exposure_s if raw in facts else None
        groups.setdefault((product.series, product.values["filter"], seconds), []).append(raw)
    return list(groups.values())


def field_shift(matrix: Any, width: int, height: int) -> tuple[float, float]:
    """Return how far an alignment moves the middle of the frame along x and y [px]; a flip by itself is no shift."""
    m = np.asarray(matrix, dtype=np.float64)
    middle = np.array([(width - 1) / 2, (height - 1) / 2])
    moved = m[:, :2] @ middle + m[:, 2] - middle
    return float(moved[0]), float(moved[1])


def night_rules(settings: NightSettings) -> list[Rule]:
    """Return the night's rules."""
    return [rule.rule for rule in settings.combine.rules]


def ruled_out(settings: NightSettings, row: QualityRow, product: Product) -> str:
    """Return the first rule that keeps an exposure from the stack, in words, or an empty text."""
    if product.values["matrix"] is None:
        return "not aligned"
    return next((rule.why(row) for rule in night_rules(settings) if rule.takes(row)), "")


def stack_candidates(
    night: Night,
    series: Series,
    settings: NightSettings | None = None,
    rows: dict[str, QualityRow] | None = None,
    scores: dict[str, Product] | None = None,
) -> tuple[dict[str, Product], dict[str, str]]:
    """Return (raw path to score of the exposures to stack, raw path to why of those ruled out).

    `rows` and `scores` are the exposures' qualities and scores where they are known already.
    """
    scores = night.products_of("score", series.key) if scores is None else scores
    chosen = settings or night.settings
    out = night.left_out
    rows = quality_rows(night, series, chosen, scores) if rows is None else rows
    keep, ruled = {}, {}
    for raw, product in scores.items():
        if product.series != series.key or raw in out:
            continue
        why = ruled_out(chosen, rows[raw], product)
        if why:
            ruled[raw] = why
        else:
            keep[raw] = product
    return keep, ruled
