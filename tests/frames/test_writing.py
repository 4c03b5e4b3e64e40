"""What is written: checksums by the standard, names with any characters, planes beside the pixels."""

import unittest
from pathlib import Path

import fitsio
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from tools.cases import FolderCase, files_under

from ulvar.frames import read_plane, scan_file, write_fits
from ulvar.frames._kernels import float32_to_swapped
from ulvar.frames.checksum import PLACEHOLDER, block_sum, encoded, fold, stamped


class Sums(unittest.TestCase):
    """Ones'-complement sums and their sixteen letters."""

    @given(st.lists(st.integers(0, 2**32 - 1), min_size=1, max_size=40))
    def test_sum_against_plain_python(self, words: list[int]) -> None:
        total = 0
        for word in words:
            total += word
            total = (total & 0xFFFFFFFF) + (total >> 32)
        self.assertEqual(block_sum(np.array(words, ">u4").tobytes()), total)

    @given(st.integers(0, 2**32 - 1))
    @settings(max_examples=300)
    def test_letters_are_letters_and_digits_and_cancel_the_sum(self, total: int) -> None:
        text = encoded(total)
        self.assertEqual(len(text), 16)
        self.assertTrue(text.isalnum() and text.isascii())
        # In its place in the card the value starts one byte before a word: turned back it adds up to the complement.
        turned = (text[1:] + text[0]).encode("ascii")
        zeros = (PLACEHOLDER[1:] + PLACEHOLDER[0]).encode("ascii")
        change = fold(block_sum(turned) + (~block_sum(zeros) & 0xFFFFFFFF))
        self.assertIn(fold(total + change), (0xFFFFFFFF, 0))

    def test_a_header_without_the_cards_is_an_error(self) -> None:
        with self.assertRaises(ValueError):
            stamped(b" " * 2880, 1)

    def test_swap_kernel(self) -> None:
        words = np.random.default_rng(1).integers(0, 2**32, 999, dtype=np.uint32)
        out = np.empty_like(words)
        total = float32_to_swapped(words, out)
        self.assertEqual(out.tobytes(), words.astype(">u4").tobytes())
        self.assertEqual(int(total), int(words.sum(dtype=np.uint64)))


class Written(FolderCase):
    """Files that another reader of the standard believes."""

    def check(self, path: Path) -> None:
        with fitsio.FITS(str(path)) as handle:
            for hdu in handle:
                self.assertEqual(hdu.verify_checksum(), None)

    def test_checksums_and_padding(self) -> None:
        rng = np.random.default_rng(2)
        for shape in ((1, 1), (7, 11), (720, 1), (300, 411)):
            data = rng.normal(0, 1e4, shape).astype(np.float32)
            data.flat[0] = np.nan
            mask = (rng.random(shape) < 0.3).astype(np.uint16)
            path = self.folder / f"{shape[0]}.fits"
            write_fits(path, data, cards={"EXPTIME": 3.0}, history=["one step"], mask=mask, maps={"REJECTED": mask})
            self.check(path)
            self.assertEqual(path.stat().st_size % 2880, 0)
            np.testing.assert_array_equal(read_plane(str(path)), data)
            np.testing.assert_array_equal(fitsio.read(str(path)), data)
            self.assertEqual(scan_file(str(path)).exposure_s, 3.0)

    def test_a_damaged_pixel_is_noticed(self) -> None:
        path = self.folder / "a.fits"
        write_fits(path, np.ones((50, 60), np.float32))
        body = bytearray(path.read_bytes())
        body[-3000] ^= 1
        path.write_bytes(bytes(body))
        with fitsio.FITS(str(path)) as handle, self.assertRaises((OSError, ValueError)):
            handle[0].verify_checksum()

    def test_any_name_and_folder(self) -> None:
        mask = np.ones((5, 6), np.uint16)
        for name in ("plain.fits", "odd [1](2).fits", "Größe+3.fits", "a{b}*.fits"):
            path = self.folder / "folder [x]" / name
            write_fits(path, np.full((5, 6), 4, np.float32), mask=mask)
            self.assertEqual(read_plane(str(path))[2, 2], 4.0)
        self.assertEqual(len(files_under(self.folder)), 4, "nothing is left beside them")
