"""What commands say of words, files and folders that they cannot use: the option or the file, and the reason."""

import contextlib
import shutil
from datetime import UTC, datetime
from pathlib import Path

from tests.cli.support import Command
from ulvar.photometry import SeriesRow, write_series

# What is typed, how it ends, and what is said of it.
CASES = Path(__file__).with_name("refusals.txt").read_text(encoding="utf-8").splitlines()


class Refusals(Command):
    def test_each_names_what_is_wrong(self) -> None:
        self.bare(2)
        (self.folder / "empty").mkdir()
        for name, text in (
            ("c.csv", "ra,dec\n1,2\n"),
            ("s.csv", "name,role,x,y\nt,target,1,1\n"),
            ("junk.csv", "\0\1"),
            ("junk.fits", "junk"),
        ):
            (self.folder / name).write_text(text)
        for name in ("there.csv", "there.png", "there.pdf"):
            shutil.copy(self.folder / "c.csv", self.folder / name)
        rows = [
            SeriesRow(
                file=f"a{k}.fits", time_utc_mid=datetime(2027, 2, 11, 20, k, tzinfo=UTC), jd_utc=2461448 + k / 1440, bjd_tdb=2461448 + k / 1440,
                name=name, role=role, x=10.0, y=10.0, flux=flux + k, flux_error=10.0, fwhm_px=3.0, sky=200.0, sky_error=0.1, peak=900.0, flags=0,
                airmass=1.1,
            )
            for k in range(4)
            for name, role, flux in (("T", "target", 4e4), ("a", "comparison", 9e4))
        ]  # fmt: skip
        write_series(self.folder / "t.csv", rows)
        write_series(self.folder / "lone.csv", rows[::2])
        with contextlib.chdir(self.folder):
            for words, code, said in (line.split(" | ") for line in CASES):
                with self.subTest(words):
                    ended, out, err = self.ulvar(*words.split())
                    self.assertEqual(ended, int(code), err or out)
                    self.assertIn(said, " ".join((out + err).split()))
