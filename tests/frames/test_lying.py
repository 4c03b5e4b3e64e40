"""Files that lie: whatever is in them, a reader gives what it read or a sentence with the file's name."""

import bz2
import gzip
import os
import tempfile
import unittest
from pathlib import Path

import fitsio
import numpy as np
import tifffile
from bench.made_files import write_dng
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tools.cases import FolderCase

from ulvar.frames import FrameError, open_rows, read_frame, read_plane, scan_images
from ulvar.frames.fits_header import header_cards
from ulvar.frames.fits_layout import units_of
from ulvar.frames.fits_open import is_packed
from ulvar.frames.frame import MaskBit
from ulvar.frames.gate import plain_reason, reading, without_nonsense


def card(name: str, value: str) -> bytes:
    return f"{name:<8}= {value:>20}".encode("latin-1").ljust(80)


def header(*cards: tuple[str, str]) -> bytes:
    text = b"".join(card(*c) for c in cards) + b"END".ljust(80)
    return text + b" " * (-len(text) % 2880)


def plain(bitpix: str, *axes: int) -> list[tuple[str, str]]:
    sizes = [(f"NAXIS{i + 1}", str(n)) for i, n in enumerate(axes)]
    return [("SIMPLE", "T"), ("BITPIX", bitpix), ("NAXIS", str(len(axes))), *sizes]


class Lying(FolderCase):
    """Each is told in its own words, the same by every reader."""

    def file(self, data: bytes, name: str = "a.fits") -> str:
        path = self.folder / name
        path.write_bytes(data)
        return str(path)

    def told(self, data: bytes, words: str, name: str = "a.fits") -> None:
        path = self.file(data, name)
        for reader in (scan_images, read_plane, open_rows, read_frame):
            with self.subTest(words, reader=reader.__name__), self.assertRaises(FrameError) as caught:
                reader(path)
            self.assertEqual(caught.exception.path, path)
            self.assertRegex(caught.exception.reason, words)
            self.assertNotIn("status", caught.exception.reason)

    def test_headers_that_make_no_sense(self) -> None:
        pixels = b"\0" * 2880
        self.told(header(*plain("7", 10, 10)) + pixels, "^its header gives BITPIX as 7$")
        self.told(header(*plain("NaN", 10, 10)) + pixels, "^its header gives BITPIX as NaN$")
        self.told(header(*plain("16", 10, -3)) + pixels, "^its header gives NAXIS2 as -3$")
        self.told(header(("SIMPLE", "T"), ("BITPIX", "16")) + pixels, "^its header does not say NAXIS$")
        self.told(header(*plain("16", 10)[:3], ("NAXIS1", "'ten'")) + pixels, "^its header gives NAXIS1 as 'ten'$")
        self.told(header(("SIMPLE", "T"), ("BITPIX", "16"), ("NAXIS", "1000")) + pixels, "NAXIS as 1000")
        self.told(b"SIMPLE  =                    T".ljust(80), "cut short: it ends within its header")
        self.told(b"hello" * 1000, "^this is not a FITS file$")

    def test_more_than_any_exposure_has_is_refused_before_memory_is_made(self) -> None:
        self.told(header(*plain("8", 2_000_000_000, 1)), "promises 2000000000 x 1 pixels; up to 1000 million")
        self.told(header(*plain("-64", 10, 10, 10_001)), "promises 10001 planes; up to 10000")
        self.told(header(*plain("16", 10, 10)[:1], *[("HISTORY", "x")] * 100_001), "longer than 100000 cards")
        # At the limit only the bytes are missing.
        self.told(header(*plain("8", 1000, 1_000_000)), r"cut short: it ends at 0.% of its rows")

    def test_scaling_that_leaves_no_value(self) -> None:
        for name, value in (("BSCALE", "0"), ("BSCALE", "1E300"), ("BSCALE", "-1E14"), ("BZERO", "-1E300"), ("BZERO", "2E18")):
            path = self.file(header(*plain("16", 10, 10), (name, value)) + b"\0" * 2880)
            with self.assertRaisesRegex(FrameError, f"{name}.*no pixel has a value"):
                read_plane(path)

    def test_values_that_no_exposure_holds_are_no_data(self) -> None:
        data = np.full((4, 5), 7.0, dtype=np.float32)
        data[0, :4] = np.inf, -np.inf, 3e38, -2e18
        path = self.write("a.fits", data)
        packed = self.folder / "b.fits.gz"
        packed.write_bytes(gzip.compress(Path(path).read_bytes()))
        tifffile.imwrite(self.folder / "c.tif", data)
        for place in (path, str(packed), str(self.folder / "c.tif")):
            frame = read_frame(place)
            self.assertEqual(np.isnan(frame.data).sum(), 4)
            assert frame.mask is not None
            np.testing.assert_array_equal(frame.mask == MaskBit.NO_DATA, np.isnan(frame.data))
            self.assertEqual(np.nansum(frame.data), 7 * 16)
        inside = np.array([1e17, -1e17, np.nan], dtype=np.float32)
        np.testing.assert_array_equal(without_nonsense(inside.copy()), inside)

    def test_letters_that_headers_may_not_hold(self) -> None:
        data = np.arange(1200, dtype=np.uint16).reshape(30, 40)
        path = Path(self.write("a.fits", data, OBJECT="none", IMAGETYP="Light"))
        raw = path.read_bytes()
        for text in ("'20 °C'".encode(), b"'caf\xe9 \x00'"):
            odd = raw.replace(b"'none    '", text.ljust(10), 1)
            self.assertEqual(len(odd), len(raw))
            place = self.file(odd, "odd.fits")
            (facts,) = scan_images(place)
            self.assertRegex(facts.object, r"^(20 \?\?C|caf\? \?)$")
            np.testing.assert_array_equal(read_plane(place), data)
            self.assertIn(("IMAGETYP", "Light"), [(name, value) for name, value, _ in header_cards(place)])
            # Packed, and in a file whose pixels only a library can unpack, the same.
            packed = self.file(gzip.compress(odd), "odd.fits.gz")
            np.testing.assert_array_equal(read_plane(packed), data)
            self.assertEqual(scan_images(packed)[0].object, facts.object)
            fitsio.write(str(self.folder / "t.fits.fz"), data, compress="RICE", header={"OBJECT": "none"}, clobber=True)
            tiles = (self.folder / "t.fits.fz").read_bytes().replace(b"'none    '", text.ljust(10), 1)
            np.testing.assert_array_equal(read_plane(self.file(tiles, "t.fits.fz")), data)

    def test_what_follows_the_last_unit_is_passed_over(self) -> None:
        data = np.arange(1200, dtype=np.uint16).reshape(30, 40)
        raw = Path(self.write("a.fits", data)).read_bytes()
        for tail in (b"junk", raw, b"\0" * 9000, b"SIMPLE"):
            place = self.file(raw + tail, "tail.fits")
            self.assertEqual(len(scan_images(place)), 1)
            np.testing.assert_array_equal(read_plane(place), data)

    def test_packed_files(self) -> None:
        data = np.arange(1200, dtype=np.uint16).reshape(30, 40)
        raw = Path(self.write("a.fits", data)).read_bytes()
        for name, packed in (
            ("a.fits.gz", gzip.compress(raw)),
            ("gz-by-content.fits", gzip.compress(raw + b"x" * 99)),
            ("b.fits", bz2.compress(raw)),
        ):
            place = self.file(packed, name)
            self.assertTrue(is_packed(place))
            np.testing.assert_array_equal(read_plane(place), data)
            self.assertEqual(scan_images(place)[0].width, 40)
        self.told(gzip.compress(raw)[:-200], "packed contents")
        self.told(gzip.compress(raw)[:60] + b"\xff" * 60, "packed contents")
        self.told(b"\x1f\x8b\x08\0" + b"x" * 30, "packed contents|cannot be understood")

    def test_a_packed_file_that_promises_too_much_is_not_unpacked(self) -> None:
        bomb = gzip.compress(header(*plain("16", 20_000, 20_000)) + b"\0" * 2_000_000)
        self.told(bomb, r"promises 800 MB, packed into 0\.0 MB")
        # What its header does not promise is not unpacked at all.
        data = np.arange(1200, dtype=np.uint16).reshape(30, 40)
        raw = Path(self.write("a.fits", data)).read_bytes()
        place = self.file(gzip.compress(raw + b"\0" * 50_000_000), "long.fits.gz")
        np.testing.assert_array_equal(read_plane(place), data)

    def test_tiles_that_decoders_would_divide_by(self) -> None:
        data = np.arange(1200, dtype=np.uint16).reshape(30, 40)
        fitsio.write(str(self.folder / "t.fits.fz"), data, compress="RICE", tile_dims=(1, 40), clobber=True)
        raw = (self.folder / "t.fits.fz").read_bytes()

        def with_value(name: str, value: str) -> bytes:
            at = raw.index(name.ljust(8).encode() + b"= ")
            return raw[:at] + card(name, value) + raw[at + 80 :]

        self.told(with_value("ZTILE1", "0"), "gives tiles of 0 on an axis of 40")
        self.told(with_value("ZNAXIS1", "2000000000"), "up to 1000 million")
        self.told(with_value("ZCMPTYPE", "'RICE_9'"), r"packed in a way that is not known \(RICE_9\)")
        self.told(with_value("ZBITPIX", "3"), "gives ZBITPIX as 3")

    def test_what_is_no_file(self) -> None:
        os.mkfifo(self.folder / "pipe.fits")
        (self.folder / "folder.fits").mkdir()
        (self.folder / "loop.fits").symlink_to("loop.fits")
        for name in ("pipe.fits", "folder.fits", "loop.fits", "none.fits", "none.tif", "folder.dng", "none.dng"):
            (self.folder / "folder.dng").mkdir(exist_ok=True)
            with self.subTest(name), self.assertRaises(FrameError) as caught:
                read_plane(str(self.folder / name))
            self.assertRegex(caught.exception.reason, "no ordinary file|no such file|symbolic|folder")

    def test_a_file_that_changes_while_it_is_read(self) -> None:
        for kind in ("plain", "tiles"):
            data = np.arange(1200, dtype=np.float32).reshape(30, 40)
            path = self.folder / f"{kind}.fits"
            fitsio.write(str(path), data, compress="RICE" if kind == "tiles" else None, clobber=True)
            rows = open_rows(str(path))
            rows.rows(0, 5)
            # Another exposure of the same size takes its name.
            other = self.folder / "other.fits"
            fitsio.write(str(other), data + 1, compress="RICE" if kind == "tiles" else None, clobber=True)
            other.replace(path)
            for read, which in ((rows.rows, 5), (rows.bands, [5])):
                with self.subTest(kind), self.assertRaisesRegex(FrameError, "has changed while it was read"):
                    read(which, 10)
            # Cut under the reader, it is told as well.
            fresh = open_rows(str(path))
            os.truncate(path, 3000)
            with self.subTest(kind), self.assertRaises(FrameError):
                fresh.rows(5, 30)

    def test_pictures_of_other_kinds(self) -> None:
        image = np.arange(4096, dtype=np.uint16).reshape(64, 64)
        tifffile.imwrite(self.folder / "a.tif", image)
        whole = (self.folder / "a.tif").read_bytes()
        self.told(whole[:3000], "cut short", "cut.tif")
        self.told(b"hello" * 100, "^this is not a TIFF file$", "text.tif")
        dng = Path(write_dng(self.folder / "a.dng", image)).read_bytes()
        kept = os.dup(2)
        with tempfile.TemporaryFile() as terminal:
            os.dup2(terminal.fileno(), 2)
            try:
                self.told(dng[:3000], "camera's raw file|damaged|cut short", "cut.dng")
                os.write(2, b"heard again")
            finally:
                os.dup2(kept, 2)
                os.close(kept)
            terminal.seek(0)
            self.assertEqual(terminal.read(), b"heard again", "the library's own words are no sentence")
        self.told(b"hello" * 100, "camera's raw file", "text.dng")

    def test_names_of_any_bytes(self) -> None:
        data = np.arange(1200, dtype=np.uint16).reshape(30, 40)
        source = Path(self.write("a.fits", data))
        for name in (
            b"\xff\xfe.fits", b"new\nline.fits", b"a'b\"c%s{0}[x].fits", b"-dash.fits", b"n" * 250 + b".fits", "µ°é.fits".encode(),
        ):  # fmt: skip
            place = self.folder / os.fsdecode(name)
            place.write_bytes(source.read_bytes())
            np.testing.assert_array_equal(read_plane(str(place)), data)
            self.assertEqual(scan_images(str(place))[0].path, str(place))


class Gate(unittest.TestCase):
    """No exception of a library passes."""

    def test_every_error_becomes_a_sentence(self) -> None:
        for error, words in (
            (MemoryError(), "it needs more memory than there is"),
            (ZeroDivisionError("x / 0"), "its contents cannot be understood: ZeroDivisionError, x / 0"),
            (OSError(2, "No such file"), "there is no such file"),
            (OSError(13, "Permission denied"), "the file may not be read (permission)"),
            (OSError("FITSIO status = 107: tried to move past end of file"), "the file is cut short: it ends before its pixels do"),
            (ValueError("FITSIO status = 414: error in imcompress"), "its compressed pixels are damaged"),
            (OSError("FITSIO status = 999: something"), "its structure is damaged"),
        ):
            with self.subTest(words), self.assertRaises(FrameError) as caught, reading("a/b.fits"):
                raise error
            self.assertEqual((caught.exception.path, caught.exception.reason), ("a/b.fits", words))
        with self.assertRaisesRegex(FrameError, "^x: as it is$"), reading("a/b.fits"):
            raise FrameError("x", "as it is")
        # To be asked to end is no fault of a file.
        with self.assertRaises(KeyboardInterrupt), reading("a/b.fits"):
            raise KeyboardInterrupt

    def test_no_status_numbers(self) -> None:
        for number in (104, 107, 108, 210, 225, 252, 412, 413, 414, 504):
            self.assertNotRegex(plain_reason(OSError(f"FITSIO status = {number}: words")), r"\d|status")


_LETTERS = st.binary(min_size=0, max_size=70)
_NAMES = st.sampled_from(
    [
        "BITPIX", "NAXIS", "NAXIS1", "NAXIS2", "NAXIS3", "BZERO", "BSCALE", "BLANK", "EXPTIME", "DATE-OBS", "FILTER", "GAIN", "EXTEND",
        "PCOUNT", "GCOUNT", "END",
    ]
)  # fmt: skip


class AnyCards(unittest.TestCase):
    """Property: cards of any bytes give facts or a sentence; nothing else, and never a unit beyond what they promise."""

    @settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.too_slow])
    @given(st.lists(st.tuples(_NAMES, _LETTERS), max_size=6), st.integers(0, 7))
    def test_scan(self, cards: list[tuple[str, bytes]], place: int) -> None:
        good = [card(*c) for c in plain("16", 6, 4)]
        odd = [(name.ljust(8).encode() + b"= " + value)[:80].ljust(80) for name, value in cards]
        text = b"".join([*good[:place], *odd, *good[place:]]) + b"END".ljust(80)
        data = text + b" " * (-len(text) % 2880) + b"\0" * 2880
        with tempfile.NamedTemporaryFile(suffix=".fits") as file:
            file.write(data)
            file.flush()
            for reader in (scan_images, read_plane, header_cards):
                try:
                    self.assertIsNotNone(reader(file.name))
                except FrameError as error:
                    self.assertEqual(error.path, file.name)

    @settings(max_examples=100, deadline=None)
    @given(st.lists(st.integers(1, 40), min_size=0, max_size=4), st.sampled_from([8, 16, 32, 64, -32, -64]), st.integers(0, 3))
    def test_units(self, axes: list[int], bits: int, more: int) -> None:
        size = int(np.prod(axes)) * abs(bits) // 8 if axes else 0
        first = header(*plain(str(bits), *axes)) + b"\0" * (-(-size // 2880) * 2880)
        extension = header(("XTENSION", "'IMAGE   '"), *plain("8", 7, 3)[1:], ("PCOUNT", "0"), ("GCOUNT", "1")) + b"\0" * 2880
        data = first + more * extension
        units = units_of(lambda start, count: data[start : start + count], "x")
        self.assertEqual(len(units), 1 + more)
        self.assertEqual((units[0].data_bytes, units[0].end), (size, len(first)))
        self.assertEqual([u.data_bytes for u in units[1:]], [21] * more)
        self.assertEqual(units[-1].end, len(data))

    def test_cards_begin_every_80_bytes_and_the_first_of_a_name_counts(self) -> None:
        words = b"COMMENT " + b"END     ".rjust(40) + b"NAXIS1  =                    9"
        cards = [card(*c) for c in [*plain("8", 5), ("NAXIS1", "7")]]
        text = b"".join([*cards, words.ljust(80), *[b"HISTORY".ljust(80)] * 290, card("PCOUNT", "3"), b"END".ljust(80)])
        data = text + b" " * (-len(text) % 2880) + b"\0" * 2880
        (unit,) = units_of(lambda start, count: data[start : start + count], "x")
        self.assertEqual((unit.data_start, unit.data_bytes), (len(data) - 2880, 8))

    def test_random_groups(self) -> None:
        """The first axis is 0 and does not count: 5 groups of 3 x 4 values with 2 more each."""
        told = (("GROUPS", "T"), ("PCOUNT", "2"), ("GCOUNT", "5"))
        first = header(*plain("-32", 0, 3, 4), *told) + b"\0" * 2880
        data = first + header(("XTENSION", "'IMAGE   '"), *plain("8", 7, 3)[1:], ("PCOUNT", "0"), ("GCOUNT", "1")) + b"\0" * 2880
        self.assertEqual([u.data_bytes for u in units_of(lambda start, count: data[start : start + count], "x")], [4 * 5 * 14, 21])
