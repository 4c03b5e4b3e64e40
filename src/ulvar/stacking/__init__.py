"""Registration, normalisation, weights and combination of exposures."""

from ulvar.stacking.framing import Frame2D, Framing, frame_exposures
from ulvar.stacking.selection import QualityRow, Rule, RuleCount, StackOutlook, count_rules, stack_outlook
from ulvar.stacking.stack import (
    STACK_REJECTION,
    Normalise,
    Stacked,
    StackInput,
    Weighting,
    normalisation,
    stack_warped,
    stack_weights,
)

__all__ = [
    "STACK_REJECTION",
    "Frame2D",
    "Framing",
    "Normalise",
    "QualityRow",
    "Rule",
    "RuleCount",
    "StackInput",
    "StackOutlook",
    "Stacked",
    "Weighting",
    "count_rules",
    "frame_exposures",
    "normalisation",
    "stack_outlook",
    "stack_warped",
    "stack_weights",
]
