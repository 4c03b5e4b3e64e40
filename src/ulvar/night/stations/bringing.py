"""Exposures of a stack brought together otherwise than by the stars that they were scored with."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace

from ulvar.engine import Failed
from ulvar.flows import Aligned, align_by_sky
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.stations.plate import solutions
from ulvar.registration import Transform


def brought_together(
    night: Night, how: str, keep: Mapping[str, Product], aligned: Sequence[Aligned], best: Aligned
) -> tuple[list[Aligned], list[Failed]]:
    """Return exposures with their ways onto the reference, and those that have none, by their raw paths.

    Parameters
    ----------
    night : Night
    how : str
        ``stars``: as they were scored. ``sky``: by the night's plate solutions. ``none``: not at all.
    keep : mapping of str to Product
        Raw paths of the exposures, in their order.
    aligned : sequence of Aligned
        By their stars.
    best : Aligned
        The reference.
    """
    if how == "none":
        return [replace(a, transform=Transform.identity(), flux_ratio=math.nan) for a in aligned], []
    if how != "sky":
        return list(aligned), []
    raw_of = {a.scored.facts.path: raw for raw, a in zip(keep, aligned)}
    plates = solutions(night)
    known = {path: plates[raw] for path, raw in raw_of.items() if raw in plates}
    done, failed = align_by_sky([a.scored for a in aligned], best.scored, known)
    return done, [replace(f, file=raw_of[f.file]) for f in failed]
