"""Parts of one array over threads: order, cover, errors."""

from __future__ import annotations

import unittest
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from ulvar.engine import in_parts


class Parts(unittest.TestCase):
    """Every item once, in order, whatever the number of threads."""

    @given(st.integers(0, 500), st.integers(1, 9), st.integers(1, 80))
    def test_cover(self, size: int, threads: int, smallest: int) -> None:
        with mock.patch("ulvar.engine.threads.cv2.getNumThreads", lambda: threads):
            parts = in_parts(lambda a, b: list(range(a, b)), size, smallest=smallest)
        self.assertEqual([i for part in parts for i in part], list(range(size)))
        self.assertLessEqual(len(parts), threads)
        if len(parts) > 1:
            self.assertGreaterEqual(min(len(p) for p in parts), smallest)

    def test_errors_come_through(self) -> None:
        def work(a: int, b: int) -> None:
            raise ValueError("in a thread")

        with (
            mock.patch("ulvar.engine.threads.cv2.getNumThreads", lambda: 3),
            self.assertRaisesRegex(ValueError, "in a thread"),
        ):
            in_parts(work, 10)
