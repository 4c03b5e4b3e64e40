"""Every kind of file through one door: planes, camera raw, TIFF, and their troubles."""

import gzip
import json
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import tifffile
from bench.made_files import write_cube, write_dng, write_extensions
from hypothesis import given
from hypothesis import strategies as st
from tools.cases import FolderCase
from tools.same import kept

from ulvar.engine import OutputExists
from ulvar.frames import (
    Address,
    FrameError,
    MaskBit,
    Role,
    find_files,
    open_rows,
    read_frame,
    read_plane,
    scan_file,
    scan_images,
    split_address,
    write_fits,
    write_picture,
    write_tiff,
)


class Marked(FolderCase):
    """What a frame's mask says when it is read."""

    def test_saturated_bent_and_empty_pixels(self) -> None:
        data = np.array([[100.0, 59999.0, 60000.0, 65000.0, np.nan, 45000.0]], dtype=np.float32).repeat(3, axis=0)
        path = self.write("a.fits", data, SATURATE=60000.0, MAXLIN=50000.0)
        mask = read_frame(path).mask
        full, bent, none = int(MaskBit.SATURATED), int(MaskBit.NONLINEAR), int(MaskBit.NO_DATA)
        self.assertEqual(mask[1].tolist(), [0, bent, bent | full, bent | full, none, 0])
        self.assertIsNone(read_frame(self.write("b.fits", data[:, :4])).mask, "nothing is known of its ceiling")

    def test_a_mask_that_was_written_comes_back_beside_what_is_found(self) -> None:
        data = np.full((4, 6), 10.0, np.float32)
        data[2, 1] = np.nan
        mask = np.zeros((4, 6), np.uint16)
        mask[3, 5] = MaskBit.COSMIC | MaskBit.REPAIRED
        write_fits(self.folder / "m.fits", data, mask=mask)
        back = read_frame(str(self.folder / "m.fits")).mask
        wanted = mask.copy()
        wanted[2, 1] = MaskBit.NO_DATA
        np.testing.assert_array_equal(back, wanted)


class Addresses(FolderCase):
    """``file[hdu,plane]`` names one image of several."""

    @given(st.text("abc/._- ", min_size=1, max_size=12), st.integers(0, 99), st.one_of(st.none(), st.integers(0, 9999)))
    def test_round_trip(self, name: str, hdu: int, plane: int | None) -> None:
        address = Address(f"/nowhere/{name}.fits", hdu, plane)
        self.assertEqual(split_address(address.text), address)

    def test_a_file_whose_name_ends_in_brackets_is_that_file(self) -> None:
        plain = Path(self.write("plain.fits", np.full((4, 5), 7, np.uint16), EXPTIME=3.0))
        for name in ("odd[1].fits", "odd (2)+3.fits", "ødd*.fits", "trail[0,1]"):
            path = str(plain.with_name(name))
            Path(path).write_bytes(plain.read_bytes())
            self.assertEqual(split_address(path), Address(path))
            self.assertEqual(scan_file(path).exposure_s, 3.0)
            self.assertEqual(read_plane(path)[0, 0], 7.0)
        self.assertEqual(split_address("a[x].fits"), Address("a[x].fits"))


class Planes(FolderCase):
    """Cubes and files with several extensions are offered plane by plane."""

    def setUp(self) -> None:
        super().setUp()
        self.planes = np.random.default_rng(1).integers(0, 60000, (3, 6, 8)).astype(np.uint16)

    def test_cube(self) -> None:
        path = write_cube(self.folder / "cube.fits", self.planes, EXPTIME=2.0, DATE_OBS="2027-02-11T20:00:00", IMAGETYP="Light")
        facts = scan_images(path)
        self.assertEqual([f.path for f in facts], [f"{path}[0,{k}]" for k in range(3)])
        self.assertEqual([f.stem for f in facts], ["cube-0-0", "cube-0-1", "cube-0-2"])
        for k, one in enumerate(facts):
            np.testing.assert_array_equal(read_plane(one.path), self.planes[k])
            np.testing.assert_array_equal(open_rows(one.path).rows(2, 4), self.planes[k, 2:4])
            self.assertEqual((one.role, one.exposure_s, one.width, one.height), (Role.LIGHT, 2.0, 8, 6))
        # The header dates the first plane only: no time is better than a wrong one.
        self.assertEqual(facts[0].start_utc, datetime(2027, 2, 11, 20, tzinfo=UTC))
        self.assertEqual([f.start_utc for f in facts[1:]], [None, None])
        self.assertEqual(scan_file(f"{path}[0,2]").path, f"{path}[0,2]")
        with self.assertRaisesRegex(FrameError, "3 planes only"):
            scan_file(f"{path}[0,7]")
        with self.assertRaisesRegex(FrameError, "not a two-dimensional"):
            read_plane(path)

    def test_compressed_cube_and_gzip(self) -> None:
        path = write_cube(self.folder / "cube.fits", self.planes)
        packed = self.folder / "cube.fits.gz"
        packed.write_bytes(gzip.compress(Path(path).read_bytes()))
        for k, facts in enumerate(scan_images(str(packed))):
            np.testing.assert_array_equal(read_plane(facts.path), self.planes[k])

    def test_extensions_have_their_own_headers(self) -> None:
        headers = [{"EXPTIME": float(k + 1), "DATE_OBS": f"2027-02-11T20:0{k}:00"} for k in range(3)]
        path = write_extensions(self.folder / "many.fits", list(self.planes), headers)
        facts = scan_images(path)
        self.assertEqual([f.exposure_s for f in facts], [1.0, 2.0, 3.0])
        self.assertEqual([f.start_utc.minute for f in facts if f.start_utc], [0, 1, 2])
        for k, one in enumerate(facts):
            np.testing.assert_array_equal(read_plane(one.path), self.planes[k])
        with self.assertRaisesRegex(FrameError, "no image in extension 9"):
            scan_file(f"{path}[9]")

    def test_a_mask_beside_the_image_is_no_image(self) -> None:
        from ulvar.frames import write_fits

        out = self.folder / "cal.fits"
        mask = np.zeros((6, 8), np.uint16)
        mask[2, 3] = 8
        write_fits(out, np.ones((6, 8), np.float32), mask=mask, maps={"REJECTED": mask})
        self.assertEqual([f.path for f in scan_images(str(out))], [str(out)])
        self.assertEqual(read_frame(str(out)).mask[2, 3], 8)
        # The plane of rejected pixels is shown when it is asked for.
        self.assertEqual(read_plane(f"{out}[2]")[2, 3], 8)


class CameraRaw(FolderCase):
    """The mosaic as measured, with the facts that the camera wrote."""

    def mosaic(self) -> np.ndarray:
        return np.random.default_rng(2).integers(300, 16000, (64, 96)).astype(np.uint16)

    def test_pixels_and_facts(self) -> None:
        mosaic = self.mosaic()
        path = write_dng(self.folder / "lights" / "K-001.dng", mosaic)
        facts = scan_file(path)
        np.testing.assert_array_equal(read_plane(path), mosaic)
        np.testing.assert_array_equal(open_rows(path).rows(10, 13), mosaic[10:13])
        self.assertEqual((facts.role, facts.cfa, facts.exposure_s, facts.gain), (Role.LIGHT, "RGGB", 30.0, 800.0))
        self.assertEqual((facts.black_adu, facts.saturation_adu, facts.camera), (256.0, 16383.0, "Kvist R24"))
        self.assertEqual((facts.width, facts.height), (96, 64))
        self.assertEqual(facts.start_utc, datetime(2027, 2, 11, 21, 15, 30, tzinfo=UTC))
        self.assertEqual(facts.origins["start_utc"], "metadata")
        self.assertEqual(facts.stem, "K-001")
        kept(self, facts, mosaic)

    def test_clocks_without_a_zone_are_told(self) -> None:
        facts = scan_file(write_dng(self.folder / "a.dng", self.mosaic(), zone=""))
        self.assertEqual(facts.origins["start_utc"], "guessed")
        east = scan_file(write_dng(self.folder / "b.dng", self.mosaic(), zone="+02:00"))
        self.assertEqual(east.start_utc, datetime(2027, 2, 11, 19, 15, 30, tzinfo=UTC))

    def test_damaged_files_are_told(self) -> None:
        path = Path(write_dng(self.folder / "a.dng", self.mosaic()))
        path.write_bytes(path.read_bytes()[:200])
        with self.assertRaises(FrameError) as caught:
            read_plane(str(path))
        self.assertIn("raw file", caught.exception.reason)
        (self.folder / "zero.nef").write_bytes(b"")
        with self.assertRaises(FrameError):
            scan_file(str(self.folder / "zero.nef"))


class Tiff(FolderCase):
    """Grey, colour, many pages, and what is no TIFF."""

    def test_grey_and_pages(self) -> None:
        data = np.random.default_rng(3).integers(0, 65535, (3, 20, 30)).astype(np.uint16)
        one, many = self.folder / "darks" / "one.tif", self.folder / "many.tiff"
        one.parent.mkdir()
        tifffile.imwrite(one, data[0])
        tifffile.imwrite(many, data, photometric="minisblack")
        np.testing.assert_array_equal(read_plane(str(one)), data[0])
        self.assertEqual(scan_file(str(one)).role, Role.DARK)
        facts = scan_images(str(many))
        self.assertEqual(len(facts), 3)
        for k, f in enumerate(facts):
            np.testing.assert_array_equal(read_plane(f.path), data[k])
        with self.assertRaisesRegex(FrameError, "name one"):
            read_plane(str(many))

    def test_colours_are_images_of_their_own(self) -> None:
        data = np.random.default_rng(4).integers(0, 65535, (20, 30, 3)).astype(np.uint16)
        path = self.folder / "rgb.tif"
        tifffile.imwrite(path, data, photometric="rgb")
        facts = scan_images(str(path))
        self.assertEqual([f.filter for f in facts], ["R", "G", "B"])
        for k, f in enumerate(facts):
            np.testing.assert_array_equal(read_plane(f.path), data[..., k])

    def test_colours_beside_or_behind_each_other(self) -> None:
        rng = np.random.default_rng(5)
        # As high as there are colours, and as wide: the sizes alone do not tell which axis holds them.
        for config, shape in (("contig", (3, 5, 3)), ("separate", (3, 5, 3)), ("contig", (5, 3, 3)), ("contig", (4, 6, 4))):
            data = rng.integers(0, 65535, shape).astype(np.uint16)
            path = self.folder / f"{config}-{shape[0]}-{shape[-1]}.tif"
            extra = {"extrasamples": ["unassalpha"]} if shape[-1] == 4 else {}
            tifffile.imwrite(path, data, photometric="rgb", planarconfig=config, **extra)
            for k, facts in enumerate(scan_images(str(path))):
                with self.subTest(f"{config} {shape} {k}"):
                    plane = data[k] if config == "separate" else data[..., k]
                    self.assertEqual((facts.height, facts.width), plane.shape)
                    np.testing.assert_array_equal(read_plane(facts.path), plane)

    def test_what_was_written_comes_back(self) -> None:
        data = np.random.default_rng(6).normal(500, 80, (20, 30)).astype(np.float32)
        data[3:5, 7] = np.nan
        like = self.folder / "like.fits"
        write_fits(like, data, cards={"EXPTIME": 60.0, "RDNOISE": 9.0, "OBJECT": "Vesper's 3", "FILTER": "V"})
        cards = [("EGAIN", 2.5, ""), ("RDNOISE", 7.25, ""), ("DATE-OBS", "2027-03-04T20:00:00", "")]
        for depth in (16, 32):
            path = self.folder / f"{depth}.tif"
            write_tiff(path, data, depth=depth, like=str(like), cards=cards, drop=("FILTER",))
            facts, back = scan_file(str(path)), read_plane(str(path))
            with self.subTest(depth=depth):
                told = facts.exposure_s, facts.gain_e_per_adu, facts.read_noise_e, facts.object, facts.filter
                self.assertEqual(told, (60.0, 2.5, 7.25, "Vesper's 3", ""))
                self.assertEqual((facts.width, facts.height, facts.start_utc.hour), (30, 20, 20))
                step = np.nanmax(data) - np.nanmin(data)
                least = data == np.nanmin(data)
                np.testing.assert_array_equal(np.isnan(back), np.isnan(data) | (least & (depth == 32)))
                seen = np.isfinite(back)
                np.testing.assert_allclose(back[seen], data[seen], rtol=0, atol=step / 65534 if depth == 16 else 0)
                # Other programs see the first row at the bottom, too.
                picture = tifffile.imread(path)
                self.assertEqual(picture.dtype, np.uint16 if depth == 16 else np.float32)
                self.assertGreater(np.corrcoef(picture[::-1][seen], data[seen])[0, 1], 0.999)
        with self.assertRaises(OutputExists):
            write_tiff(self.folder / "16.tif", data)
        flat = self.folder / "flat.tif"
        write_tiff(flat, np.full((4, 5), 7.0, np.float32))
        np.testing.assert_allclose(read_plane(str(flat)), 7.0)
        write_tiff(flat, np.full((4, 5), np.nan, np.float32), replace=True)
        self.assertTrue(np.isnan(read_plane(str(flat))).all())

    def test_colours_that_were_written_come_back(self) -> None:
        planes = np.random.default_rng(7).integers(0, 65535, (3, 20, 30)).astype(np.uint16)
        path = self.folder / "colour.tif"
        write_picture(path, planes, {"header": {"OBJECT": "Vesper"}})
        np.testing.assert_array_equal(tifffile.imread(path), np.moveaxis(planes[:, ::-1], 0, -1))
        facts = scan_images(str(path))
        self.assertEqual([(f.filter, f.object) for f in facts], [(c, "Vesper") for c in "RGB"])
        for k, f in enumerate(facts):
            np.testing.assert_array_equal(read_plane(f.path), planes[k])

    def test_only_what_the_program_wrote_is_turned(self) -> None:
        data = np.arange(20, dtype=np.float32).reshape(4, 5)
        told = json.dumps({"header": {"EGAIN": 3.0}, "scale": 2.0, "zero": 1.0, "blank": 0})
        for name, text in (
            ("Other", told), ("Ulvar", "no JSON"), ("Ulvar", "[1]"), ("Ulvar", '{"header": 3}'), ("Ulvar", "[" * 100_000)
        ):  # fmt: skip
            path = self.folder / "x.tif"
            tifffile.imwrite(path, data, metadata=None, software=name, description=text)
            with self.subTest(f"{name} {text[:20]}"):
                np.testing.assert_array_equal(read_plane(str(path)), data)
                self.assertIsNone(scan_file(str(path)).gain_e_per_adu)
        odd = {"header": {"EGAIN": [1], "EXPTIME": "x"}, "scale": 1e300, "zero": "z", "blank": None}
        tifffile.imwrite(path, data, metadata=None, software="Ulvar", description=json.dumps(odd))
        np.testing.assert_array_equal(read_plane(str(path)), data[::-1])
        self.assertIsNone(scan_file(str(path)).exposure_s)

    def test_what_is_no_tiff_is_told(self) -> None:
        path = self.folder / "a.tif"
        path.write_bytes(b"not a picture at all")
        with self.assertRaisesRegex(FrameError, "this is not a TIFF file"):
            scan_file(str(path))

    def test_finding_them(self) -> None:
        for name in ("a.fits", "b.DNG", "c.tif", "d.txt", "e.jpg"):
            (self.folder / name).write_bytes(b"x")
        found, other = find_files([self.folder])
        self.assertEqual([Path(p).name for p in found], ["a.fits", "b.DNG", "c.tif"])
        self.assertEqual([Path(p).name for p in other], ["d.txt", "e.jpg"])
