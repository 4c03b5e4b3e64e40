"""Judgements that need several rooms: what does not fit, clouds, focus, jumps, flips, unsteady comparisons."""

from ulvar.inspection.comparisons import comparison_findings
from ulvar.inspection.facts import intake_findings, match_findings
from ulvar.inspection.series import ExposureSummary, series_findings

__all__ = ["ExposureSummary", "comparison_findings", "intake_findings", "match_findings", "series_findings"]
