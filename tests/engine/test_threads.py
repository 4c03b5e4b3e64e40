"""Parts of one array over threads: order, cover, errors."""

import threading
import time
import unittest
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from ulvar.engine import in_parts


class Parts(unittest.TestCase):
    """Every item once, in order, whatever the number of threads."""

    @given(st.integers(0, 500), st.integers(1, 9), st.integers(1, 80), st.integers(1, 5))
    def test_cover(self, size: int, threads: int, smallest: int, each: int) -> None:
        with mock.patch("ulvar.engine.threads.cv2.getNumThreads", lambda: threads):
            parts = in_parts(lambda a, b: list(range(a, b)), size, smallest=smallest, each=each)
        self.assertEqual([i for part in parts for i in part], list(range(size)))
        self.assertLessEqual(len(parts), 1 if threads == 1 else threads * each)
        if len(parts) > 1:
            self.assertGreaterEqual(min(len(p) for p in parts), smallest)

    def test_several_parts_for_each_thread(self) -> None:
        at_once, most, lock = 0, 0, threading.Lock()

        def work(a: int, b: int) -> int:
            nonlocal at_once, most
            with lock:
                at_once += 1
                most = max(most, at_once)
            time.sleep(0.002)
            with lock:
                at_once -= 1
            return b - a

        with mock.patch("ulvar.engine.threads.cv2.getNumThreads", lambda: 3):
            self.assertEqual(in_parts(work, 60, smallest=5, each=4), [5] * 12)
            self.assertEqual(in_parts(work, 3, smallest=5), [3])
        for threads in (1, 2):
            with mock.patch("ulvar.engine.threads.cv2.getNumThreads", lambda n=threads: n):
                self.assertEqual(in_parts(work, 2), [2 // threads] * threads)
        self.assertLessEqual(most, 3)

    def test_errors_come_through(self) -> None:
        begun = []

        def work(a: int, b: int) -> None:
            begun.append(a)
            if a == 0:
                raise ValueError("in a thread")
            time.sleep(0.01)

        with mock.patch("ulvar.engine.threads.cv2.getNumThreads", lambda: 3), self.assertRaisesRegex(ValueError, "in a thread"):
            in_parts(work, 60, each=20)
        self.assertLess(len(begun), 30, "nobody goes on after it")
