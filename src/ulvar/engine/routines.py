"""Loads what numba asks for before its first routine, about 0.3 s of a processor.

Imported by the process that workers are forked from: otherwise each of them would do so again.
"""

from __future__ import annotations

from numba.core.registry import cpu_target

cpu_target.typing_context.refresh()
cpu_target.target_context.refresh()
