"""Facts as JSON text, for a night's file and a library's index."""

from __future__ import annotations

import json
from datetime import datetime
from typing import Any

from ulvar.frames.facts import ExposureFacts, Role

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
