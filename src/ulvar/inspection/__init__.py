"""Judgements that need several rooms: role against pixels, bit depth, settings, clouds, focus, comparison stars."""

from ulvar.inspection.closeup import RegionStatistics, StarCloseUp, look_at_star, region_statistics
from ulvar.inspection.comparisons import comparison_findings
from ulvar.inspection.depth import Ceiling, camera_key, depth_findings, find_ceilings, with_ceilings
from ulvar.inspection.facts import intake_findings, match_findings
from ulvar.inspection.findings import CODES, OF_A_SERIES, Code, Finding, Mend, Severity, notice, sort_findings
from ulvar.inspection.flatcheck import FlatCheck, check_flat, flat_findings
from ulvar.inspection.pixels import PixelLook, look_at, look_band
from ulvar.inspection.roles import role_findings, zero_levels
from ulvar.inspection.series import ExposureSummary, series_findings

__all__ = [
    "CODES",
    "OF_A_SERIES",
    "Ceiling",
    "Code",
    "ExposureSummary",
    "Finding",
    "FlatCheck",
    "Mend",
    "PixelLook",
    "RegionStatistics",
    "Severity",
    "StarCloseUp",
    "camera_key",
    "check_flat",
    "comparison_findings",
    "depth_findings",
    "find_ceilings",
    "flat_findings",
    "intake_findings",
    "look_at",
    "look_at_star",
    "look_band",
    "match_findings",
    "notice",
    "region_statistics",
    "role_findings",
    "series_findings",
    "sort_findings",
    "with_ceilings",
    "zero_levels",
]
