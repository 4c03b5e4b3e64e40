"""Damaged files: every mutator takes good bytes and a random generator, and returns bad bytes. The same seed gives the same."""

from __future__ import annotations

import gzip
import random
import struct
from collections.abc import Callable

Mutator = Callable[[bytes, random.Random], bytes]

_NUMBERS = [
    "0", "-1", "1", "7", "99", "-32", "2000000000", "99999999999999999999", "1E308", "-1E308", "1E-320", "1E400", "NaN",
    "0.0", "T", "'text    '", "''", "(1.0, 2.0)", "'1E5'", "-0", "1.5", "       ",
]  # fmt: skip
_TEXTS = [
    "''", "'../../x'", "'/etc/x'", "'nan'", "'a''b'", "'" + "x" * 67 + "'", "'\u00b5\u00e9'", "'%s{0}\\n'", "42", "T", "'[1:2'",
    "'[0:0,0:0]'", "'[9:1,-5:2000000000]'", "'2027-13-45T99:99:99'", "'0000-00-00T00:00:00'", "'2027-02-11T23:59:60'",
    "'unclosed", "'99:99:99'", "'-00:00:61'", "'RGGBX'", "'RICE_9'", "'../'", "'.'", "'*'",
]  # fmt: skip
_CARDS = [
    "SIMPLE", "BITPIX", "NAXIS", "NAXIS1", "NAXIS2", "NAXIS3", "PCOUNT", "GCOUNT", "TFIELDS", "TFORM1", "ZBITPIX", "ZNAXIS",
    "ZNAXIS1", "ZNAXIS2", "ZTILE1", "ZTILE2", "ZCMPTYPE", "ZQUANTIZ", "ZVAL1", "ZVAL2", "BZERO", "BSCALE", "BLANK", "EXTEND",
    "EXTNAME", "THEAP",
]  # fmt: skip
_FACTS = [
    "EXPTIME", "DATE-OBS", "FILTER", "OBJECT", "IMAGETYP", "GAIN", "EGAIN", "OFFSET", "CCD-TEMP", "SET-TEMP", "XBINNING", "YBINNING",
    "RA", "DEC", "OBJCTRA", "OBJCTDEC", "SITELAT", "SITELONG", "SITEELEV", "FOCALLEN", "APTDIA", "XPIXSZ", "SATURATE", "RDNOISE",
    "BAYERPAT", "BIASSEC", "TRIMSEC", "PEDESTAL", "INSTRUME", "ROWORDER",
    "CTYPE1", "CTYPE2", "CRVAL1", "CRVAL2", "CRPIX1", "CD1_1", "CD1_2", "CD2_1", "CD2_2", "A_ORDER", "B_ORDER", "A_2_0",
]  # fmt: skip


def _header_end(data: bytes, start: int = 0) -> int:
    """Return where a header's blocks end; the whole length where no END is found."""
    at = start
    while at + 80 <= len(data):
        if data[at : at + 8] == b"END     ":
            return start + -(-(at + 80 - start) // 2880) * 2880
        at += 80
    return len(data)


def _headers(data: bytes) -> list[tuple[int, int]]:
    """Return (start, end) of the headers of a FITS file, found by their first cards."""
    found = [(0, _header_end(data))]
    at = data.find(b"XTENSION= ", found[0][1])
    while at >= 0:
        if at % 2880 == 0:
            found.append((at, _header_end(data, at)))
        at = data.find(b"XTENSION= ", at + 80)
    return found


def _card(name: str, value: str, comment: str = "") -> bytes:
    text = f"{name:<8}= {value:>20}" + (f" / {comment}" if comment else "")
    return text.encode("latin-1", "replace")[:80].ljust(80)


def _with_card(data: bytes, header: tuple[int, int], card: bytes) -> bytes:
    """Return the file with a card replaced where it stands, else put before END (the header may grow by a block)."""
    start, end = header
    for at in range(start, end, 80):
        if data[at : at + 8] == card[:8]:
            return data[:at] + card + data[at + 80 :]
        if data[at : at + 8] == b"END     ":
            grown = data[start:at] + card + b"END".ljust(80)
            return data[:start] + grown + b" " * (-len(grown) % 2880) + data[end:]
    return data


def layout_card(data: bytes, rng: random.Random) -> bytes:
    """A card about the file's layout says something else."""
    header = rng.choice(_headers(data))
    value = rng.choice(_NUMBERS if rng.random() < 0.8 else _TEXTS)
    return _with_card(data, header, _card(rng.choice(_CARDS), value))


def fact_card(data: bytes, rng: random.Random) -> bytes:
    """One to three facts of the exposure say something else, or more than there is room for."""
    for _ in range(rng.randint(1, 3)):
        header = rng.choice(_headers(data))
        value = rng.choice(_NUMBERS if rng.random() < 0.6 else _TEXTS)
        comment = rng.choice(["", "[s] \u00b0C", "x" * 60])
        data = _with_card(data, header, _card(rng.choice(_FACTS), value, comment))
    return data


def header_bytes(data: bytes, rng: random.Random) -> bytes:
    """A few bytes of a header are others."""
    out = bytearray(data)
    start, end = rng.choice(_headers(data))
    for _ in range(rng.choice([1, 1, 2, 5, 40])):
        out[rng.randrange(start, max(start + 1, end))] = rng.randrange(256)
    return bytes(out)


def odd_cards(data: bytes, rng: random.Random) -> bytes:
    """Cards that are no cards: without a name, twice, continued nowhere, not ASCII, after END, or no END at all."""
    header = rng.choice(_headers(data))
    which = rng.randrange(8) if data else 0
    if which == 0:
        return _with_card(
            data, header, "COMMENT  \u00b5m, 20 \u00b0C".encode(rng.choice(["utf-8", "latin-1"])).ljust(80)
        )
    if which == 1:
        return _with_card(data, header, b"OBJECT  = 'caf\xe9 \xff\x00'".ljust(80))
    if which == 2:
        return _with_card(data, header, b"CONTINUE  'goes on &'".ljust(80))
    if which == 3:
        start = header[0]
        at = start + 80 * rng.randrange(1, max(2, (header[1] - start) // 80))
        return data[:at] + data[at - 80 : at] + data[at + 80 :]
    if which == 4:
        return data.replace(b"END     ", b"ENT     ", 1)
    if which == 5:
        at = header[0] + 80 * rng.randrange(0, 8)
        return data[:at] + b"END".ljust(80) + data[at + 80 :]
    if which == 6:
        return _with_card(data, header, b"HIERARCH \xc3\xa9 very long name = 1".ljust(80))
    return _with_card(data, header, bytes(rng.randrange(256) for _ in range(80)))


def long_header(data: bytes, rng: random.Random) -> bytes:
    """A header of very many cards."""
    start, end = _headers(data)[0]
    lines = b"".join(f"HISTORY  line {i}".encode().ljust(80) for i in range(rng.choice([500, 40_000])))
    body = data[start:end]
    at = body.rfind(b"END     ")
    body = body[:at] + lines + b"END".ljust(80)
    return body + b" " * (-len(body) % 2880) + data[end:]


def cut(data: bytes, rng: random.Random) -> bytes:
    """The file ends early."""
    return data[: rng.choice([0, 1, 79, 80, 2879, 2880, len(data) // 2, len(data) - 1, rng.randrange(len(data) + 1)])]


def grown(data: bytes, rng: random.Random) -> bytes:
    """Something follows the file's end."""
    tail = rng.choice(
        [
            b"\0" * 2880,
            b"junk",
            b"XTENSION= 'IMAGE   '".ljust(2880),
            data,
            bytes(rng.randrange(256) for _ in range(5000)),
        ]
    )
    return data + tail


def blocks(data: bytes, rng: random.Random) -> bytes:
    """A run of bytes is noise, zeros, ones, or in another place."""
    if len(data) < 4000:
        return data[::-1]
    size = rng.choice([1, 16, 512, 2880, len(data) // 3])
    at, to = rng.randrange(len(data) - size + 1), rng.randrange(len(data) - size + 1)
    fill = rng.choice([b"\0" * size, b"\xff" * size, data[to : to + size], rng.randbytes(size)])
    return data[:at] + fill + data[at + size :]


def other_kind(data: bytes, rng: random.Random) -> bytes:
    """Not what its name says."""
    return rng.choice(
        [
            b"", b"\0" * 5760, b"hello\n", b"\xff\xd8\xff\xe0" + b"\0" * 200, b"II*\0\x08\0\0\0", b"\x1f\x8b\x08\0" + b"x" * 30,
            b"SIMPLE  =                    T".ljust(80), gzip.compress(data[:9000]), b"BZh9" + rng.randbytes(50),
            b"SIMPLE  =                    T".ljust(2880, b"\0"), rng.randbytes(9000),
        ]
    )  # fmt: skip


def image(width: int, height: int, values: str, bitpix: int = -32, extra: dict[str, str] | None = None) -> bytes:
    """Return a FITS image whose pixels are all of one kind: ``nan``, ``inf``, ``-inf``, or a number."""
    cards = {
        "SIMPLE": "T",
        "BITPIX": str(bitpix),
        "NAXIS": "2",
        "NAXIS1": str(width),
        "NAXIS2": str(height),
        **(extra or {}),
    }
    head = b"".join(_card(k, v) for k, v in cards.items()) + b"END".ljust(80)
    head += b" " * (-len(head) % 2880)
    kind = {-32: ">f", -64: ">d", 16: ">h", 32: ">i", 8: ">B"}[bitpix]
    number = float(values) if bitpix < 0 else int(values)
    body = struct.pack(kind, number) * (width * height)
    return head + body + b"\0" * (-len(body) % 2880)


def flat_pixels(data: bytes, rng: random.Random) -> bytes:
    """Pixels that are no picture: all NaN, infinite, one value, at the edge of what a type holds."""
    extra = {
        "IMAGETYP": rng.choice(["'Light'", "'Flat'", "'Dark'", "'Bias'"]),
        "EXPTIME": rng.choice(["30.", "0.", "240."]),
    }
    extra["FILTER"] = "'V'"
    width, height = rng.choice([(300, 225), (300, 225), (1, 1), (3, 200), (300, 1), (17, 17)])
    if rng.random() < 0.3:
        extra["BSCALE"], extra["BZERO"] = rng.choice(
            [("1E308", "0"), ("0", "0"), ("1", "1E300"), ("NaN", "0"), ("-1", "0"), ("1E-300", "5")]
        )
        return image(width, height, rng.choice(["0", "32767", "-32768", "1"]), 16, extra)
    return image(
        width, height, rng.choice(["nan", "inf", "-inf", "0", "1E30", "-5", "65535", "3E38", "1E-40"]), -32, extra
    )


def odd_floats(data: bytes, rng: random.Random) -> bytes:
    """A float image in which rows, columns or single pixels are no numbers."""
    made = bytearray(
        image(300, 225, "500", -32, {"IMAGETYP": "'Light'", "EXPTIME": "30.", "FILTER": "'V'", "GAIN": "1"})
    )
    start = _header_end(bytes(made))
    for _ in range(rng.choice([1, 20, 3000, 60_000])):
        at = start + 4 * rng.randrange(300 * 225)
        made[at : at + 4] = struct.pack(">f", rng.choice([float("nan"), float("inf"), -3e38, 3e38, 0.0, 6e4]))
    return bytes(made)


def sizes(data: bytes, rng: random.Random) -> bytes:
    """A header that promises more than there can be."""
    axes = rng.choice(
        [
            [2_000_000_000, 1], [1, 2_000_000_000], [46_341, 46_341], [100_000, 100_000], [100, 100, 2_000_000], [1] * 20 + [5],
            [2**31 - 1, 2**31 - 1], [2**40, 2**40], [300, 225, 1000], [10, 10, 10, 10, 10, 10], [-5, 7], [0, 0],
        ]
    )  # fmt: skip
    cards = {"SIMPLE": "T", "BITPIX": rng.choice(["16", "-32", "-64", "8"]), "NAXIS": str(len(axes))}
    cards |= {f"NAXIS{i + 1}": str(n) for i, n in enumerate(axes)}
    head = b"".join(_card(k, v) for k, v in cards.items()) + b"END".ljust(80)
    return head + b" " * (-len(head) % 2880) + b"\0" * rng.choice([0, 2880, 288_000])


def bomb(data: bytes, rng: random.Random) -> bytes:
    """A packed file that unpacks to far more than its header says, or to what it says and no machine has."""
    if rng.random() < 0.5:
        return gzip.compress(data + b"\0" * 64_000_000, 1)
    cards = {"SIMPLE": "T", "BITPIX": "16", "NAXIS": "2", "NAXIS1": "60000", "NAXIS2": "60000"}
    head = b"".join(_card(k, v) for k, v in cards.items()) + b"END".ljust(80)
    return gzip.compress(head + b" " * (-len(head) % 2880) + b"\0" * 40_000_000, 1)


def packed(data: bytes, rng: random.Random) -> bytes:
    """A packed file with damage inside or outside."""
    out = bytearray(gzip.compress(rng.choice(FITS[:8])(data, rng) if rng.random() < 0.5 else data, 1))
    if rng.random() < 0.5:
        return bytes(out)[: rng.randrange(len(out))]
    for _ in range(rng.choice([0, 1, 30])):
        out[rng.randrange(len(out))] = rng.randrange(256)
    return bytes(out)


FITS: list[Mutator] = [
    layout_card, layout_card, fact_card, fact_card, header_bytes, odd_cards, cut, blocks, grown, other_kind, flat_pixels, odd_floats,
    sizes, long_header,
]  # fmt: skip


def binary(data: bytes, rng: random.Random) -> bytes:
    """Damage that knows nothing of the format (TIFF, raw files, stores)."""
    if rng.random() < 0.3 or not data:
        return rng.choice([cut, grown, other_kind])(data, rng)
    out = bytearray(data)
    # Tags stand at the start and at the end.
    for _ in range(rng.choice([1, 2, 8, 60])):
        near = rng.randrange(min(len(out), 400)) if rng.random() < 0.6 else rng.randrange(len(out))
        out[near] = rng.choice([0, 1, 2, 4, 127, 128, 255, rng.randrange(256)])
    return bytes(out)


_CELLS = [
    "", "nan", "inf", "-inf", "1e400", "-1", "0", "text", "\u00b5", '"', '"open', ",,,", "99999999999999999999", "12:34:56", "true",
    "2027-02-11", "=1+1", "x" * 200_000, "\0", "1;2", "1,5", "-90.0001", "360",
]  # fmt: skip


def table(data: bytes, rng: random.Random) -> bytes:
    """A table (CSV) with wrong cells, columns, lines, bytes."""
    text = data.decode("utf-8", "replace")
    lines = text.split("\n")
    which = rng.randrange(9)
    if which == 0:
        return rng.choice(
            [b"", b"\n\n\n", b"\xef\xbb\xbf" + data, data.replace(b"\n", b"\r"), b"\0" * 300, data[: len(data) // 2]]
        )
    if which == 1:
        return binary(data, rng)
    if which == 2:
        lines = lines[:1]
    elif which == 3:
        lines = lines[1:]
    elif which == 4:
        names = lines[0].split(",")
        names[rng.randrange(len(names))] = rng.choice(["", "other", names[0]])
        lines[0] = ",".join(names)
    elif which == 5:
        at = rng.randrange(len(lines))
        lines[at] = rng.choice(["", lines[at] + ",9,9,9", lines[at].rpartition(",")[0], "#", ",".join(["1"] * 500)])
    elif which == 6:
        lines += lines[1:3]
    else:
        for _ in range(rng.choice([1, 3])):
            at = rng.randrange(min(len(lines), 60))
            cells = lines[at].split(",")
            cells[rng.randrange(len(cells))] = rng.choice(_CELLS)
            lines[at] = ",".join(cells)
    return "\n".join(lines).encode("utf-8", "replace")


def recipe(data: bytes, rng: random.Random) -> bytes:
    """A recipe (TOML) with keys missing, doubled, of other types, out of range."""
    lines = data.decode("utf-8", "replace").split("\n")
    which = rng.randrange(6)
    if which == 0:
        return binary(data, rng)
    if which == 1:
        del lines[rng.randrange(len(lines))]
    elif which == 2:
        at = rng.randrange(len(lines))
        lines.insert(at, lines[at])
    elif which == 3:
        return rng.choice(
            [
                b"",
                b"x",
                b"[recipe]",
                b"version = 99",
                b"[[a]]\n[a]\n",
                b"a = [1, 'x']\n",
                data + b"\n[unknown]\nx = 1\n",
            ]
        )
    else:
        for _ in range(rng.choice([1, 2])):
            keyed = [i for i, line in enumerate(lines) if " = " in line]
            at = rng.choice(keyed) if keyed else 0
            name = lines[at].partition(" = ")[0]
            value = rng.choice(
                [
                    "1",
                    "-1",
                    "0",
                    "nan",
                    "inf",
                    "true",
                    '""',
                    '"x"',
                    "[]",
                    "[1, 2]",
                    "{}",
                    "1e300",
                    "2027-02-11",
                    '["a", 1]',
                    "'../../x'",
                    "{a = {b = 1}}",
                ]
            )
            lines[at] = f"{name} = {value}"
    return "\n".join(lines).encode()
