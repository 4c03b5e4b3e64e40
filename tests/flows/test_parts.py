"""Small decisions of the flows: the reference, what a calibrated copy is, what counts as nothing, which pixels hide."""

import errno
import importlib
import math
import pkgutil
import shutil
import tempfile
import unittest
from pathlib import Path

import numpy as np
from tools.cases import FolderCase
from tools.same import kept

from ulvar.engine import Failed
from ulvar.flows import Scored, calibrated_facts, sort_exposures
from ulvar.flows.align import pick_reference
from ulvar.flows.camera import plan_by_filter
from ulvar.flows.series import _reach
from ulvar.flows.warping import Warped, WarpTask, warp_item
from ulvar.frames import ExposureFacts, MaskBit, Role, scan_file, write_fits
from ulvar.inspection import PixelLook
from ulvar.registration import Transform
from ulvar.stars import ExposureQuality, StarTable


def scored(name: str, score: float) -> Scored:
    return Scored(ExposureFacts(name), StarTable.empty(), ExposureQuality(5, 3.0, 0.1, 100.0, 5.0, 1e4, 0, score))


class Reference(unittest.TestCase):
    def test_the_best_known_score_the_earliest_of_equals(self) -> None:
        for scores, best in (([0.2, 0.9, 0.5], 1), ([0.2, math.nan, 0.1], 0), ([math.nan, 0.3], 1), ([0.4, 0.4], 0)):
            self.assertEqual(pick_reference([scored(str(i), s) for i, s in enumerate(scores)]), best)


class Nothing(unittest.TestCase):
    def codes(self, *given: object) -> list[str]:
        return [f.code for f in sort_exposures(*given).findings]  # type: ignore[arg-type]

    def test_only_when_nothing_at_all_was_found(self) -> None:
        self.assertEqual(self.codes([], []), ["nothing_found"])
        self.assertNotIn("nothing_found", self.codes([], [Failed("broken", "a.fits")]))
        self.assertNotIn("nothing_found", self.codes([ExposureFacts("a", role=Role.LIGHT)], []))
        (finding,) = sort_exposures([], [], ["/x/notes.txt"]).findings
        self.assertIn("notes.txt", finding.text)


class Plans(unittest.TestCase):
    """Every group of flats has a plan of its own, under a name that tells it from the others."""

    def test_groups_of_one_filter(self) -> None:
        settings: list[dict[str, object]] = [
            {"gain": 100.0}, {"gain": 0.0}, {}, {"gain": 0.0, "binning": 2}, {"binning": 2},
        ]  # fmt: skip
        flats = [
            ExposureFacts(f"{n}-{k}", role=Role.FLAT, filter="V", camera="C", exposure_s=1.0 + k, saturation_adu=65535.0, **one)  # type: ignore[arg-type]
            for n, one in enumerate(settings)
            for k in range(2)
        ]
        looks = {f.path: PixelLook(1000.0 * float(f.exposure_s or 0) + n, *[0.0] * 9) for n, f in enumerate(flats)}
        plans = plan_by_filter(flats, looks, 0.5)
        self.assertEqual(len(plans), 5)
        self.assertTrue(all(name == "V" or name.startswith(("V, gain 0", "V, gain 100", "V, gain unknown")) for name in plans), list(plans))
        levels = sorted(level for tests, _ in plans.values() for _, level in tests)
        self.assertEqual(levels, sorted(look.level_adu for look in looks.values()))


class Scratch(FolderCase):
    def test_a_full_disk_names_the_folder_of_the_stack(self) -> None:
        path = self.write("a.fits", np.zeros((40, 60), np.float32))
        with self.assertRaises(OSError) as caught:
            warp_item(WarpTask(scan_file(path), Transform.identity(), (40, 60), "/dev/full", True))
        self.assertIn(caught.exception.errno, (errno.ENOSPC, errno.EIO))
        self.assertEqual(caught.exception.filename, "/")


class Calibrated(FolderCase):
    def test_facts_of_the_copy(self) -> None:
        path = self.write("a-cal.fits", np.zeros((4, 6), np.float32))
        raw = ExposureFacts("a.fits", filter="V", bitpix=16, width=9, height=8, saturation_adu=65535.0, hdu=2)
        facts = calibrated_facts(raw, path, {"width": 6, "height": 4, "pedestal_adu": 100})
        self.assertEqual((facts.path, facts.filter, facts.bitpix, facts.hdu), (path, "V", -32, 0))
        self.assertEqual((facts.width, facts.height, facts.pedestal_adu), (6, 4, 100.0))
        self.assertIsNone(facts.saturation_adu)
        self.assertEqual(facts.size_bytes, Path(path).stat().st_size)
        self.assertEqual(calibrated_facts(raw, path, {}).width, 9)


class Hidden(unittest.TestCase):
    def test_which_masked_pixels_stay_out_of_a_stack(self) -> None:
        folder = Path(tempfile.mkdtemp(prefix="ulvar-test-"))
        self.addCleanup(shutil.rmtree, folder, True)
        mask = np.zeros((5, 12), np.uint16)
        for place, bit in enumerate(MaskBit):
            mask[2, place] = bit
        write_fits(folder / "a.fits", np.full((5, 12), 7.0, np.float32), mask=mask)
        task = WarpTask(scan_file(str(folder / "a.fits")), Transform.identity(), (5, 12), str(folder / "s.f32"), True)
        self.assertEqual(warp_item(task), Warped())
        warped = np.fromfile(folder / "s.f32", np.float32).reshape(5, 12)
        gone = {bit for place, bit in enumerate(MaskBit) if np.isnan(warped[2, place])}
        self.assertEqual(gone, {MaskBit.NO_DATA, MaskBit.HOT, MaskBit.COLD, MaskBit.COLUMN, MaskBit.COSMIC})
        self.assertEqual(int(np.isnan(warped).sum()), len(gone))
        other = WarpTask(task.facts, Transform.identity(), (5, 11), str(folder / "t.f32"), True)
        self.assertIn("12 x 5", getattr(warp_item(other), "reason", ""))


class Columns(unittest.TestCase):
    def test_tables_are_written_as_they_were(self) -> None:
        """Name, unit, digits and sentence of each column of each table: whoever reads them counts on it."""
        rooms = ("flows", "lightcurves", "stars", "photometry", "night", "cli")
        names = [
            f"ulvar.{room}.{m.name}" for room in rooms for m in pkgutil.iter_modules(importlib.import_module(f"ulvar.{room}").__path__)
        ]
        tables = {
            f"{name}.{table}": columns
            for name in names
            for table, columns in sorted(vars(importlib.import_module(name)).items())
            if table.endswith("COLUMNS") and isinstance(columns, tuple)
        }
        self.assertGreater(len(tables), 9)
        for columns in tables.values():
            self.assertEqual(len({str(column) for column in columns}), len(columns))
        kept(self, *(tables[name] for name in sorted(tables)))


class Reach(unittest.TestCase):
    def test_pointings_of_one_field_lie_within_half_the_shorter_side(self) -> None:
        for width, scale in ((4000, 1.5), (6000, 0.9)):
            facts = [ExposureFacts(n, width=width, height=2000, scale_arcsec_px=s) for n, s in (("a", scale), ("b", None), ("c", scale))]
            self.assertAlmostEqual(_reach(facts), 1000 * scale / 3600, delta=1e-9)
