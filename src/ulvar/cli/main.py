"""The ``ulvar`` command."""

from __future__ import annotations

import ast
import importlib
import importlib.util
import io
import json
import logging
import os
import signal
import sys
import threading
import time
import warnings
from functools import lru_cache
from pathlib import Path
from typing import Annotated, Any, NoReturn

import typer
from typer.core import TyperCommand, TyperGroup

# What the options' own reader raises for whatever it cannot take, of which a value that does not fit is one kind.
_WRONG_USAGE: Any = typer.BadParameter.__mro__[1]

# Where each command is: imported when it is called, so that none waits for what others need.
_COMMANDS = {
    "sort": "ulvar.cli.sorting:sort",
    "masters": "ulvar.cli.calibration:masters",
    "calibrate": "ulvar.cli.calibration:calibrate",
    "stars": "ulvar.cli.stars:stars",
    "stack": "ulvar.cli.stacking:stack",
    "planes": "ulvar.cli.planes:planes",
    "watch": "ulvar.cli.watching:watch",
    "follow": "ulvar.cli.following:follow",
    "colour": "ulvar.cli.colour:colour",
    "picture": "ulvar.cli.picture:picture",
    "solve": "ulvar.cli.measuring:solve",
    "measure": "ulvar.cli.measuring:measure",
    "curve": "ulvar.cli.curve:curve",
    "fast": "ulvar.cli.fast:fast",
    "nights": "ulvar.cli.targets:nights",
    "minima": "ulvar.cli.targets:minima",
    "ephemeris": "ulvar.cli.periods:ephemeris",
    "rotation": "ulvar.cli.periods:rotation",
    "exchange": "ulvar.cli.periods:exchange",
    "variables": "ulvar.cli.field:variables",
    "candidates": "ulvar.cli.field:candidates",
    "aperture": "ulvar.cli.field:aperture",
    "magnitudes": "ulvar.cli.field:magnitudes",
    "pair": "ulvar.cli.pairs:pair",
    "body": "ulvar.cli.bodies:body",
    "chart": "ulvar.cli.chart:chart",
    "demo": "ulvar.cli.nights:demo",
    "run": "ulvar.cli.nights:run",
    "check": "ulvar.cli.nights:check",
    "shooting": "ulvar.cli.camera:shooting",
    "camera": "ulvar.cli.camera:camera",
    "open": "ulvar.cli.window:open_night",
}
# Commands with words of their own below them.
_GROUPS = {
    "catalogue": ("ulvar.cli.catalogues:catalogue", "Local star catalogues."),
    "library": ("ulvar.cli.camera:library", "Masters that serve many nights."),
}


@lru_cache
def _sentences(module: str) -> dict[str, str]:
    """Return the first line of the docstring of each function of a module, which is not imported for it."""
    spec = importlib.util.find_spec(module)
    assert spec is not None and spec.origin is not None
    tree = ast.parse(Path(spec.origin).read_text(encoding="utf-8"))
    functions = [n for n in tree.body if isinstance(n, ast.FunctionDef)]
    return {f.name: (ast.get_docstring(f) or "").partition("\n")[0] for f in functions}


def _loaded(name: str) -> Any:
    """Return a command with all that it needs imported."""
    place, sentence = _GROUPS.get(name) or (_COMMANDS[name], None)
    module, _, attribute = place.partition(":")
    found: Any = getattr(importlib.import_module(module), attribute)
    if name in _COMMANDS:
        alone = typer.Typer(add_completion=False)
        alone.command(name)(found)
        found = alone
    command = typer.main.get_command(found)
    command.name, command.help = name, sentence or command.help
    return command


class _Commands(TyperGroup):
    """Knows the commands by name and sentence; one is imported when it is called."""

    def list_commands(self, ctx: Any) -> list[str]:
        """Return the commands in the order of a night."""
        return [*_COMMANDS, *_GROUPS]

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        """Return what the list of commands shows of one."""
        if cmd_name in _COMMANDS:
            module, _, function = _COMMANDS[cmd_name].partition(":")
            return TyperCommand(cmd_name, help=_sentences(module)[function])
        return TyperCommand(cmd_name, help=_GROUPS[cmd_name][1]) if cmd_name in _GROUPS else None

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        """Refuse an unknown command before options are converted, which loads far more than the answer needs."""
        if args and not args[0].startswith("-") and args[0] not in {*_COMMANDS, *_GROUPS}:
            super().resolve_command(ctx, args)
        return super().parse_args(ctx, args)

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        """Import the command that is called."""
        if args and (args[0] in _COMMANDS or args[0] in _GROUPS):
            return args[0], _loaded(args[0]), args[1:]
        return super().resolve_command(ctx, args)

    def invoke(self, ctx: Any) -> Any:
        """Run a command; what is wrong with its options is told as JSON, too, where that was asked for."""
        try:
            return super().invoke(ctx)
        except _WRONG_USAGE as error:
            if "--json" in sys.argv[1:]:
                sys.stdout.write(json.dumps({"error": error.format_message()}) + "\n")
            raise


app = typer.Typer(
    name="ulvar",
    cls=_Commands,
    help="From a night of raw telescope exposures to a stack, a plate solution and a light curve.",
    add_completion=False,
    no_args_is_help=False,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)


@app.callback(invoke_without_command=True)
def root(
    context: typer.Context,
    version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False,
) -> None:
    """Without a command the window opens."""
    logging.basicConfig(level=logging.WARNING, stream=sys.stderr, format="%(levelname)s %(name)s: %(message)s")
    if version:
        from ulvar import __version__

        typer.echo(__version__)
        raise typer.Exit()
    if context.invoked_subcommand is None:
        from ulvar.cli.window import open_window

        open_window(None)


# The exit code of what was ended by a signal, as shells have it for Ctrl+C.
_INTERRUPTED = 130
# How long after Ctrl+C was swallowed it comes again [s].
_AGAIN_S = 0.005


def _not_swallowed(told: Any) -> None:
    """Deliver Ctrl+C once more where it came in the middle of an object's finalizer, which would swallow it."""
    if told.exc_type is KeyboardInterrupt:
        # A moment later: at once it would end this function, and be swallowed again.
        signal.setitimer(signal.ITIMER_REAL, _AGAIN_S)
    else:
        sys.__unraisablehook__(told)


# How long threads may take to end after Ctrl+C [s]: those of a pool of workers take milliseconds.
_LAST_THREADS_S = 3.0


def _leave() -> NoReturn:
    """End after Ctrl+C, at once where a thread does not end: the lock that it waits for stays taken if Ctrl+C came as it was taken."""
    deadline = time.monotonic() + _LAST_THREADS_S
    for thread in threading.enumerate():
        if thread is threading.main_thread() or thread.daemon:
            continue
        thread.join(max(0.0, deadline - time.monotonic()))
        if thread.is_alive():
            sys.stdout.flush()
            sys.stderr.flush()
            os._exit(_INTERRUPTED)
    sys.exit(_INTERRUPTED)


def main() -> None:
    """Entry point: whatever the command, Ctrl+C ends it, also in an unlucky moment."""
    try:
        _main()
    except SystemExit as end:
        if end.code == _INTERRUPTED:
            _leave()
        raise


def _main() -> None:
    """Run the command. What the surroundings do not allow (a place, a worker) ends in a sentence."""
    try:
        # To be told to end is what Ctrl+C is: workers stop, nothing half stays.
        signal.signal(signal.SIGTERM, signal.default_int_handler)
        signal.signal(signal.SIGALRM, signal.default_int_handler)
        sys.unraisablehook = _not_swallowed
        for stream in (sys.stdout, sys.stderr):
            # Names of files may hold bytes that are no text.
            if isinstance(stream, io.TextIOWrapper):
                stream.reconfigure(errors="backslashreplace")
        with warnings.catch_warnings():
            # What cannot be computed comes out as no value, and is told as such where it matters.
            warnings.simplefilter("ignore", RuntimeWarning)
            app()
    except KeyboardInterrupt:
        # Before the command has begun nobody else catches it.
        sys.exit(_INTERRUPTED)
    except (OSError, RuntimeError) as error:
        if isinstance(error.__context__, KeyboardInterrupt):
            # Python's own locks complain when it comes while one is being taken.
            sys.exit(_INTERRUPTED)
        from ulvar.cli.common import NOTHING_DONE, end_words, tell_end

        words = end_words(error)
        if not words:
            raise
        tell_end(words)
        sys.exit(NOTHING_DONE)
