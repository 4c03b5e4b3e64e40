"""Answers of services that are kept, so that the same question need not be asked twice."""

from __future__ import annotations

import contextlib
import os
import shutil
import time
from pathlib import Path

import platformdirs

from ulvar.astrometry.services import Question
from ulvar.engine import atomic_path
from ulvar.frames import fingerprint

# Answers older than this are asked for anew, and so much is kept at most.
_DAYS, _MOST_BYTES = 30.0, 2 << 30


def _place(question: Question) -> Path:
    key = fingerprint(question.url, sorted((question.form or {}).items()))
    return platformdirs.user_cache_path("ulvar") / "answers" / f"{key}.vot"


def kept_answer(question: Question) -> Path | None:
    """Return the answer to a question that was asked within a month; None where there is none."""
    path = _place(question)
    try:
        return path if time.time() - path.stat().st_mtime < _DAYS * 86400 else None
    except OSError:
        return None


def keep_answer(question: Question, answer: Path) -> None:
    """Keep an answer; the oldest go where there are too many. What cannot be kept is not."""
    path = _place(question)
    with contextlib.suppress(OSError):
        path.parent.mkdir(parents=True, exist_ok=True)
        with atomic_path(path, replace=True) as temporary:
            shutil.copyfile(answer, temporary)
        kept = [(entry.stat(), entry.path) for entry in os.scandir(path.parent) if entry.name.endswith(".vot")]
        total = sum(status.st_size for status, _ in kept)
        for status, old in sorted(kept, key=lambda one: one[0].st_mtime):
            if total <= _MOST_BYTES:
                break
            Path(old).unlink(missing_ok=True)
            total -= status.st_size
