"""Registration, normalisation, weights and combination of exposures."""

from ulvar.stacking.framing import Framing, frame_exposures
from ulvar.stacking.stack import Normalise, Stacked, StackInput, Weighting, normalisation, stack_weights, stack_warped

__all__ = [
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
