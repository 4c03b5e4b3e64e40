"""Facts and findings as JSON text for the night's file."""

from __future__ import annotations

import json
from dataclasses import asdict
from datetime import datetime
from typing import Any

from ulvar.engine import Finding, Mend, Severity
from ulvar.frames import ExposureFacts, Role

_TIMES = ("start_utc", "mid_utc")


def facts_to_text(facts: ExposureFacts) -> str:
    """Return facts as JSON; times as ISO text."""
    body = {name: value for name, value in vars(facts).items() if value is not None}
    for name in _TIMES:
        if name in body:
            body[name] = body[name].isoformat()
    body["origins"] = dict(facts.origins)
    return json.dumps(body)


def facts_from_text(text: str) -> ExposureFacts:
    """Return facts from JSON; names of another version are passed over."""
    body: dict[str, Any] = json.loads(text)
    known = {name: body[name] for name in ExposureFacts.__dataclass_fields__ if name in body}
    for name in _TIMES:
        if name in known:
            known[name] = datetime.fromisoformat(known[name])
    if "role" in known:
        known["role"] = Role(known["role"])
    return ExposureFacts(**known)


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
