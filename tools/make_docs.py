"""Makes the parts of docs/ that repeat what the code says: settings, findings, actions, and the picture of the rooms.

Usage: make_docs.py   (as `./run docs`)
"""

from __future__ import annotations

import sys
from collections.abc import Mapping
from pathlib import Path

import grimp

from ulvar.desktop.shell.actions import ACTIONS
from ulvar.inspection import CODES
from ulvar.night.schema import settings_of
from ulvar.night.settings import NightSettings

ROOT = Path(__file__).resolve().parent.parent
DOCS = ROOT / "docs"
_MADE = "<!-- Made by ./run docs from the code; changes here are lost. -->\n"
_BOX, _ROW, _GAP, _WIDE = 30, 84, 22, 980


def settings_page() -> str:
    """Return docs/settings.md."""
    lines = [
        _MADE,
        "# Settings",
        "",
        "Every setting of a night, as the slip, `recipe.toml` and the command line have it.",
        "",
    ]
    for section in type(NightSettings()).model_fields:
        told = settings_of(type(getattr(NightSettings(), section)))
        if not told:
            continue
        lines += [f"## {section.title()}", "", "| name | is called | does | default |", "|---|---|---|---|"]
        for entry in told:
            value = entry.default
            shown = f"{value * entry.scale:g}" if isinstance(value, float) else getattr(value, "value", value)
            shown = {True: "on", False: "off"}[value] if isinstance(value, bool) else shown
            unit = f" {entry.unit}" if entry.unit else ""
            choices = "".join(
                f"<br>{title} (`{getattr(key, 'value', key)}`): {words}"
                for key, (title, words) in entry.choices.items()
            )
            default = entry.unset or "none" if value in ("", [], None) else f"{shown}{unit}"
            lines.append(f"| `{section}.{entry.name}` | {entry.title} | {entry.sentence}{choices} | {default} |")
        lines.append("")
    return "\n".join(lines)


def findings_page() -> str:
    """Return docs/findings.md."""
    lines = [
        _MADE,
        "# Findings",
        "",
        "What Ulvar may notice. The code is what `--json` has; a finding says more, with its numbers.",
        "",
    ]
    for station in dict.fromkeys(entry.station for entry in CODES.values()):
        lines += [
            f"## {station.title()}",
            "",
            "| code | severity | says that | on the night line |",
            "|---|---|---|---|",
        ]
        lines += [
            f"| `{e.code}` | {e.severity.word} | {e.meaning[:1].lower()}{e.meaning[1:]} | {e.line} |"
            for e in CODES.values()
            if e.station == station
        ]
        lines.append("")
    return "\n".join(lines)


def actions_page() -> str:
    """Return docs/actions.md."""
    titles = {"file": "File", "edit": "Edit", "go": "Stations", "run": "Run", "view": "View", "help": "Help"}
    lines = [_MADE, "# Actions and keys", "", "`Ctrl+K` finds each of them by a few letters.", ""]
    for menu, title in titles.items():
        lines += [f"## {title}", "", "| action | keys | does |", "|---|---|---|"]
        lines += [
            f"| {a.text} | {f'`{a.keys}`' if a.keys else ''} | {a.tip.replace('|', '&#124;')} |"
            for a in ACTIONS
            if a.menu == menu
        ]
        lines.append("")
    return "\n".join(lines)


def room_imports(parent: str, depth: int) -> dict[str, dict[str, int]]:
    """Return room to the rooms that it imports, with the number of modules that do, from the real imports."""
    graph = grimp.build_graph("ulvar")
    rooms: dict[str, dict[str, int]] = {}

    def room(module: str) -> str:
        parts = module.split(".")
        known = module.startswith(parent + ".") and len(parts) > depth and parts[depth] != "__main__"
        return parts[depth] if known else ""

    for module in graph.modules:
        mine = room(module)
        if not mine:
            continue
        targets = {room(other) for other in graph.find_modules_directly_imported_by(module)} - {mine, ""}
        known = rooms.setdefault(mine, {})
        for target in targets:
            known[target] = known.get(target, 0) + 1
    return rooms


def _levels(rooms: Mapping[str, Mapping[str, int]]) -> dict[str, int]:
    """Return room to how many rooms stand below it, one on the other."""
    levels: dict[str, int] = {}

    def level(name: str) -> int:
        if name not in levels:
            levels[name] = 1 + max((level(other) for other in rooms.get(name, {})), default=-1)
        return levels[name]

    for name in sorted(rooms):
        level(name)
    return levels


def _breadth(count: int) -> float:
    """Return a line's width: in steps, so that a single import more does not change the picture."""
    return next((width for most, width in ((2, 0.8), (6, 1.6), (15, 2.6)) if count <= most), 4.0)


def rooms_picture(rooms: Mapping[str, Mapping[str, int]], title: str) -> str:
    """Return an SVG: a box a room, each on those that it imports; a line an import, the broader the more modules."""
    levels = _levels(rooms)
    rows = max(levels.values()) + 1
    place: dict[str, tuple[float, float, float]] = {}
    for row in range(rows):
        names = sorted(name for name, level in levels.items() if level == row)
        widths = [16 + 8.2 * len(name) for name in names]
        left = (_WIDE - sum(widths) - _GAP * 3 * (len(names) - 1)) / 2
        for name, width in zip(names, widths):
            place[name] = left, 56 + (rows - 1 - row) * _ROW, width
            left += width + 3 * _GAP
    height = 56 + rows * _ROW
    out = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {_WIDE} {height}" font-family="Inter, sans-serif" font-size="14">',
        f'<rect width="{_WIDE}" height="{height}" fill="#F6F7F9"/>',
        f'<text x="24" y="32" font-size="17" font-weight="600" fill="#18202A">{title}</text>',
    ]
    for name in sorted(rooms):
        for other, count in sorted(rooms[name].items()):
            x0, y0, w0 = place[name]
            x1, y1, w1 = place[other]
            a, b, c, d = x0 + w0 / 2, y0 + _BOX, x1 + w1 / 2, y1
            bend = (d - b) / 2
            out.append(
                f'<path d="M{a:.0f} {b:.0f} C{a:.0f} {b + bend:.0f} {c:.0f} {d - bend:.0f} {c:.0f} {d:.0f}" fill="none" '
                f'stroke="#3D5E80" stroke-opacity="0.45" stroke-width="{_breadth(count)}"/>'
            )
    for name, (x, y, width) in sorted(place.items()):
        out.append(
            f'<rect x="{x:.0f}" y="{y:.0f}" width="{width:.0f}" height="{_BOX}" rx="4" fill="#FFFFFF" stroke="#717C87"/>'
        )
        out.append(f'<text x="{x + width / 2:.0f}" y="{y + 20:.0f}" text-anchor="middle" fill="#18202A">{name}</text>')
    return "\n".join([*out, "</svg>", ""])


def pages() -> dict[str, str]:
    """Return file name to text of all that is made."""
    return {
        "settings.md": settings_page(), "findings.md": findings_page(), "actions.md": actions_page(),
        "rooms.svg": rooms_picture(room_imports("ulvar", 1), "The rooms of Ulvar: each imports only what stands below it"),
        "rooms-desktop.svg": rooms_picture(room_imports("ulvar.desktop", 2), "The rooms of the window"),
    }  # fmt: skip


def main() -> int:
    """Write them."""
    for name, text in pages().items():
        (DOCS / name).write_text(text, encoding="utf-8")
        print(f"docs/{name}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
