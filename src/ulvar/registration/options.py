"""How an exposure is resampled."""

from __future__ import annotations

from enum import StrEnum


class Kernel(StrEnum):
    """What a pixel of the target is made of."""

    LANCZOS3 = "lanczos3"
    LANCZOS4 = "lanczos4"
    BICUBIC = "bicubic"
    BILINEAR = "bilinear"
    NEAREST = "nearest"
