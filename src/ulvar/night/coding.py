"""Findings as JSON text for the night's file."""

from __future__ import annotations

import json
from dataclasses import asdict

from ulvar.inspection import Finding, Mend, Severity


def finding_to_text(finding: Finding) -> str:
    """Return a finding as JSON."""
    return json.dumps(asdict(finding), default=float)


def finding_from_text(text: str) -> Finding:
    """Return a finding from JSON."""
    body = json.loads(text)
    mend = body.pop("mend")
    return Finding(
        **{
            **body,
            "severity": Severity(body["severity"]),
            "files": tuple(body["files"]),
            "mend": None if mend is None else Mend(mend["label"], mend["action"], tuple(mend["files"])),
        }
    )
