"""A night whose folder was moved or copied: everything that was made is found where it is now."""

import shutil

from tools.cases import FolderCase

from ulvar.engine import JobContext
from ulvar.night import Night
from ulvar.night.products import Product
from ulvar.night.stations import run_intake


class Moved(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        import numpy as np

        self.raw = self.folder / "raw"
        for i in range(2):
            self.write(f"raw/l{i}.fits", np.full((20, 30), 100 + i, dtype=np.uint16), IMAGETYP="light", EXPTIME=5.0)
        # A name that JSON writes otherwise than the file system.
        self.night = Night.create(self.folder / 'nächt "1"', [self.raw])
        run_intake(self.night, JobContext())
        self.output = self.night.products / "a" / "x.fits"
        self.output.parent.mkdir(parents=True)
        self.output.write_text("made")
        outside = self.folder / "elsewhere.fits"
        outside.write_text("made")
        source = str(self.raw / "l0.fits")
        values = {"reference": str(self.output), "note": str(outside), "count": 3}
        self.night.store_products("kind", [Product("kind", source, str(self.output), values), Product("kind", "o", str(outside), {})])
        self.night.store_products("result", [Product("result", str(self.output), str(self.output), {})])
        self.night.close()

    def check(self, night: Night) -> None:
        self.addCleanup(night.close)
        here = str(night.products / "a" / "x.fits")
        found = night.products_of("kind")
        product = found[str(self.raw / "l0.fits")]
        self.assertEqual(product.output, here)
        self.assertEqual(product.values, {"reference": here, "note": str(self.folder / "elsewhere.fits"), "count": 3})
        self.assertEqual(found["o"].output, str(self.folder / "elsewhere.fits"), "what lies outside stays where it is")
        self.assertEqual(list(night.products_of("result")), [here])
        self.assertEqual(night.meta("folder"), str(night.folder.resolve()))

    def test_moved(self) -> None:
        there = self.folder / "other" / "night two"
        there.parent.mkdir()
        shutil.move(self.night.folder, there)
        self.check(Night.for_path(there))

    def test_copied(self) -> None:
        shutil.copytree(self.night.folder, self.folder / "copy")
        self.check(Night.for_path(self.folder / "copy"))
        # The first one has its own still.
        self.check(Night.for_path(self.night.folder))
