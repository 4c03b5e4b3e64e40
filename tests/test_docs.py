"""What docs/ repeats of the code is what the code says now, and links lead somewhere."""

import re
import unittest

from tools.make_docs import DOCS, ROOT, pages


class Docs(unittest.TestCase):
    """Made pages, and links of the others."""

    def test_made_pages_are_those_of_the_code(self) -> None:
        for name, text in pages().items():
            with self.subTest(name=name):
                self.assertEqual((DOCS / name).read_text(encoding="utf-8"), text, "run: ./run docs")

    def test_links_lead_somewhere(self) -> None:
        for page in [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *DOCS.glob("*.md")]:
            for target in re.findall(r"\]\(([^)#:]+)(?:#[^)]*)?\)", page.read_text(encoding="utf-8")):
                with self.subTest(page=page.name, target=target):
                    self.assertTrue((page.parent / target).exists())

    def test_where_things_are(self) -> None:
        """Every file that the page names is there."""
        text = (DOCS / "where.md").read_text(encoding="utf-8")
        named = re.findall(r"`((?:[a-z_]+/)+[a-z_]+(?:\.py|\.sql)?)`", text)
        self.assertGreater(len(named), 25)
        for name in named:
            with self.subTest(name=name):
                place = ROOT / "src" / "ulvar" / name
                self.assertTrue(place.exists() or (ROOT / name).exists(), name)
