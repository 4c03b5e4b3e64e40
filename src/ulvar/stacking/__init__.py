"""Registration, normalisation, weights and combination of exposures."""

from ulvar.stacking.framing import Frame2D, Framing, frame_exposures
from ulvar.stacking.stack import (
    Normalise,
    Stacked,
    StackInput,
    Weighting,
    normalisation,
    stack_warped,
    stack_weights,
)

__all__ = [
    "Frame2D",
    "Framing",
    "Normalise",
    "StackInput",
    "Stacked",
    "Weighting",
    "frame_exposures",
    "normalisation",
    "stack_warped",
    "stack_weights",
]
