"""VOTables, in words and binary, and what somebody may send in the place of one."""

import base64
import gzip
import math
import struct
from pathlib import Path
from unittest import mock

import numpy as np
from tools.cases import FolderCase

from ulvar.astrometry import CatalogueError, load_catalogue
from ulvar.astrometry.tables import star_rows

FIELDS = """<FIELD name="id" datatype="char" arraysize="*"/><FIELD name="RA" datatype="double" unit="deg"/>
<FIELD name="Dec" datatype="double" unit="deg"/><FIELD name="Gmag" datatype="float" unit="mag"/>
<FIELD name="n" datatype="short"><VALUES null="-1"/></FIELD>"""
FIXED = FIELDS.replace('arraysize="*"', 'arraysize="3"')


def wrapped(inside: str, *, head: str = "", space: str = "") -> str:
    return f"""<?xml version="1.0"?>{head}
<{space}VOTABLE version="1.4" xmlns="http://www.ivoa.net/xml/VOTable/v1.3"><{space}RESOURCE><{space}TABLE>{inside}
</{space}TABLE></{space}RESOURCE></{space}VOTABLE>"""


class VoTables(FolderCase):
    def write(self, text: str, name: str = "t.vot") -> Path:
        path = self.folder / name
        path.write_text(text, encoding="utf-8")
        return path

    def read(self, path: Path) -> dict[str, list[float]]:
        whole: dict[str, list[float]] = {}
        for rows in star_rows(path):
            for name, values in rows.columns.items():
                whole.setdefault(name, []).extend(values.tolist())
        return whole

    def check(self, found: dict[str, list[float]], count: int) -> None:
        self.assertEqual(found["ra"], [10.5 + k for k in range(count)])
        self.assertEqual(found["dec"], [-5.25 + k for k in range(count)])
        np.testing.assert_allclose(found["G"], [7.5 if k != 1 else math.nan for k in range(count)])

    def words(self, count: int) -> str:
        rows = "".join(
            f"<TR><TD>s{k}</TD><TD>{10.5 + k}</TD><TD> {-5.25 + k} </TD><TD>{'' if k == 1 else 7.5}</TD><TD>-1</TD></TR>"
            for k in range(count)
        )
        return f"{FIELDS}<DATA><TABLEDATA>{rows}</TABLEDATA></DATA>"

    def binary(self, count: int, kind: str, *, fixed: bool) -> str:
        data = b""
        for k in range(count):
            name = f"s{k}"[:3].ljust(3).encode() if fixed else struct.pack(">I", k + 1) + b"x" * (k + 1)
            missing = k == 1
            flags = bytes([0b00010000 if missing else 0]) if kind == "BINARY2" else b""
            value = 99.0 if missing and kind == "BINARY2" else math.nan if missing else 7.5
            data += flags + name + struct.pack(">ddfh", 10.5 + k, -5.25 + k, value, -1)
        coded = base64.encodebytes(data).decode()
        return f'{FIXED if fixed else FIELDS}<DATA><{kind}><STREAM encoding="base64">{coded}</STREAM></{kind}></DATA>'

    def test_words_and_both_binaries(self) -> None:
        self.check(self.read(self.write(wrapped(self.words(5)))), 5)
        for kind in ("BINARY", "BINARY2"):
            for fixed in (True, False):
                with self.subTest(kind, fixed=fixed):
                    self.check(self.read(self.write(wrapped(self.binary(5, kind, fixed=fixed)))), 5)
        self.check(
            self.read(self.write(wrapped(self.words(3)).replace("<", "<v:").replace("<v:/", "</v:").replace("<v:?", "<?"), "n.xml")), 3
        )
        path = self.folder / "p.vot.gz"
        path.write_bytes(gzip.compress(wrapped(self.words(4)).encode()))
        self.check(self.read(path), 4)

    def test_in_portions(self) -> None:
        """However a portion cuts rows, cells and the letters that code them."""
        for inside in (self.words(60), *(self.binary(60, kind, fixed=fixed) for kind in ("BINARY", "BINARY2") for fixed in (True, False))):
            path = self.write(wrapped(inside))
            for chunk in (7, 64, 1001):
                with mock.patch("ulvar.astrometry.votable._CHUNK", chunk), mock.patch("ulvar.astrometry.votable._ROWS", 7):
                    self.check(self.read(path), 60)

    def test_null_values_and_the_first_table_alone(self) -> None:
        fields = FIELDS.replace('name="n"', 'name="Vmag"')
        rows = "<TR><TD>a</TD><TD>1</TD><TD>2</TD><TD>3</TD><TD>-1</TD></TR><TR><TD>b</TD><TD>5</TD><TD>6</TD><TD>7</TD><TD>8</TD></TR>"
        one = f"{fields}<DATA><TABLEDATA>{rows}</TABLEDATA></DATA>"
        second = '</TABLE><TABLE><FIELD name="q" datatype="int"/><DATA><TABLEDATA><TR><TD>1</TD></TR></TABLEDATA></DATA>'
        found = self.read(self.write(wrapped(one + second)))
        self.assertEqual((len(found["ra"]), math.isnan(found["V"][0]), found["V"][1]), (2, True, 8.0))
        stars = load_catalogue(self.folder / "t.vot")
        self.assertEqual(stars.bands["G"].tolist(), [3.0, 7.0])

    def test_what_is_sent_in_the_place_of_one(self) -> None:
        bomb = '<!DOCTYPE b [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;">]>'
        whole = wrapped(self.words(3))
        coded = wrapped(self.binary(3, "BINARY", fixed=True))
        for text, why in (
            (wrapped(self.words(2), head=bomb), "entities of its own"), (whole[: len(whole) // 2], "no whole VOTable"),
            ("<html><body>404 Not Found</body></html>", "holds no table"), ("", "no whole VOTable"), ("ra,dec\n1,2\n", "no whole VOTable"),
            (wrapped(f'{FIELDS}<DATA><BINARY><STREAM href="http://example.invalid/x"/></BINARY></DATA>'), "lie elsewhere"),
            (coded.replace('encoding="base64"', 'encoding="gzip"'), "coded by 'gzip'"),
            (coded.replace("</STREAM>", "AAAA</STREAM>"), "middle of a row"), (coded.replace("</STREAM>", "?</STREAM>"), "cannot be read"),
            (wrapped(f"{FIELDS}<DATA><FITS/></DATA>"), "FITS file of their own"),
            (wrapped("<GROUP>" * 100 + "</GROUP>" * 100), "without end"),
            (wrapped('<FIELD name="x" datatype="int"/><DATA><TABLEDATA><TR><TD>1</TD></TR></TABLEDATA></DATA>'), "no ra and dec"),
            (coded.replace('datatype="float"', 'datatype="quad"'), "unknown type 'quad'"),
        ):  # fmt: skip
            with self.subTest(why), self.assertRaisesRegex(CatalogueError, why):
                self.read(self.write(text))
