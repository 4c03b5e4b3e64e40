"""What commands say of words, files and folders that they cannot use: the option or the file, and the reason."""

import contextlib
import shutil
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from tests.cli.support import Command
from ulvar.frames import read_plane
from ulvar.night import Night
from ulvar.photometry import SeriesRow, write_series

# What is typed, how it ends, and what is said of it; in groups, of which each is a test.
CASES = Path(__file__).with_name("refusals.txt").read_text(encoding="utf-8").strip().split("\n\n")


class Refusals(Command):
    def setUp(self) -> None:
        super().setUp()
        self.bare(2)
        (self.folder / "empty").mkdir()
        for name, text in (
            ("c.csv", "ra,dec\n1,2\n"),
            ("s.csv", "name,role,x,y\nt,target,1,1\n"),
            ("junk.csv", "\0\1"),
            ("junk.fits", "junk"),
        ):
            (self.folder / name).write_text(text)
        sky = {"CTYPE1": "RA---TAN", "CTYPE2": "DEC--TAN", "CRVAL1": 115.5, "CRVAL2": 41.3, "CRPIX1": 200.5, "CRPIX2": 150.5}
        sky |= {"CDELT1": -3e-4, "CDELT2": 3e-4, "EXPTIME": 9.0}
        pictures = [read_plane(str(self.folder / "bare" / f"im{k}.fits")).astype(np.uint16) for k in range(2)]
        for k, data in enumerate(pictures):
            self.write(f"solved/s{k}.fits", data, DATE_OBS="2027-02-11T21:00:00", **sky)
            self.write(f"two/{'VB'[k]}.fits", data, FILTER="VB"[k], IMAGETYP="light")
            self.write(f"caps/{k}.fits", np.full((40, 60), 300, np.uint16), IMAGETYP=("bias", "flat")[k], FILTER="V", EXPTIME=2.0 * k)
        Night.create(self.folder / "night", [self.folder / "two" / "V.fits"]).close()
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

    def check(self, group: str) -> None:
        with contextlib.chdir(self.folder):
            for words, code, said in (line.split(" | ") for line in group.splitlines()):
                with self.subTest(words):
                    ended, out, err = self.ulvar(*words.split())
                    self.assertEqual(ended, int(code), err or out)
                    self.assertIn(said, " ".join((out + err).split()))


def named(group: str) -> Callable[[Refusals], None]:
    def test(self: Refusals) -> None:
        self.check(group)

    # Coverage tells tests apart by the names of their code.
    test.__name__ = f"test_{group.split()[0]}"
    test.__code__ = test.__code__.replace(co_name=test.__name__)
    return test


for test in map(named, CASES):
    setattr(Refusals, test.__name__, test)
