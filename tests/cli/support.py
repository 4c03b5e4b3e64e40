"""What tests of commands share."""

import contextlib
import io
import json
import sys
from pathlib import Path
from unittest import mock

import numpy as np
from tools.warm import WarmPools

from tests.support import FolderCase
from ulvar.cli.main import main
from ulvar.simulation import Psf, star_field


class Command(FolderCase):
    """Runs commands in this process."""

    def ulvar(self, *words: object) -> tuple[int, str, str]:
        """Return exit code, standard output and standard error."""
        out, err = io.StringIO(), io.StringIO()
        with (
            mock.patch.object(sys, "argv", ["ulvar", *map(str, words)]),
            mock.patch("ulvar.cli.common.PoolKeeper", WarmPools.of),
            contextlib.redirect_stdout(out),
            contextlib.redirect_stderr(err),
        ):
            try:
                main()
                code = 0
            except SystemExit as end:
                code = int(end.code or 0)
        return code, out.getvalue(), err.getvalue()

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
