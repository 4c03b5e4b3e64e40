"""How an exposure is resampled."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Kernel(StrEnum):
    """What a pixel of the target is made of."""

    LANCZOS3 = "lanczos3"
    LANCZOS4 = "lanczos4"
    BICUBIC = "bicubic"
    BILINEAR = "bilinear"
    NEAREST = "nearest"


@dataclass(frozen=True)
class Resampling:
    """How an exposure's pixels become those of another grid.

    Attributes
    ----------
    kernel : Kernel
        Lanczos with 3 or 4 lobes (Duchon 1979, J. Appl. Meteor. 18, 1016), bicubic (Keys 1981, IEEE Trans. ASSP 29,
        1153), bilinear, nearest. All but the last widen where the target's pixels are larger than the data's.
    clamp : bool
        Whether no pixel may be darker than the darkest that it is made of: without it Lanczos and bicubic kernels
        put a dark ring round stars that are sharper than they can follow.
    """

    kernel: Kernel = Kernel.LANCZOS3
    clamp: bool = False


RESAMPLING = Resampling()
