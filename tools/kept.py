"""Loads the routines that were compiled before, for the processes that are forked from the one that imports it.

Each would load them anew, about 10 ms of a processor for one; what was not compiled yet is left to those that need it.
"""

from __future__ import annotations

import importlib
from pathlib import Path

from numba.core.registry import CPUDispatcher

_SOURCE = Path(__file__).resolve().parent.parent / "src"


def _load(routine: CPUDispatcher) -> None:
    kept = routine._cache
    codegen = routine.targetctx.codegen()
    for key in kept._cache_file._load_index():
        # Kept for this source and this processor: anything else would be compiled.
        if key == kept._index_key(key[0], codegen):
            routine.compile(key[0])


for path in sorted(_SOURCE.rglob("_kernels*.py")):
    module = importlib.import_module(".".join(path.relative_to(_SOURCE).with_suffix("").parts))
    for name in sorted(vars(module)):
        found = vars(module)[name]
        if isinstance(found, CPUDispatcher) and found.py_func.__module__ == module.__name__:
            _load(found)
