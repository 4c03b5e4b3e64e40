"""Findings about comparison stars."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np

from ulvar.engine import percent
from ulvar.inspection.findings import Finding, Mend, notice
from ulvar.photometry import Ensemble


def comparison_findings(ensemble: Ensemble, effects: Mapping[str, tuple[float, float]] | None = None) -> list[Finding]:
    """Name comparison stars that vary.

    Parameters
    ----------
    ensemble : Ensemble
    effects : mapping of str to (float, float), optional
        Star to the target's scatter from point to point with it and without it [mag].
    """
    found = []
    verdicts = {v.name: v for v in ensemble.verdicts}
    for name in ensemble.suspects:
        k = ensemble.names.index(name)
        curve = ensemble.curves[k]
        good = curve[np.isfinite(curve)]
        half_range = (np.percentile(good, 95) - np.percentile(good, 5)) / 2 if len(good) else math.nan
        ratio = verdicts[name].ratio
        told = f", {ratio:.1f} times what stars like it scatter by" if math.isfinite(ratio) else ""
        before, after = (effects or {}).get(name, (math.nan, math.nan))
        effect = (
            f" Without it the target scatters by {1000 * after:.1f} mmag from point to point, with it by {1000 * before:.1f}."
            if math.isfinite(before) and math.isfinite(after)
            else ""
        )
        found.append(
            notice(
                "comparison_varies",
                f"Star {name} varies",
                f"±{1086 * half_range:.0f} mmag against the other comparisons{told}; its weight is "
                f"{percent(ensemble.weights[k], 1)}.{effect}",
                (),
                {"star": name, "series": [round(float(v), 5) for v in good]},
                Mend.leave_out_star(name),
            )  # fmt: skip
        )
    return found
