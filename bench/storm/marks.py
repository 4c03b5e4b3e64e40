"""What half-written files are called, and who is whose child: what is looked for after a command has ended."""

from __future__ import annotations

import os
import re
from pathlib import Path

# Half-written files have names of their own; see ulvar.engine.atomic.
HALF = re.compile(r"\.ulvar-\d+-\d+-")


def halves(work: Path) -> list[str]:
    """Return half-written files and folders of scratch."""
    return [path.name for path in work.rglob(".ulvar-*") if HALF.match(path.name)]


def _stat(process: int) -> list[str]:
    """Return what the system says of a process from its state on; nothing of one that is gone."""
    try:
        return (Path("/proc") / str(process) / "stat").read_text().rpartition(")")[2].split()
    except OSError:
        return []


def members(group: int) -> list[int]:
    """Return the processes of a group that live."""
    found = []
    for place in Path("/proc").iterdir():
        if place.name.isdigit():
            fields = _stat(int(place.name))
            if fields and int(fields[2]) == group and fields[0] not in ("Z", "X"):
                found.append(int(place.name))
    return found


def spent(process: int) -> float:
    """Return the processor time of a process [s]."""
    fields = _stat(process)
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK") if fields else 0.0


def is_worker(process: int) -> bool:
    """Whether a process is one of a pool's: a child of the server from which workers are forked, not the server itself."""
    fields = _stat(process)
    return bool(fields) and _is_server(process) and _is_server(int(fields[1]))


def _is_server(process: int) -> bool:
    # What is forked from the server has its words.
    try:
        return b"forkserver" in Path(f"/proc/{process}/cmdline").read_bytes()
    except OSError:
        return False
