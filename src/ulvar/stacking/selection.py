"""Which exposures are in: rules, and what they make of the stack."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.stars import QUALITIES

QualityRow = Mapping[str, float | None]


@dataclass(frozen=True)
class Rule:
    """Keeps exposures from the stack by one quality.

    Attributes
    ----------
    quality : str
        A key of `ulvar.stars.QUALITIES`.
    side : str
        ``over`` or ``under``: on which side of the limit an exposure stays out.
    limit : float
        In the stored unit of the quality.

    Raises
    ------
    ValueError
        For a quality or side that does not exist.
    """

    quality: str
    side: str
    limit: float

    def __post_init__(self) -> None:
        if self.quality not in QUALITIES or self.side not in ("over", "under"):
            raise ValueError(f"there is no rule '{self.quality} {self.side}'")

    def takes(self, row: QualityRow) -> bool:
        """Whether it keeps an exposure out; an exposure without the number stays in."""
        value = row.get(self.quality)
        if value is None or not math.isfinite(value):
            return False
        return value > self.limit if self.side == "over" else value < self.limit

    def why(self, row: QualityRow) -> str:
        """Return the reason in words, such as ``FWHM 4.61 px over 4.2``."""
        q = QUALITIES[self.quality]
        value = (row.get(self.quality) or 0.0) * q.factor
        unit = f"\u00a0{q.unit}" if q.unit and q.unit not in "°″" else q.unit
        return f"{q.title} {value:.{q.decimals}f}{unit} {self.side} {self.limit * q.factor:.{q.decimals}f}"


@dataclass(frozen=True)
class RuleCount:
    """What a rule takes: how many exposures, and how many that no other rule takes."""

    rule: Rule
    takes: int
    alone: int


def count_rules(rules: Sequence[Rule], rows: Collection[QualityRow]) -> list[RuleCount]:
    """Return how many of the exposures each rule takes."""
    hits = np.array([[rule.takes(row) for row in rows] for rule in rules], dtype=bool).reshape(len(rules), len(rows))
    others = hits.sum(axis=0)
    return [RuleCount(rule, int(h.sum()), int((h & (others == 1)).sum())) for rule, h in zip(rules, hits)]


@dataclass(frozen=True)
class StackOutlook:
    """What a stack of exposures will be like.

    Attributes
    ----------
    count : int
    snr : float
        Signal-to-noise ratio of a faint star, in units of that of the best single exposure.
    fwhm_px : float
    """

    count: int
    snr: float
    fwhm_px: float


def stack_outlook(rows: Sequence[QualityRow]) -> StackOutlook:
    """Return what a stack of these exposures will be like, each weighed by its point-source signal-to-noise ratio.

    The ratio of exposure i is s = T / (FWHM x noise); weighed so, ratios add in squares (Zackay & Ofek 2017, ApJ 836,
    187), and the profile of the stack is the weighted mean of the profiles.

    Parameters
    ----------
    rows : sequence of mappings
        With ``transparency``, ``fwhm_px`` and ``noise_adu``; those without them add nothing.
    """

    def column(key: str) -> np.ndarray:
        return np.array([math.nan if (v := row.get(key)) is None else float(v) for row in rows])

    t, fwhm, noise = column("transparency"), column("fwhm_px"), column("noise_adu")
    with np.errstate(divide="ignore", invalid="ignore"):
        s = t / (fwhm * noise)
    good = np.isfinite(s) & (s > 0)
    if not good.any():
        return StackOutlook(len(rows), math.nan, math.nan)
    s, fwhm = s[good], fwhm[good]
    weight = s**2
    return StackOutlook(
        len(rows),
        float(np.sqrt((s**2).sum())) / float(s.max()),
        float(np.sqrt((weight * fwhm**2).sum() / weight.sum())),
    )
