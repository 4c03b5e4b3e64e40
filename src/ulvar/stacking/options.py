"""How exposures are stacked: what is made equal, what an exposure counts, which part of the sky is shown."""

from __future__ import annotations

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
