"""How pixels of one position become one value: the method and its limits."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Method(StrEnum):
    """How pixels of one position become one value."""

    MEAN = "mean"
    MEDIAN = "median"
    SIGMA = "sigma"
    WINSORIZED = "winsorized"
    MAD = "mad"
    LINEAR = "linear"


@dataclass(frozen=True)
class Rejection:
    """A method and its limits in units of the spread (of the mean deviation for ``linear``).

    A limit that is None is found for the count of frames, so that `lost` good values a pixel are lost (see
    `ulvar.combine.suited`). With `few` two and three values are judged too, by the spread of the pixels around: right for calibration
    frames, whose noise is alike over the frame, and wrong for stars. With a `slack` a value is no outlier that lies within so
    many times the contrast of neighbouring pixels of those that were kept: seeing that varies moves values near stars further
    than noise, and rejecting them there alone would change the stars' light.
    """

    method: Method = Method.SIGMA
    low: float | None = 4.0
    high: float | None = 4.0
    few: bool = False
    lost: float = 0.01
    slack: float = 0.0

    def __post_init__(self) -> None:
        if any(limit is not None and limit <= 0 for limit in (self.low, self.high)):
            raise ValueError("rejection limits must be above 0")
        if self.slack < 0:
            raise ValueError("the slack of a rejection is not below 0")
        if not 0 < self.lost < 1:
            raise ValueError("the number of good values lost lies between 0 and 1")
