"""What stations made: kind, source, file and numbers."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Product:
    """Something made: kind, what it was made from, the file, its numbers, and the series it belongs to (if to one)."""

    kind: str
    source: str
    output: str
    values: dict[str, Any]
    series: str = ""


def plain_value(value: Any) -> Any:
    """Return a value that JSON can hold; what is not finite becomes null."""
    if hasattr(value, "tolist"):
        return value.tolist()
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return str(value)
