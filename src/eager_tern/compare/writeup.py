"""A gadget written up to be published: how its frames look, what they mean, and how well that was proved."""

from __future__ import annotations

import html
import re
from collections.abc import Sequence
from xml.etree import ElementTree

import numpy as np
from msgspec import Struct

from eager_tern.compare.comparison import Comparison, column_signs
from eager_tern.compare.proof import Proof
from eager_tern.compare.wording import of_check, of_field, of_unexplained
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.values import Floats, Pulses

WIDTH, LINE_HEIGHT, MARK_HEIGHT = 900, 46, 20
BITS_A_LINE = 56
EXAMPLES = 6
INK, PAPER, GREEN, QUIET, RED = "#1B2A41", "#F6F1E4", "#2F7F79", "#5D6A70", "#B93823"
STYLE = f"""body {{ font: 16px/1.5 sans-serif; color: {INK}; background: {PAPER}; max-width: 920px; margin: 2em auto; }}
table {{ border-collapse: collapse; }}
td, th {{ border-bottom: 1px solid #cbbfa3; padding: 4px 14px 4px 0; text-align: left; }}
code, pre {{ font-family: monospace; font-size: 14px; }} svg {{ max-width: 100%; height: auto; }}"""


class Heading(Struct, frozen=True):
    text: str
    level: int = 2


class Text(Struct, frozen=True):
    text: str
    code: bool = False


class Rows(Struct, frozen=True):
    header: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]


class Figure(Struct, frozen=True):
    name: str
    caption: str
    svg: str


Block = Heading | Text | Rows | Figure


def write_up(
    found: Comparison, sheet: Sheet, pulses: Pulses, sheet_text: str, proof: Proof | None = None
) -> list[Block]:
    """The blocks of the write-up; ``pulses`` are those of one frame, ``sheet_text`` says all that was found as TOML."""
    stack = found.stack
    blocks: list[Block] = [
        Heading(sheet.name, 1),
        Text(
            f"{stack.columns} bits"
            + (f" in sections of {', '.join(map(str, stack.sections))}" if len(stack.sections) > 1 else "")
            + f", {sheet.code.replace('-', ' ')}, unit {sheet.unit_us:g} µs"
            + (f", carrier {sheet.carrier_hz / 1e3:g} kHz" if sheet.carrier_hz else "")
            + f". Found by comparing {stack.rows} recorded presses."
        ),
        Figure("timing", "One frame: marks are ink; times in milliseconds.", timing_svg(pulses)),
        Heading("Frame layout"),
        Text("Bits are counted from 0 in the order in which they are sent."),
        Figure("layout", "What each bit is: constant bits are empty.", layout_svg(found)),
        Heading("Fields"),
        Rows(("field", "meaning", "odds"), tuple(_field_rows(found))),
    ]
    if found.checks:
        told = [of_check(check, found, [""] * stack.rows) for check in found.checks]
        rows = [(each.title, each.claim, each.chance) for each in told]
        blocks += [Heading("Checks"), Rows(("check", "what it is", "odds"), tuple(rows))]
    if found.unexplained:
        blocks.append(Text(of_unexplained(found).claim))
    names = list(stack.labels)
    chosen = np.unique(np.linspace(0, stack.rows - 1, min(EXAMPLES, stack.rows)).astype(int))
    examples = [(*(_word(stack.labels[n][row]) for n in names), _hex(stack.bits[row])) for row in chosen]
    blocks += [Heading("Examples"), Rows((*names, "bits, first sent highest"), tuple(examples))]
    if proof is not None:
        said = f"{proof.words}, that is by a search that was not shown them."
        blocks += [Heading("Proof"), Text(said)]
    return [*blocks, Heading("Protocol sheet"), Text(sheet_text, code=True)]


def _field_rows(found: Comparison) -> list[tuple[str, ...]]:
    told = [of_field(field, found) for field in found.fields]
    return [(field.name, each.claim, each.chance) for field, each in zip(found.fields, told, strict=True)]


def _word(value: object) -> str:
    return "" if value is None else f"{value:g}" if isinstance(value, float) else str(value)


def _hex(bits: np.ndarray) -> str:
    return " ".join(f"{int(''.join(map(str, bits[i : i + 8])), 2):02X}" for i in range(0, len(bits), 8))


# Figures


def timing_svg(pulses: Pulses) -> str:
    """The pulses of a frame in lines of equal time."""
    edges = pulses.edge_times_us - pulses.start_us
    lines = max(1, int(np.ceil(edges[-1] / 30_000)))
    length = edges[-1] / lines * 1.001
    root = _svg(lines * LINE_HEIGHT + 12)
    for line in range(lines):
        begin, base = line * length, line * LINE_HEIGHT + 8 + MARK_HEIGHT
        _line(root, 40, base, WIDTH, base)
        _text(root, 0, base, f"{begin / 1e3:.1f}")
        for start, end in _within(edges, begin, begin + length):
            x, width = 40 + start / length * (WIDTH - 40), (end - start) / length * (WIDTH - 40)
            _rect(root, x, base - MARK_HEIGHT, max(width, 0.6), MARK_HEIGHT, INK)
    return ElementTree.tostring(root, "unicode")


def _within(edges: Floats, begin: float, end: float) -> list[tuple[float, float]]:
    """The marks between two moments, from the first."""
    marks = np.clip(edges.reshape(-1, 2), begin, end) - begin
    return [(float(a), float(b)) for a, b in marks if b > a]


def layout_svg(found: Comparison) -> str:
    """A cell a bit, in lines; fields carry a letter, checks a tick, counters a hash."""
    stack = found.stack
    lines = -(-stack.columns // BITS_A_LINE)
    root = _svg(lines * LINE_HEIGHT + 30)
    cell = (WIDTH - 40) / BITS_A_LINE
    for column, sign in enumerate(column_signs(found)):
        x, y = 40 + column % BITS_A_LINE * cell, column // BITS_A_LINE * LINE_HEIGHT + 16
        fill = {"·": "none", "✓": GREEN, "?": RED}.get(sign, INK)
        _rect(root, x, y, cell - 1.5, MARK_HEIGHT, fill, "#cbbfa3")
        if sign != "·":
            _text(root, x + cell / 2 - 4, y + 15, sign, PAPER)
        if column % 8 == 0:
            _text(root, x, y - 4, str(column))
    legend = "   ".join(f"{chr(ord('a') + n % 26)} {field.name}" for n, field in enumerate(found.fields))
    _text(root, 40, lines * LINE_HEIGHT + 20, legend + "   ✓ check   # counter   ? unexplained")
    return ElementTree.tostring(root, "unicode")


def _svg(height: float) -> ElementTree.Element:
    size = {"viewBox": f"0 0 {WIDTH} {height:.0f}", "width": str(WIDTH), "height": f"{height:.0f}"}
    return ElementTree.Element("svg", {"xmlns": "http://www.w3.org/2000/svg", **size, "font-family": "sans-serif"})


def _rect(
    root: ElementTree.Element, x: float, y: float, width: float, height: float, fill: str, edge: str = ""
) -> None:
    box = {"x": f"{x:.1f}", "y": f"{y:.1f}", "width": f"{width:.1f}", "height": f"{height:.1f}", "fill": fill}
    ElementTree.SubElement(root, "rect", box | ({"stroke": edge} if edge else {}))


def _line(root: ElementTree.Element, x1: float, y1: float, x2: float, y2: float) -> None:
    ends = {"x1": f"{x1:.1f}", "y1": f"{y1:.1f}", "x2": f"{x2:.1f}", "y2": f"{y2:.1f}", "stroke": QUIET}
    ElementTree.SubElement(root, "line", ends)


def _text(root: ElementTree.Element, x: float, y: float, words: str, fill: str = QUIET) -> None:
    text = ElementTree.SubElement(root, "text", {"x": f"{x:.1f}", "y": f"{y:.1f}", "font-size": "12", "fill": fill})
    text.text = words


# As text


def as_markdown(blocks: Sequence[Block]) -> str:
    """Markdown; figures stand as files of their name with ``.svg`` beside it."""
    out = []
    for block in blocks:
        match block:
            case Heading():
                out.append(f"{'#' * block.level} {_plain(block.text)}")
            case Text():
                fence = "`" * max(3, 1 + max((len(run) for run in re.findall("`+", block.text)), default=0))
                code = f"{fence}toml\n{block.text.rstrip()}\n{fence}"
                out.append(code if block.code else _plain(block.text))
            case Figure():
                out.append(f"![{_plain(block.caption)}](<{block.name}.svg>)")
            case Rows():
                lines = [tuple(map(_plain, row)) for row in (block.header, *block.rows)]
                lines.insert(1, ("---",) * len(block.header))
                out.append("\n".join(f"| {' | '.join(row)} |" for row in lines))
    return "\n\n".join(out) + "\n"


def _plain(text: str) -> str:
    """Words in which nothing means anything to Markdown, or to HTML within it: labels may hold whatever was typed."""
    flat = " ".join(text.split())
    return re.sub(r"([\\`*_\[\]|~])", r"\\\1", html.escape(flat, quote=False))


def as_html(blocks: Sequence[Block]) -> str:
    """A page that stands for itself, its figures inside."""
    title = next((html.escape(b.text) for b in blocks if isinstance(b, Heading)), "")
    out = [
        "<!DOCTYPE html>",
        '<html lang="en">',
        f'<meta charset="utf-8"><title>{title}</title>',
        f"<style>{STYLE}</style>",
    ]
    for block in blocks:
        match block:
            case Heading():
                out.append(f"<h{block.level}>{html.escape(block.text)}</h{block.level}>")
            case Text():
                text = html.escape(block.text)
                out.append(f"<pre>{text}</pre>" if block.code else f"<p>{text}</p>")
            case Figure():
                out.append(f"<figure>{block.svg}<figcaption>{html.escape(block.caption)}</figcaption></figure>")
            case Rows():
                head = "".join(f"<th>{html.escape(cell)}</th>" for cell in block.header)
                rows = "".join(
                    "<tr>" + "".join(f"<td>{html.escape(cell)}</td>" for cell in row) + "</tr>" for row in block.rows
                )
                out.append(f"<table><tr>{head}</tr>{rows}</table>")
    return "\n".join(out) + "\n</html>\n"
