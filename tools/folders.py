"""Folders for what is made in passing."""

from __future__ import annotations

import secrets
import tempfile
from pathlib import Path


def made_folder(prefix: str, within: Path | None = None) -> Path:
    """Make a folder, named by chance but as wide as any other: letters would move what stands below a path that wraps."""
    while True:
        folder = (within or Path(tempfile.gettempdir())) / f"{prefix}{secrets.randbelow(10**8):08d}"
        try:
            folder.mkdir(mode=0o700)
        except FileExistsError:
            continue
        return folder
