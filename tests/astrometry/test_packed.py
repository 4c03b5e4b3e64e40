"""Star tables that come packed in a data package."""

import struct
import sys
from pathlib import Path
from unittest import mock

from tests.cli.support import Command
from ulvar.astrometry import CatalogueError, load_catalogue

STARS = (
    (10, 5.0, -3.0, 8.5, 1.5, -2.5), (11, 359.5, 89.0, 4.25, float("nan"), float("nan")), (12, 20.0, 95.0, 1.0, 0.0, 0.0),
)  # fmt: skip


class Packed(Command):
    def write(self, name: str, *, version: int = 1, count: int = 3) -> Path:
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        body = b"".join(struct.pack("<qddfff", *star) for star in STARS)
        path.write_bytes(b"GDR3" + struct.pack("<IQ", version, count) + body)
        return path

    def test_stars(self) -> None:
        stars = load_catalogue(self.write("stars.bin"))
        self.assertEqual((stars.ra.tolist(), stars.dec.tolist(), stars.mag.tolist()), ([5.0, 359.5], [-3.0, 89.0], [8.5, 4.25]))
        self.assertEqual((stars.pmra.tolist(), stars.pmdec.tolist(), stars.epoch.tolist()), ([1.5, 0.0], [-2.5, 0.0], [2016.0, 2016.0]))

    def test_damaged(self) -> None:
        with self.assertRaisesRegex(CatalogueError, "version 7"):
            load_catalogue(self.write("a.bin", version=7))
        for count in (2, 4, 2**60):
            with self.assertRaisesRegex(CatalogueError, f"tells of {count} stars"):
                load_catalogue(self.write("b.bin", count=count))

    def test_by_the_name_of_its_package(self) -> None:
        site = self.folder / "site"
        self.write("site/made_stars/data/stars.bin")
        (site / "made_stars" / "data" / "note.csv").write_text("ra,dec\n1,2\n")
        told = site / "made_stars-1.0.dist-info"
        told.mkdir()
        (told / "METADATA").write_text("Metadata-Version: 2.1\nName: made-stars\nVersion: 1.0\n")
        (told / "RECORD").write_text("made_stars/data/stars.bin,,\nmade_stars/data/note.csv,,\nmade_stars-1.0.dist-info/RECORD,,\n")
        with mock.patch.object(sys, "path", [str(site), *sys.path]):
            code, body = self.json("catalogue", "import", "made-stars", "--out", self.folder / "tiles")
            self.assertEqual((code, body["stars"], body["files"][0]["bad_rows"]), (0, 2, 1), body)
            self.assertIn("row 3", body["files"][0]["first_bad"])
            self.assertEqual(sorted(load_catalogue(self.folder / "tiles").mag), [4.25, 8.5])
        code, _, err = self.ulvar("catalogue", "import", "made-stars", "--out", self.folder / "other")
        self.assertEqual(code, 2)
        self.assertIn("no data package of that name", " ".join(err.split()))
