"""Loads the routines that were compiled before, for the processes that are forked from the one that imports it.

Each would load them anew, about 10 ms of a processor for one; what was not compiled yet is left to those that need it: one of them
compiles it, the others wait and load it.
"""

from __future__ import annotations

import fcntl
import importlib
import tempfile
import time
import zlib
from pathlib import Path
from typing import Any

from numba.core.caching import Cache
from numba.core.registry import CPUDispatcher

_SOURCE = Path(__file__).resolve().parent.parent / "src"
# Nobody waits longer for another [s]: who compiles may have failed, and lives.
_LONGEST = 60.0
# What this process compiles: files that are locked meanwhile, by the routine's.
_own: dict[str, Any] = {}
_load_overload, _save_overload = Cache.load_overload, Cache.save_overload


def _place(name: str) -> Path:
    """Return the file that is locked while a routine is compiled."""
    return Path(tempfile.gettempdir()) / f"ulvar-compiles-{zlib.crc32(name.encode()):08x}"


def _load_or_lock(self: Cache, sig: Any, target: Any) -> Any:
    """Return a compiled routine, once it is there if another process compiles it; None if it is for this one to do."""
    found, name = _load_overload(self, sig, target), self._cache_file._index_path
    if found is not None or name in _own:
        return found
    lock = _place(name).open("ab")
    end = time.monotonic() + _LONGEST
    while time.monotonic() < end:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            time.sleep(0.02)
        else:
            _own[name] = lock
            break
    if (found := _load_overload(self, sig, target)) is not None or name not in _own:
        _own.pop(name, lock).close()
    return found


def _save_and_unlock(self: Cache, sig: Any, compiled: Any) -> None:
    try:
        _save_overload(self, sig, compiled)
    finally:
        if (lock := _own.pop(self._cache_file._index_path, None)) is not None:
            lock.close()


def _load(routine: CPUDispatcher) -> None:
    kept = routine._cache
    codegen = routine.targetctx.codegen()
    for key in kept._cache_file._load_index():
        # Kept for this source and this processor: anything else would be compiled.
        if key == kept._index_key(key[0], codegen):
            routine.compile(key[0])


Cache.load_overload, Cache.save_overload = _load_or_lock, _save_and_unlock
for path in sorted(_SOURCE.rglob("_kernels*.py")):
    module = importlib.import_module(".".join(path.relative_to(_SOURCE).with_suffix("").parts))
    for name in sorted(vars(module)):
        found = vars(module)[name]
        if isinstance(found, CPUDispatcher) and found.py_func.__module__ == module.__name__:
            _load(found)
