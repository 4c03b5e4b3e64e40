"""Findings about comparison stars."""

from __future__ import annotations

import math

import numpy as np

from ulvar.engine import percent
from ulvar.inspection.findings import Finding, Mend, notice
from ulvar.photometry import Ensemble


def comparison_findings(ensemble: Ensemble) -> list[Finding]:
    """Name comparison stars that vary."""
    found = []
    for name in ensemble.suspects:
        k = ensemble.names.index(name)
        curve = ensemble.curves[k]
        good = curve[np.isfinite(curve)]
        half_range = (np.percentile(good, 95) - np.percentile(good, 5)) / 2 if len(good) else math.nan
        ratio = ensemble.scatter[k] / ensemble.expected[k]
        told = f", {ratio:.1f} times its noise" if math.isfinite(ratio) else ""
        found.append(
            notice(
                "comparison_varies",
                f"Star {name} varies",
                f"±{1086 * half_range:.0f} mmag against the other comparisons{told}; its weight is "
                f"{percent(ensemble.weights[k], 1)}.",
                (),
                {"star": name, "series": [round(float(v), 5) for v in good]},
                Mend.leave_out_star(name),
            )  # fmt: skip
        )
    return found
