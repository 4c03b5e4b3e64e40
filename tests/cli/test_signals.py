"""A command that is told to end, or killed, leaves no worker and no half file behind."""

import shutil
import signal
import subprocess
import sys
import time

from bench.storm.marks import is_worker, members, spent
from tools.cases import files_under

from tests.cli.support import Command

# Whoever runs the tests in the background of a shell has Ctrl+C ignored, and what they start inherits that.
_ULVAR = """
import signal
signal.signal(signal.SIGINT, signal.default_int_handler)
from ulvar.cli.main import main
main()
"""


class Ended(Command):
    def begun(self, *, writing: bool = False) -> subprocess.Popen:
        """Start finding stars, and return the command while its workers find them, or when all are found and some are written."""
        lights = self.bare(40)
        command = subprocess.Popen(
            [sys.executable, "-c", _ULVAR, "stars", str(lights), "--table", str(self.folder / "t")],
            stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True, process_group=0,
        )  # fmt: skip
        self.addCleanup(command.wait)
        self.addCleanup(command.kill)

        def at_it() -> bool:
            if writing:
                return len(list(self.folder.glob("t/*.csv"))) > 2
            return sum(is_worker(process) and spent(process) > 0.05 for process in members(command.pid)) >= 2

        for _ in range(1200):
            if at_it() or command.poll() is not None:
                break
            time.sleep(0.05)
        self.assertIsNone(command.poll(), "it was done before it could be stopped")
        # All that it has started, the server that workers are forked from as well.
        self.assertGreaterEqual(len(members(command.pid)), 4)
        self.assertEqual(self.folder.joinpath("t").exists(), writing)
        return command

    def gone(self, command: subprocess.Popen) -> bool:
        """Whether all that a command has started ends; long after any would have without being told to, this waits no more."""
        for _ in range(200):
            if not members(command.pid):
                return True
            time.sleep(0.05)
        return False

    def test_told_to_end(self) -> None:
        for number in (signal.SIGTERM, signal.SIGINT):
            with self.subTest(number.name):
                command = self.begun(writing=number == signal.SIGTERM)
                command.send_signal(number)
                _, err = command.communicate(timeout=60)
                self.assertEqual(command.returncode, 130)
                self.assertNotIn("Traceback", err)
                self.assertTrue(self.gone(command))
                self.assertEqual([f for f in files_under(self.folder / "t") if f.startswith(".")], [])
                shutil.rmtree(self.folder / "t", ignore_errors=True)

    def test_ctrl_c_in_unlucky_moments(self) -> None:
        """In an object's finalizer it is not lost; a lock that is taken at that moment, and a thread that waits for it, hold nothing up."""
        for moment in (
            "class Kept:\n  def __del__(self): os.kill(os.getpid(), signal.SIGINT)\n Kept()\n time.sleep(20)",
            "try: raise KeyboardInterrupt\n finally: raise RuntimeError('release unlocked lock')",
            "threading.Thread(target=threading.Event().wait).start()\n raise KeyboardInterrupt",
        ):
            with self.subTest(moment):
                words = (
                    "import os, signal, threading, time\n"
                    "signal.signal(signal.SIGINT, signal.default_int_handler)\nfrom ulvar.cli import main as entry\n"
                    f"def work():\n {moment}\nentry.app = work\nentry.main()\n"
                )
                done = subprocess.run([sys.executable, "-c", words], capture_output=True, text=True, timeout=60)
                self.assertEqual((done.returncode, done.stderr), (130, ""))

    def test_killed(self) -> None:
        command = self.begun()
        command.kill()
        command.communicate(timeout=60)
        self.assertTrue(self.gone(command))
