"""The library: putting in, matching from it, retiring, cameras, defect lists; the shooting list on paper."""

import csv
import io
import json

import numpy as np
from tools.cases import FolderCase, files_under

from ulvar.calibration import Master, Shot, write_master
from ulvar.engine import OutputExists
from ulvar.flows import CameraNumbers, Library, master_file_name
from ulvar.frames import ExposureFacts, FrameError, MaskBit, Role, read_plane
from ulvar.night.shooting import shooting_csv, shooting_page, write_shooting_list


class Shelf(FolderCase):
    """A library in a folder of its own."""

    def setUp(self) -> None:
        super().setUp()
        self.library = Library(self.folder / "library")
        self.rng = np.random.default_rng(1)

    def made(self, name: str = "master.fits", kind: Role = Role.DARK, **facts: object) -> ExposureFacts:
        source = self.write("in.fits", np.ones((12, 16), np.uint16), DATE_OBS="2027-02-11T20:00:00")
        base = {
            "exposure_s": 60.0, "gain": 100.0, "offset": 30.0, "temperature_c": -15.0, "width": 16, "height": 12, "camera": "Kvist 6M",
        }  # fmt: skip
        told = ExposureFacts(source, kind, **{**base, **facts})  # type: ignore[arg-type]
        data = self.rng.normal(300, 1, (12, 16)).astype(np.float32)
        write_master(self.folder / name, Master(data, kind, told, 20, 1.2, 0.0, (source,), level_adu=301.5), fingerprint="x")
        return told

    def test_in_and_out(self) -> None:
        self.made()
        self.assertEqual(self.library.entries(), [])
        entry = self.library.add(self.folder / "master.fits", origin="first night")
        self.assertEqual((entry.facts.count, entry.level_adu, entry.noise_adu, entry.origin), (20, 301.5, 1.2, "first night"))
        self.assertEqual((entry.facts.role, entry.facts.is_master, entry.facts.gain), (Role.DARK, True, 100.0))
        # The same once more is there already, also where it was never listed; nothing of what is told of it changes.
        self.assertEqual(self.library.add(self.folder / "master.fits", origin="again"), entry)
        for name in ("kept.json", "kept-copy.json"):
            (self.library.folder / name).unlink()
        self.assertEqual(self.library.add(self.folder / "master.fits", origin="again").origin, "again")
        np.testing.assert_array_equal(read_plane(str(self.library.folder / entry.name)), read_plane(str(self.folder / "master.fits")))
        (candidate, path) = self.library.candidates()[0]
        self.assertEqual((candidate.key, candidate.level_adu), ("library/" + entry.name, 301.5))
        self.assertTrue(path.endswith(entry.name))
        # Another one of the same name is not put in its place.
        before = read_plane(path)
        self.made("other.fits")
        with self.assertRaises(OutputExists):
            self.library.add(self.folder / "other.fits")
        np.testing.assert_array_equal(read_plane(path), before)

    def test_a_master_made_elsewhere_is_written_with_what_tells_it(self) -> None:
        told = {
            "IMAGETYP": "Master Dark", "EXPTIME": 60.0, "GAIN": 100, "BAYERPAT": "GRBG", "CCD_TEMP": -15.0, "FILTER": "V", "XBINNING": 2,
        }  # fmt: skip
        self.write("foreign.fits", np.full((12, 16), 300.0, np.float32), **told)
        facts = self.library.add(self.folder / "foreign.fits").facts
        self.assertEqual(
            (facts.role, facts.exposure_s, facts.gain, facts.cfa, facts.temperature_c), (Role.DARK, 60.0, 100.0, "GRBG", -15.0)
        )
        self.assertEqual((facts.filter, facts.binning, facts.is_master), ("V", 2, True))

    def test_retire_and_back(self) -> None:
        self.made()
        entry = self.library.add(self.folder / "master.fits")
        self.library.retire([entry.name])
        self.assertEqual((self.library.entries(), len(self.library.entries(retired=True))), ([], 1))
        self.assertTrue((self.library.folder / entry.name).exists(), "the file stays")
        self.library.retire([entry.name], retired=False)
        self.assertEqual(len(self.library.entries()), 1)

    def test_damage_takes_no_decision_back(self) -> None:
        self.made()
        entry = self.library.add(self.folder / "master.fits", origin="first night")
        facts = ExposureFacts("x", camera="Kvist 6M", gain=100.0, width=16, height=12)
        self.library.remember_camera(facts, CameraNumbers(1.3, 0.01, 6.2, 0.05, "2027-02-12"))
        self.library.retire([entry.name])
        for name in ("library.json", "kept.json"):
            (self.library.folder / name).write_text("{damaged")
            with self.subTest(damaged=name):
                self.assertEqual(self.library.entries(), [], "a retired master is not in use again")
                self.assertEqual(self.library.entries(retired=True)[0].origin, "first night")
                self.assertEqual(self.library.camera_numbers()["Kvist 6M|100||1"].gain_e_per_adu, 1.3)
        (self.library.folder / "kept-copy.json").unlink()
        self.library.retire([entry.name], retired=False)
        self.assertEqual(len(self.library.entries()), 1)

    def test_libraries_of_older_versions(self) -> None:
        self.made()
        entry = self.library.add(self.folder / "master.fits")
        index = json.loads((self.library.folder / "library.json").read_text())
        index[entry.name] |= {"retired": True, "added": "2026-12-01", "origin": "older"}
        index["cameras"] = {"A|1||1": vars(CameraNumbers(1.1, 0.01, 5.0, 0.05, "2026-12-01"))}
        (self.library.folder / "library.json").write_text(json.dumps(index))
        for name in ("kept.json", "kept-copy.json"):
            (self.library.folder / name).unlink()
        # A new file makes the index be written anew; decisions must not go with the old one.
        (self.library.folder / "by-hand.fits").write_bytes((self.library.folder / entry.name).read_bytes())
        for _ in range(2):
            self.assertEqual([e.name for e in self.library.entries()], ["by-hand.fits"])
            (old,) = [e for e in self.library.entries(retired=True) if e.retired]
            self.assertEqual((old.added, old.origin), ("2026-12-01", "older"))
            self.assertEqual(self.library.camera_numbers()["A|1||1"].read_noise_e, 5.0)

    def test_files_put_in_and_taken_away_by_hand(self) -> None:
        self.made()
        entry = self.library.add(self.folder / "master.fits")
        copy = self.library.folder / "by-hand.fits"
        copy.write_bytes((self.library.folder / entry.name).read_bytes())
        (self.library.folder / "notes.fits").write_bytes(b"no image")
        self.assertEqual(len(self.library.entries()), 2)
        copy.unlink()
        self.assertEqual(len(self.library.entries()), 1)
        (self.library.folder / "library.json").write_text("{damaged")
        self.assertEqual(len(self.library.entries()), 1, "the index is made anew from the files")

    def test_a_master_made_elsewhere(self) -> None:
        flat = self.rng.normal(21000, 50, (12, 16)).astype(np.float32)
        path = self.write("F.fits", flat, EXPTIME=2.0, GAIN=100)
        with self.assertRaisesRegex(FrameError, "give its role"):
            self.library.add(self.folder / "F.fits")
        entry = self.library.add(self.folder / "F.fits", given={"role": "flat", "count": "15", "filter": "V"})
        self.assertEqual((entry.facts.role, entry.facts.count, entry.facts.filter), (Role.FLAT, 15, "V"))
        from ulvar.calibration import read_master

        again = read_master(str(self.library.folder / entry.name))
        self.assertAlmostEqual(float(np.median(again.data)), 1.0, places=3)
        np.testing.assert_array_equal(read_plane(path), flat)
        with self.assertRaises(ValueError):
            self.library.add(self.folder / "F.fits", given={"count": "many"})

    def test_names_tell_masters_apart(self) -> None:
        base = ExposureFacts("x", Role.DARK, exposure_s=60.0, gain=100.0, temperature_c=-15.0, width=10, height=10, camera="Kvist 6M / b")
        names = {
            master_file_name(ExposureFacts(**{**vars(base), **change}))  # type: ignore[arg-type]
            for change in ({}, {"exposure_s": 61.0}, {"gain": 0.0}, {"temperature_c": -10.0}, {"role": Role.DARK_FLAT}, {"binning": 2}, {"width": 20}, {"camera": "B"})
        }  # fmt: skip
        self.assertEqual(len(names), 8)
        self.assertTrue(all("/" not in n and " " not in n for n in names))

    def test_cameras_and_defects(self) -> None:
        facts = ExposureFacts("x", camera="Kvist 6M", gain=100.0, width=16, height=12)
        self.library.remember_camera(facts, CameraNumbers(1.3, 0.01, 6.2, 0.05, "2027-02-12"))
        self.assertEqual(self.library.camera_numbers()["Kvist 6M|100||1"].gain_e_per_adu, 1.3)
        self.assertIsNone(self.library.defects(facts))
        self.library.store_defects(facts, [(3, 4, "hot"), (5, 6, "cold"), (7, -1, "column")])
        mask = self.library.defects(facts)
        assert mask is not None
        self.assertEqual((mask[4, 3], mask[6, 5], mask[0, 7], mask[11, 7]), (MaskBit.HOT, MaskBit.COLD, MaskBit.COLUMN, MaskBit.COLUMN))
        self.library.defect_file(facts).write_text("x,y,kind\n99,1,hot\n")
        with self.assertRaisesRegex(ValueError, "line 2: outside the frame"):
            self.library.defects(facts)
        self.assertEqual(self.library.entries(), [])

    def test_no_leftovers(self) -> None:
        self.made()
        self.library.add(self.folder / "master.fits")
        self.assertEqual({n for n in files_under(self.library.folder) if n.startswith(".")}, set())
        self.assertEqual(json.loads((self.library.folder / "library.json").read_text()).keys(), {self.library.entries()[0].name})


class OnPaper(FolderCase):
    """The shooting list as table and page."""

    SHOTS = (
        Shot(Role.DARK, "", 300.0, 100.0, 30.0, -15.0, 1, "", "Kvist 6M", 20, "240 s is 60 s too short", 12),
        Shot(Role.FLAT, "R", None, 100.0, 30.0, -15.0, 1, "", "Kvist <6M>", 15, "gain 0, not 100", 12),
    )

    def test_table_and_page(self) -> None:
        rows = list(csv.DictReader(io.StringIO(shooting_csv(self.SHOTS))))
        self.assertEqual(
            [(r["kind"], r["count"], r["exposure_s"], r["filter"]) for r in rows], [("dark", "20", "300", ""), ("flat", "15", "", "R")]
        )
        page = shooting_page(self.SHOTS, "Tarnholt field 12")
        for words in ("20", "dark", "300 s", "gain 100, offset 30, −15 °C", "to be found", "Kvist &lt;6M&gt;", "240 s is 60 s too short"):
            self.assertIn(words, page)
        write_shooting_list(self.folder / "list.html", self.SHOTS, "n")
        write_shooting_list(self.folder / "list.csv", self.SHOTS, "n")
        self.assertTrue((self.folder / "list.html").read_text().startswith("<!doctype html>"))
        self.assertEqual((self.folder / "list.csv").read_text().splitlines()[0].split(",")[0], "kind")
        with self.assertRaises(OutputExists):
            write_shooting_list(self.folder / "list.csv", self.SHOTS, "n", replace=False)
