"""ulvar open."""

from __future__ import annotations

import signal
from pathlib import Path
from typing import Annotated

import typer


def open_window(path: Path | None) -> None:
    """Open the window, and end with its exit code."""
    from ulvar.desktop.app import run_window

    # Qt's loop would not let a command's way of ending through; workers end with the window's process anyway.
    for way in (signal.SIGTERM, signal.SIGINT):
        signal.signal(way, signal.SIG_DFL)
    raise typer.Exit(run_window(path))


def open_night(
    night: Annotated[
        Path | None, typer.Argument(metavar="[NIGHT]", help="A night, or a folder of raw exposures.")
    ] = None,
) -> None:
    """Open the window, on a night or a folder of exposures if one is named."""
    if night is not None and not night.exists():
        from ulvar.cli.common import fail_usage

        fail_usage(f"{night}: there is no such folder")
    open_window(night)
