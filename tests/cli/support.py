"""What tests of commands share."""

import contextlib
import io
import json
import re
import sys
from pathlib import Path
from typing import Any, NoReturn
from unittest import mock

import numpy as np
from tools.cases import FolderCase, remembering
from tools.held import note
from tools.warm import WarmPools

from ulvar.cli import common
from ulvar.cli.main import main
from ulvar.simulation import Psf, star_field

# What commands would say on a terminal, also where they are asked for JSON.
LINES: list[str] = []
FINISH = common.finish


def finish(payload: dict, **told: Any) -> NoReturn:
    """End a command, and keep its lines."""
    LINES.extend(told.get("lines", ()))
    FINISH(payload, **told)


# Commands are imported when they are called, and take this one then; some were imported before.
for module in [m for name, m in sys.modules.items() if name.startswith("ulvar.cli.") and vars(m).get("finish") is FINISH]:
    module.finish = finish  # type: ignore[attr-defined]


class Command(FolderCase):
    """Runs commands in this process."""

    def ulvar(self, *words: object) -> tuple[int, str, str]:
        """Return exit code, standard output and standard error."""
        out, err = io.StringIO(), io.StringIO()
        with (
            mock.patch.object(sys, "argv", ["ulvar", *map(str, words)]),
            # Usage names the program, not what runs the tests.
            mock.patch.object(sys.modules["__main__"], "__package__", None),
            mock.patch("ulvar.cli.common.PoolKeeper", WarmPools.of),
            remembering(),
            contextlib.redirect_stdout(out),
            contextlib.redirect_stderr(err),
        ):
            try:
                main()
                code = 0
            except SystemExit as end:
                code = int(end.code or 0)
        told = out.getvalue(), err.getvalue(), "\n".join(LINES)
        LINES.clear()
        place = vars(self).get("folder", Path("?"))
        self._hold(f"$ {words[0] if words else ''}", code, *(one.replace(str(place), "").replace(place.name, "") for one in told))
        return code, told[0], told[1]

    @staticmethod
    def _hold(command: str, code: int, out: str, err: str, lines: str) -> None:
        """Hold the test to all that a command says but how long it took; frames about errors are as wide as the terminal."""
        note(f"{command}!", [code, *re.sub(r"[\u2500-\u257f\s]+", " ", err).split(". ")])
        if out.startswith("{\n"):
            note(command, json.loads(out, object_hook=lambda told: {k: v for k, v in told.items() if k != "seconds"}))
        said = lines if out.startswith("{\n") else out
        # Figures are compared as numbers: with how many decimals they are told stands beside them.
        decimals = " ".join(str(len(n)) for n in re.findall(r"(?<=\d\.)\d+", said))
        note(f"{command}.", [*said.splitlines(), *filter(None, [decimals])])

    def json(self, *words: object) -> tuple[int, dict]:
        """Run with --json; what is printed must be one JSON object."""
        code, out, _ = self.ulvar(*words, "--json")
        return code, json.loads(out)

    def bare(self, count: int = 4) -> Path:
        """Write exposures whose headers say nothing."""
        rng = np.random.default_rng(3)
        x, y, flux = rng.uniform(20, 380, 60), rng.uniform(20, 280, 60), 10 ** rng.uniform(3.5, 5, 60)
        for i in range(count):
            image = star_field(rng, width=400, height=300, x=x + 1.3 * i, y=y - 0.7 * i, flux_e=flux, psf=Psf.with_fwhm(3.0))
            self.write(f"bare/im{i}.fits", image.astype(np.uint16))
        return self.folder / "bare"
