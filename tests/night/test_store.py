"""The night's file under several threads, one of which closes it."""

import threading
import time

from tools.cases import FolderCase

from ulvar.night.store import NightError, Store


class Closing(FolderCase):
    """Whoever closes waits for what runs; who comes later is told."""

    def test_a_statement_that_runs_is_waited_for(self) -> None:
        store = Store(self.folder / "n.sqlite")
        begun, told, ran = threading.Event(), [], []

        def runs() -> None:
            ran.append(1)
            begun.set()

        def ask() -> None:
            store.rows("SELECT 1")
            store._all[-1].connection.set_progress_handler(runs, 10_000)
            told.append(store.rows("WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM c LIMIT 3000000) SELECT sum(x) FROM c"))

        thread = threading.Thread(target=ask)
        thread.start()
        self.assertTrue(begun.wait(60))
        store.close()
        before = len(ran)
        thread.join(60)
        # It had its answer before the file was closed.
        self.assertEqual((told, len(ran)), ([[(3000000 * 3000001 // 2,)]], before))

    def test_a_transaction_is_waited_for_and_asks_within_itself(self) -> None:
        store = Store(self.folder / "n.sqlite")
        begun = threading.Event()

        def write() -> None:
            with store.transaction() as connection:
                connection.execute("INSERT OR REPLACE INTO meta (key, value) VALUES ('a', '1')")
                begun.set()
                time.sleep(0.2)
                self.count = store.rows("SELECT count(*) FROM meta WHERE key = 'a'")[0][0]

        thread = threading.Thread(target=write)
        thread.start()
        begun.wait(10)
        store.close()
        thread.join(10)
        self.assertEqual(self.count, 1)
        again = Store(self.folder / "n.sqlite")
        self.addCleanup(again.close)
        self.assertEqual(again.rows("SELECT count(*) FROM meta WHERE key = 'a'")[0][0], 1)

    def test_a_thread_that_asks_again_and_again_is_told(self) -> None:
        for _ in range(30):
            store = Store(self.folder / "n.sqlite")
            begun, wrong = threading.Event(), []

            def ask(store: Store = store, begun: threading.Event = begun, wrong: list[BaseException] = wrong) -> None:
                with store._connection():
                    pass
                link = store._link()
                begun.set()
                try:
                    while True:
                        # As by a thread that took its connection before the file was closed.
                        store._local.link = link
                        store.rows("SELECT key, value FROM meta")
                except NightError:
                    pass
                except BaseException as error:
                    wrong.append(error)

            thread = threading.Thread(target=ask)
            thread.start()
            begun.wait(10)
            store.close()
            thread.join(10)
            self.assertEqual((wrong, thread.is_alive()), ([], False))
