"""A watched folder: files are taken when they are complete, beside a program that is still writing."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from pathlib import Path

from ulvar.engine import Failed
from ulvar.frames import ExposureFacts, FrameError, find_files, scan_images

# A file that stays as it is for so long and still cannot be read is no exposure [s].
_PATIENCE_S = 20.0


@dataclass
class _Seen:
    size: int
    mtime_ns: int
    since: float


@dataclass
class Arrivals:
    """What arrives in a folder and below it.

    Attributes
    ----------
    folder : Path
    outside : Path
        Nothing in this folder is taken: what is made of the exposures lies there.
    patience_s : float
        A file that has not changed for so long and cannot be read is given up [s].
    clock : callable
        Seconds that only grow.
    """

    folder: Path
    outside: Path
    patience_s: float = _PATIENCE_S
    clock: Callable[[], float] = time.monotonic
    _waiting: dict[str, _Seen] = field(default_factory=dict)
    _taken: set[str] = field(default_factory=set)

    def poll(self) -> tuple[list[ExposureFacts], list[Failed]]:
        """Return exposures that are complete since the last call, the oldest first, and files that were given up.

        A file is complete when it has not changed between two calls and can be read to the end that its header tells.

        Raises
        ------
        FileNotFoundError
            If the folder is gone.
        """
        found, _ = find_files([self.folder])
        outside = f"{self.outside.resolve()}/"
        now = self.clock()
        ready: list[tuple[int, str, list[ExposureFacts]]] = []
        failed: list[Failed] = []
        for path in found:
            if path in self._taken or str(Path(path).resolve()).startswith(outside):
                continue
            try:
                status = Path(path).stat()
            except OSError:
                # It was renamed or taken away: a program that writes under another name first.
                self._waiting.pop(path, None)
                continue
            before = self._waiting.get(path)
            if before is None or (before.size, before.mtime_ns) != (status.st_size, status.st_mtime_ns):
                self._waiting[path] = _Seen(status.st_size, status.st_mtime_ns, now)
                continue
            try:
                facts = scan_images(path)
            except FrameError as error:
                if now - before.since >= self.patience_s:
                    failed.append(Failed(error.reason, path))
                    self._done(path)
                continue
            ready.append((status.st_mtime_ns, path, facts))
            self._done(path)
        return [facts for _, _, many in sorted(ready, key=lambda r: r[:2]) for facts in many], failed

    def give_up(self) -> list[Failed]:
        """Return the files that are not complete, with the reason as far as there is one; they are not waited for any more."""
        failed = []
        for path in list(self._waiting):
            try:
                scan_images(path)
                reason = "it had only just changed"
            except FrameError as error:
                reason = error.reason
            failed.append(Failed(reason, path))
            self._done(path)
        return failed

    def know(self, paths: Iterable[str]) -> None:
        """Take no notice of files that were taken before."""
        self._taken.update(paths)

    @property
    def waiting(self) -> int:
        """Files that are not complete yet."""
        return len(self._waiting)

    def _done(self, path: str) -> None:
        self._taken.add(path)
        self._waiting.pop(path, None)
