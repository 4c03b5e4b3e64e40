"""How exposures are stacked: what is made equal, what an exposure counts, which part of the sky is shown."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from ulvar.combine import Method, Rejection

# The limits follow from the number of exposures. Half of the contrast covers seeing that varies by a factor of two
# (docs/stacking.md).
STACK_REJECTION = Rejection(Method.SIGMA, None, None, slack=0.5)


class Normalise(StrEnum):
    """What is made equal before pixels are compared."""

    NONE = "none"
    LEVEL = "level"
    SCALE = "scale"
    BOTH = "both"
    LOCAL = "local"


class Weighting(StrEnum):
    """What an exposure counts."""

    EQUAL = "equal"
    NOISE = "noise"
    SNR = "snr"
    FWHM = "fwhm"
    SCORE = "score"


class Framing(StrEnum):
    """Which part of the sky the stack shows."""

    REFERENCE = "reference"
    UNION = "union"
    COMMON = "common"


class Colours(StrEnum):
    """What becomes of the colours of a colour sensor: mixed to grey, or a stack each besides, made in one of these ways."""

    MIXED = "mixed"
    MALVAR = "malvar"
    BILINEAR = "bilinear"
    HALF = "half"


@dataclass(frozen=True)
class GridOptions:
    """How a stack's pixels lie.

    Attributes
    ----------
    framing : Framing
        Which part of the sky is shown.
    scale : float
        Pixels of the stack for one of the reference.
    north_up : bool
        Whether the picture is turned so that north is up and east left; the reference's plate must be solved.
    turn_deg : float
        How far it is turned clockwise, after that [deg].
    part : (int, int, int, int), optional
        First column, first row, width and height of the part of the reference that is shown in the place of the framing.

    Raises
    ------
    ValueError
        For a scale that is not from 0.1 to 8, or a turn of more than 360 degrees.
    """

    framing: Framing = Framing.REFERENCE
    scale: float = 1.0
    north_up: bool = False
    turn_deg: float = 0.0
    part: tuple[int, int, int, int] | None = None

    def __post_init__(self) -> None:
        if not 0.1 <= self.scale <= 8:
            raise ValueError("the scale goes from 0.1 to 8")
        if not -360 <= self.turn_deg <= 360:
            raise ValueError("the turn goes from -360 to 360 degrees")


GRID = GridOptions()
