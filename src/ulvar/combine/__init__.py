"""N aligned arrays to one: mean, median, rejection, weights, in row bands."""

from ulvar.combine.combine import (
    Combined,
    Method,
    Rejection,
    RowSource,
    ScaledRows,
    combine_sources,
    combine_stack,
)
from ulvar.combine.limits import limit_for, suited

__all__ = [
    "Combined",
    "Method",
    "Rejection",
    "RowSource",
    "ScaledRows",
    "combine_sources",
    "combine_stack",
    "limit_for",
    "suited",
]
