"""Checks, and numbers among bits, as C."""

from __future__ import annotations

from msgspec import Struct

from eager_tern.export.layout import PIECE, WIDEST, Layout, runs
from eager_tern.export.names import in_comment
from eager_tern.protocol.positions import Positions
from eager_tern.protocol.schema import Check


def gathered(bits: Positions) -> str:
    """The number at these positions."""
    text = "0"
    for first, last, inverted in runs(bits):
        text = f"gather(bits, {text}, {first}, {last}, {str(inverted).lower()})"
    return text


def scattered(bits: Positions, value: str) -> str:
    """A statement that puts a number at these positions."""
    text = value
    for first, last, inverted in reversed(runs(bits)):
        text = f"scatter(bits, {text}, {first}, {last}, {str(inverted).lower()})"
    return f"(void){text};"


def suffix(width: int) -> str:
    """Behind a number of so many bits."""
    return "u" if width <= PIECE else "ull"


class CheckCode(Struct, frozen=True):
    """A check as C: what computes it, whether from the bits, and what puts and reads it."""

    about: str
    body: str
    asks: bool
    made: bool
    put: str
    found: str


def check_code(layout: Layout, check: Check) -> CheckCode:
    fields = {int(at) for field in layout.sheet.fields for at in field.bits.index}
    made = not fields & set(check.at.index.tolist())
    body = "\n".join(f"    {line}" for line in _check_lines(check))
    about = in_comment(f"{check.name}: {check.kind} at {check.at}")
    asks = check.kind != "constant"
    return CheckCode(about, body, asks, made, scattered(check.at, "value"), gathered(check.at))


def _check_lines(check: Check) -> list[str]:
    width = check.at.width
    mask = f"{(1 << width) - 1}{suffix(width)}"
    if check.kind == "constant":
        return [f"return {check.value & (1 << width) - 1}{suffix(width)};"]
    seed = check.init % check.modulus if check.modulus else check.init % (1 << WIDEST if width > PIECE else 1 << PIECE)
    lines = [f"number value = {seed}{suffix(seed.bit_length())};", *_chosen_seed(check)]
    if check.kind in ("copy", "complement"):
        sign = "~" if check.kind == "complement" else ""
        assert check.of is not None
        lines = [f"number value = {sign}{gathered(check.of)};"]
    elif check.kind == "linear":
        lines += _linear(check)
    else:
        lines += _by_units(check, mask)
    if check.carry and check.kind in ("sum", "xor"):
        lines.append(f"while (value >> {width}) value = (value & {mask}) + (value >> {width});")
    if check.kind == "crc" and check.reflect_out:
        lines.append("{ number turned = 0;")
        lines.append(f"  for (uint8_t i = 0; i < {width}; ++i) turned = turned << 1 | (value >> i & 1);")
        lines.append("  value = turned; }")
    if check.modulus:
        lines.append(f"value %= {check.modulus};")
    if check.negate:
        lines.append("value = (number)0 - value;")
    lines.append(f"value &= {mask};")
    if check.swap:
        lines.append(f"value = (value << 4 | value >> 4) & {mask};")
    lines.append(f"return value ^ {check.xor_out}{suffix(width)};" if check.xor_out else "return value;")
    return lines


def _chosen_seed(check: Check) -> list[str]:
    """What it begins with instead, where other bits choose that."""
    if check.by is None:
        return []
    choices = (f"case {raw}: value = {seed}{suffix(seed.bit_length())}; break;" for raw, seed in check.seeds.items())
    return [f"switch ({gathered(check.by)}) {{ {' '.join(choices)} }}"]


def _linear(check: Check) -> list[str]:
    """The table lies in program memory where its numbers fit what is read from there."""
    covered = [at for first, last in check.covers for at in range(first, last + 1)]
    small = max(check.columns) < 1 << 31
    kind, column = ("int32_t", "(number)ENTRY(&columns[i])") if small else ("number", "columns[i]")
    starts = ", ".join(f"{{ {first}, {last} }}" for first, last in check.covers)
    return [
        f"static const {kind} columns[]{' TABLE' if small else ''} = {{ {', '.join(map(str, check.columns))} }};",
        f"static const uint16_t covers[][2] = {{ {starts} }};",
        f"for (uint16_t i = 0, piece = 0, at = covers[0][0]; i < {len(covered)}; ++i) {{",
        f"    if (bit(bits, at)) value ^= {column};",
        f"    if (at++ == covers[piece][1] && i + 1 < {len(covered)}) at = covers[++piece][0];",
        "}",
    ]


def _by_units(check: Check, mask: str) -> list[str]:
    """What goes on from unit to unit."""
    step = _step(check, mask)
    if check.of is not None:
        return [f"const number unit = {gathered(check.of)};", *step]
    covers = ", ".join(f"{{ {first}, {last} }}" for first, last in check.covers)
    ends = "end, at" if check.order == "lsb" else "at, end"
    return [
        f"static const uint16_t covers[][2] = {{ {covers} }};",
        f"for (uint8_t i = 0; i < {len(check.covers)}; ++i) {{",
        f"    for (uint16_t at = covers[i][0]; at <= covers[i][1]; at = (uint16_t)(at + {check.unit})) {{",
        f"        const uint16_t rest = (uint16_t)(covers[i][1] - at), end = (uint16_t)(at + "
        f"(rest < {check.unit - 1} ? rest : {check.unit - 1}));",
        f"        const number unit = gather(bits, 0, {ends}, false);",
        *(f"        {line}" for line in step),
        "    }",
        "}",
    ]


def _step(check: Check, mask: str) -> list[str]:
    width = check.at.width
    if check.kind == "ones":
        return [f"for (uint8_t j = 0; j < {check.unit}; ++j) value += unit >> j & 1;"]
    if check.kind == "parity":
        return [f"for (uint8_t j = 0; j < {check.unit}; ++j) value ^= unit >> j & 1;"]
    if check.kind == "crc":
        place = "j" if check.reflect_in else f"({check.unit - 1} - j)"
        return [
            f"for (uint8_t j = 0; j < {check.unit}; ++j) {{",
            f"    const bool carry = (value >> {width - 1} & 1) != (unit >> {place} & 1);",
            f"    value = value << 1 & {mask};",
            f"    if (carry) value ^= {check.poly}{suffix(width)};",
            "}",
        ]
    turned = []
    if check.rotate:
        by = check.rotate % width
        turned = [f"value &= {mask};", f"value = (value << {by} | value >> {width - by}) & {mask};"]
    return [*turned, "value += unit;" if check.kind == "sum" else "value ^= unit;"]
