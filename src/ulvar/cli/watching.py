"""ulvar watch."""

from __future__ import annotations

import signal
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

import typer

from ulvar.cli.common import Facts, Json, Replace, exit_code, fail_usage, given_facts, hint, print_line, running
from ulvar.engine import counted
from ulvar.flows import KEPT, Event, Progressed, Watch

# Nothing else of a terminal's line is needed to see what became of a file.
_WORDS = {
    "added": "added", "not added": "not added", "failed": "cannot be used", "master": "master made", "begun anew": "begun anew",
}  # fmt: skip


def watch(
    folder: Annotated[Path, typer.Argument(metavar="FOLDER", help="Where exposures arrive, also in folders below it.")],
    out: Annotated[
        Path, typer.Option("--out", metavar="DIR", help="Folder of <filter>.fits and .png, masters and calibrated lights.")
    ],
    masters: Annotated[Path | None, typer.Option("--masters", metavar="DIR", help="Folder of masters.")] = None,
    until: Annotated[int | None, typer.Option(metavar="N", help="End when so many exposures are stacked.")] = None,
    idle: Annotated[float | None, typer.Option(metavar="S", help="End when nothing has arrived for so many seconds.")] = None,
    every: Annotated[float, typer.Option(metavar="S", help="Look into the folder every so many seconds.")] = 1.0,
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:  # fmt: skip
    """Stack exposures while they are taken: a watched folder; Ctrl+C ends it and writes what is there."""
    if not folder.is_dir():
        fail_usage(f"{folder}: there is no such folder")
    if masters is not None and not masters.is_dir():
        fail_usage(f"{masters}: there is no such folder")
    if out.resolve() == folder.resolve() or out.resolve() in folder.resolve().parents:
        fail_usage(f"{out}: the results cannot lie where the exposures arrive, or above it")
    if every <= 0 or (idle is not None and idle <= 0) or (until is not None and until < 1):
        fail_usage("--every, --idle and --until are above 0")
    given = given_facts(fact)
    failed = 0
    with running(1) as context, ended_by_hand() as ended:
        watched = Watch(folder, out, context, masters, given=given, replace_existing=replace)
        last = time.monotonic()
        try:
            while not ended:
                for event in watched.step():
                    failed += event.kind in ("not added", "failed")
                    last = time.monotonic()
                    _tell(event, as_json=json)
                    if ended:
                        break
                if until is not None and watched.count >= until:
                    break
                if idle is not None and time.monotonic() - last >= idle:
                    break
                if not ended:
                    time.sleep(every)
            for lost in watched.arrivals.give_up():
                failed += 1
                _tell(Event("failed", lost.file, lost.reason), as_json=json)
        except BaseException:
            watched.close()
            raise
        stacks = watched.finish()
    if json:
        print_line({"event": "end", "stacks": [asdict(s) for s in stacks], "not_added": failed})
    else:
        for one in stacks:
            typer.echo(f"{one.output}: {_stands(one)}")
        if not stacks:
            typer.echo("nothing was stacked")
    raise typer.Exit(exit_code(done=bool(stacks), failed=bool(failed)))


@contextmanager
def ended_by_hand() -> Iterator[list[int]]:
    """Yield a list that the first Ctrl+C puts something into; the next one interrupts as ever."""
    ended: list[int] = []

    def end(number: int, frame: Any) -> None:
        ended.append(number)
        signal.signal(signal.SIGINT, before)

    before = signal.signal(signal.SIGINT, end)
    try:
        yield ended
    finally:
        signal.signal(signal.SIGINT, before)


def _stands(stack: Progressed) -> str:
    noise = f"noise {stack.noise_adu:.2f} ADU" if stack.noise_adu == stack.noise_adu else "noise unknown"
    return f"{counted(stack.exposures, 'exposure')}, {stack.exposure_s:g} s, {noise}, FWHM {stack.fwhm_px:.2f} px"


def _tell(event: Event, *, as_json: bool) -> None:
    reason = event.reason + (hint(KEPT) if event.reason.endswith("it is kept") else "")
    if as_json:
        print_line(
            {
                "event": event.kind,
                "file": event.file,
                "reason": reason,
                "stack": asdict(event.stack) if event.stack else None,
            }
        )
        return
    words = f"{Path(event.file).name}: {_WORDS[event.kind]}"
    if reason:
        words += f"; {reason}"
    if event.kind == "added" and event.stack is not None:
        words += f"; {Path(event.stack.output).name}: {_stands(event.stack)}"
    typer.echo(words)
