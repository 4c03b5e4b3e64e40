"""FITS in and out, against arrays written by an independent library call."""

import gzip
import shutil
import unittest
from pathlib import Path

import fitsio
import numpy as np
from tools.cases import FolderCase, files_under

from ulvar.engine import OutputExists
from ulvar.frames import FileRows, FrameError, MaskBit, find_files, header_of, read_frame, read_plane, scan_file, write_fits
from ulvar.frames._kernels import swap16_to_float32
from ulvar.frames.fits_header import header_cards
from ulvar.frames.fits_rows import _swap_in_numpy


class Reading(FolderCase):
    """Every pixel type, compressed and not, comes out as float32 with the right values."""

    def test_all_pixel_types(self) -> None:
        rng = np.random.default_rng(1)
        for dtype in ("u1", "i2", "u2", "i4", "u4", "f4", "f8"):
            if dtype.startswith("f"):
                data = rng.normal(100, 50, (13, 17)).astype(dtype)
            else:
                info = np.iinfo(dtype)
                data = rng.integers(max(info.min, -(2**23)), min(info.max, 2**23), (13, 17)).astype(dtype)
            with self.subTest(dtype=dtype):
                path = self.write(f"{dtype}.fits", data)
                plane = read_plane(path)
                self.assertEqual(plane.dtype, np.float32)
                np.testing.assert_array_equal(plane, data.astype(np.float32))
                np.testing.assert_array_equal(FileRows(path).rows(3, 8), data[3:8].astype(np.float32))

    def test_full_range_of_uint16(self) -> None:
        data = np.arange(65536, dtype=np.uint16).reshape(256, 256)
        np.testing.assert_array_equal(read_plane(self.write("full.fits", data)), data.astype(np.float32))

    def test_scale_and_zero(self) -> None:
        raw = np.arange(-6, 6, dtype=np.int16).reshape(3, 4)
        path = self.write("scaled.fits", raw)
        with fitsio.FITS(path, "rw") as handle:
            handle[0].write_key("BSCALE", 0.5)
            handle[0].write_key("BZERO", 10.0)
        np.testing.assert_allclose(read_plane(path), raw * 0.5 + 10.0)

    def test_scaled_rows_from_the_middle(self) -> None:
        for dtype, blank in (("u1", None), ("i2", None), ("i2", 7), ("i4", None), ("i4", 7)):
            raw = np.arange(20, dtype=dtype).reshape(5, 4)
            path = self.write(f"{dtype}-{blank}.fits", raw)
            with fitsio.FITS(path, "rw") as handle:
                handle[0].write_key("BSCALE", 0.25)
                handle[0].write_key("BZERO", -3.0)
                if blank is not None:
                    handle[0].write_key("BLANK", blank)
            truth = np.where(raw == blank, np.nan, raw * 0.25 - 3.0)
            rows = FileRows(path)
            for y0, y1 in ((0, 5), (1, 3), (4, 5)):
                with self.subTest(f"{dtype} {blank} {y0}"):
                    np.testing.assert_array_equal(rows.rows(y0, y1), truth[y0:y1].astype(np.float32))

    def test_blank_pixels_become_nan_and_masked(self) -> None:
        raw = np.arange(12, dtype=np.int16).reshape(3, 4)
        path = self.write("blank.fits", raw)
        with fitsio.FITS(path, "rw") as handle:
            handle[0].write_key("BLANK", 5)
        frame = read_frame(path)
        self.assertTrue(np.isnan(frame.data[1, 1]))
        self.assertEqual(int(np.isnan(frame.data).sum()), 1)
        assert frame.mask is not None
        self.assertEqual(frame.mask[1, 1], MaskBit.NO_DATA)

    def test_compressed_files(self) -> None:
        data = np.random.default_rng(2).integers(0, 60000, (40, 50)).astype(np.uint16)
        fz = self.folder / "a.fits.fz"
        fitsio.write(str(fz), data, compress="RICE", header=[{"name": "EXPTIME", "value": 2.5}])
        np.testing.assert_array_equal(read_plane(str(fz)), data.astype(np.float32))
        self.assertEqual(scan_file(str(fz)).exposure_s, 2.5)
        plain = self.write("b.fits", data, EXPTIME=3.0)
        with Path(plain).open("rb") as source, gzip.open(self.folder / "b.fits.gz", "wb") as target:
            shutil.copyfileobj(source, target)
        np.testing.assert_array_equal(read_plane(str(self.folder / "b.fits.gz")), data.astype(np.float32))
        self.assertEqual(scan_file(str(self.folder / "b.fits.gz")).exposure_s, 3.0)
        for path in (fz, plain, self.folder / "b.fits.gz"):
            bands = FileRows(str(path)).bands([30, 7, 8], 4)
            np.testing.assert_array_equal(bands, [data[y : y + 4] for y in (30, 7, 8)])

    def test_image_in_an_extension_inherits_the_primary_header(self) -> None:
        path = self.folder / "ext.fits"
        with fitsio.FITS(str(path), "rw") as handle:
            handle.write(None, header=[{"name": "FILTER", "value": "V"}, {"name": "EXPTIME", "value": 7.0}])
            handle.write(np.ones((4, 6), dtype=np.float32), extname="SCI")
        facts = scan_file(str(path))
        self.assertEqual((facts.filter, facts.exposure_s, facts.width, facts.height), ("V", 7.0, 6, 4))
        self.assertEqual(read_plane(str(path)).shape, (4, 6))

    def test_one_plane_cube_is_an_image_and_a_real_cube_is_told(self) -> None:
        np.testing.assert_array_equal(read_plane(self.write("one.fits", np.ones((1, 4, 5), dtype=np.float32))), np.ones((4, 5)))
        cube = self.write("cube.fits", np.ones((3, 4, 5), dtype=np.float32))
        with self.assertRaisesRegex(FrameError, "5 x 4 x 3"):
            read_plane(cube)


class Swapping(unittest.TestCase):
    def test_every_word_is_the_same_with_and_without_the_compiler(self) -> None:
        words = np.arange(65536, dtype=np.uint16)
        truth = words.view(">i2").astype(np.float32)
        for zero, scale in ((32768.0, 1.0), (0.0, 1.0), (-5.5, 1.7e-3)):
            made = [np.empty(words.size, dtype=np.float32) for _ in range(2)]
            for swap, out in zip((swap16_to_float32, _swap_in_numpy), made):
                swap(words, np.float32(zero), np.float32(scale), out)
                np.testing.assert_array_equal(out, np.float32(zero) + np.float32(scale) * truth)
            np.testing.assert_array_equal(*made)


class BadFiles(FolderCase):
    """A bad file gives its name and the reason."""

    def check(self, path: str | Path, reason: str) -> None:
        for read in (scan_file, read_plane):
            with self.subTest(read=read.__name__), self.assertRaises(FrameError) as caught:
                read(str(path))
            self.assertIn(reason, caught.exception.reason)
            self.assertEqual(caught.exception.path, str(path))

    def test_truncated(self) -> None:
        path = Path(self.write("cut.fits", np.zeros((100, 100), dtype=np.uint16)))
        path.write_bytes(path.read_bytes()[: 2880 + 12000])
        self.check(path, "cut short: it ends at 60\u00a0%")

    def test_text_zero_length_missing_table(self) -> None:
        (self.folder / "a.fits").write_text("hello")
        self.check(self.folder / "a.fits", "not a FITS file")
        (self.folder / "b.fits").touch()
        self.check(self.folder / "b.fits", "empty")
        self.check(self.folder / "nothing.fits", "no such file")
        fitsio.write(str(self.folder / "t.fits"), np.zeros(3, dtype=[("a", "f8")]))
        self.check(self.folder / "t.fits", "no image")

    def test_damaged_compressed_file_fails_with_a_reason(self) -> None:
        path = self.folder / "a.fits.fz"
        fitsio.write(str(path), np.random.default_rng(1).integers(0, 999, (60, 60)).astype("u2"), compress="RICE")
        raw = bytearray(path.read_bytes())
        path.write_bytes(raw[: len(raw) - 2880])
        with self.assertRaises(FrameError):
            read_plane(str(path))

    def test_raw_file_is_not_touched(self) -> None:
        path = Path(self.write("a.fits", np.zeros((10, 10), dtype=np.uint16)))
        path.chmod(0o444)
        before = path.stat().st_mtime_ns, path.read_bytes()
        read_frame(str(path))
        self.assertEqual((path.stat().st_mtime_ns, path.read_bytes()), before)


class Writing(FolderCase):
    """Float32 out with history and checksums."""

    def test_round_trip_with_cards_history_checksum_and_mask(self) -> None:
        source = self.write("raw.fits", np.zeros((8, 9), dtype=np.uint16), EXPTIME=2.0, OBJECT="field", SATURATE=60000)
        data = np.random.default_rng(3).normal(size=(8, 9)).astype(np.float32)
        mask = np.zeros((8, 9), dtype=np.uint16)
        mask[2, 3] = MaskBit.HOT
        out = self.folder / "out" / "ä.fits"
        write_fits(
            out, data, like=source, cards=[("EGAIN", 1.5, ""), ("OBJECT", None, "")], history=["step one", "on Gråsö.fits"], mask=mask,
            drop=("SATURATE",),
        )  # fmt: skip
        frame = read_frame(str(out))
        np.testing.assert_array_equal(frame.data, data)
        assert frame.mask is not None
        np.testing.assert_array_equal(frame.mask, mask)
        header = header_of(str(out))
        self.assertEqual((header["EXPTIME"], header["EGAIN"], header["BITPIX"]), (2.0, 1.5, -32))
        self.assertNotIn("SATURATE", header)
        self.assertNotIn("OBJECT", header)
        with fitsio.FITS(str(out)) as handle:
            result = handle[0].verify_checksum()
            self.assertIsNone(result)
            text = str(handle[0].read_header())
        self.assertIn("step one", text)
        self.assertIn("on Gr?s?.fits", text, "cards hold ASCII only")
        self.assertNotIn("BZERO", header)
        self.assertEqual(files_under(self.folder), {"raw.fits", "out/ä.fits"})

    def test_existing_output_is_kept(self) -> None:
        out = self.folder / "a.fits"
        write_fits(out, np.zeros((2, 2), dtype=np.float32))
        with self.assertRaises(OutputExists):
            write_fits(out, np.ones((2, 2), dtype=np.float32))
        self.assertEqual(read_plane(str(out)).max(), 0.0)
        write_fits(out, np.ones((2, 2), dtype=np.float32), replace=True)
        self.assertEqual(read_plane(str(out)).max(), 1.0)


class Finding(FolderCase):
    """Files, folders and globs."""

    def test_folders_globs_and_names(self) -> None:
        for name in ("a.fits", "sub/b.FIT", "sub/c.fits.fz", "sub/.hidden.fits", "d.txt", ".cache/e.fits", "odd.dat"):
            path = self.folder / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.touch()

        def names(*paths: str) -> tuple[list[str], list[str]]:
            fits, other = find_files([str(self.folder / p) for p in paths])
            return [Path(p).name for p in fits], [Path(p).name for p in other]

        self.assertEqual(names(""), (["a.fits", "b.FIT", "c.fits.fz"], ["d.txt", "odd.dat"]))
        self.assertEqual(names("*.fits", "a.fits")[0], ["a.fits"])
        self.assertEqual(names("odd.dat")[0], ["odd.dat"])
        self.assertEqual(names("**/*.f*")[0], ["a.fits", "c.fits.fz"])
        with self.assertRaises(FileNotFoundError):
            names("nope")
        with self.assertRaises(FileNotFoundError):
            names("*.zzz")


class Words(FolderCase):
    def test_a_header_full_of_words_is_carried_on_as_far_as_it_is_read(self) -> None:
        data = np.ones((4, 5), np.float32)
        like, out = self.folder / "like.fits", self.folder / "out.fits"
        write_fits(like, data, cards={"EXPTIME": 3.0}, history=[f"line {k}" for k in range(2500)])
        write_fits(out, data, like=str(like), history=["made anew"])
        lines = [value for name, value, _ in header_cards(str(out)) if name == "HISTORY"]
        self.assertEqual(lines[:2], ["line 0", "line 1"])
        self.assertEqual(lines[-2], "made anew")
        # A comment or two of the format itself count as well.
        self.assertTrue(1990 < len(lines) <= 2002, len(lines))
        self.assertEqual(header_of(str(out))["EXPTIME"], 3.0)
