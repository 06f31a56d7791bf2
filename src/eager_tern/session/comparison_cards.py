"""What a comparison found, as cards."""

from __future__ import annotations

import numpy as np

from eager_tern.compare.asking import press_to_tell
from eager_tern.compare.checks import Found
from eager_tern.compare.comparison import Comparison, named
from eager_tern.compare.fields import Field, Table
from eager_tern.compare.stack import Label, label_word
from eager_tern.protocol.positions import positions_text
from eager_tern.session.cards import Card, Status
from eager_tern.session.words import plural

SURE = -3.0  # log10 of an accident
MOST_NAMED = 3
KINDS = {
    "sum": "the sum of", "xor": "the exclusive-or of", "crc": "a CRC over", "complement": "the complement of",
    "copy": "a copy of", "parity": "the parity of", "linear": "a digest, linear over exclusive-or, of",
}  # fmt: skip


def cards_for_comparison(found: Comparison, names: list[str]) -> list[Card]:
    """A card for each field, check and counter, and one for what is left; ``names`` are what rows are called."""
    cards = [_field_card(field, found, letter) for letter, field in enumerate(found.fields)]
    silent = [name for name in found.stack.labels if name not in {field.name for field in found.fields}]
    cards += [_silent_card(name, found.stack.labels[name]) for name in silent]
    cards += [_check_card(check, found, names) for check in found.checks]
    for counter in found.counters:
        what = {"counter": "count up from press to press", "toggle": "turns round with each press"}
        text = f"Bit{'s' if len(counter.positions) > 1 else ''} {positions_text(counter.positions)} "
        text += what.get(counter.kind, "change now and then, whatever is set") + "."
        title = f"A {counter.kind}" if counter.kind != "id" else "An id"
        cards.append(Card(title, text, "proven", finding=named(counter)))
    if found.unexplained:
        several = len(found.unexplained) > 1
        text = (
            f"{'Bits' if several else 'Bit'} {positions_text(found.unexplained)} {'change' if several else 'changes'}, "
        )
        text += "and nothing accounts for it. "
        text += "Vary one thing at a time and label what you set."
        cards.append(Card(f"{plural(len(found.unexplained), 'bit')} unexplained", text, "uncertain"))
    return cards


def _field_card(field: Field, found: Comparison, letter: int) -> Card:
    several = len(field.positions) > 1
    bits = f"Bit{'s' if several else ''} {positions_text(field.positions)}"
    if isinstance(field.map, Table):
        shown = [f"{raw} = {label_word(word)}" for raw, word in sorted(field.map.words.items())[:6]]
        more = " …" if len(field.map.words) > len(shown) else ""
        text = f"{bits} {'say' if several else 'says'} it by a table: {', '.join(shown)}{more}"
    else:
        coded = {"binary": "", "signed": ", signed", "bcd": ", in BCD", "gray": ", in Gray code"}[field.map.encoding]
        times = f" times {field.map.scale:g}" if field.map.scale != 1 else ""
        sign = "plus" if field.map.offset >= 0 else "minus"
        plus = f" {sign} {abs(field.map.offset):g}" if field.map.offset else ""
        text = f"{bits}{coded}{times}{plus} {'are' if several else 'is'} it"
    text += f", in {field.explained} of {plural(len(field.holds), 'press', 'presses')}"
    if field.when:
        text += " where " + " and ".join(f"{n} is {' or '.join(map(label_word, v))}" for n, v in field.when.items())
    text += "."
    says = field.says(found.stack.bits)
    for row in field.contradicting.tolist()[:MOST_NAMED]:
        label = label_word(found.stack.labels[field.name][row])
        text += f" Press {row + 1} says {label}, its bits say {label_word(says[row])}."
    tell = press_to_tell(field, found)
    asked = " with ".join(f"{name} {label_word(value)}" for name, value in tell.items())
    to_tell = f": press {asked} to tell." if tell else "."
    if field.others:
        others = [positions_text(o.positions) for o in field.others[:MOST_NAMED]]
        text += f" Bits {' or '.join(others)} explain it as well{to_tell}"
    elif tell:
        text += f" {next(name for name in tell if name != field.name)} follows them as well{to_tell}"
    why = f"By accident once in 10^{max(-field.chance, 0):.0f}, given all that was tried."
    status: Status = "proven" if field.chance < SURE and field.holds.all() else "uncertain"
    return Card(f"{chr(ord('a') + letter % 26)} · {field.name}", text, status, why=why, finding=named(field))


def _silent_card(name: str, labels: tuple[Label, ...]) -> Card:
    known = [label for label in labels if label is not None]
    if len(set(known)) < 2:
        text = "It is the same in every press that has it: vary it to see which bits follow."
    else:
        text = (
            f"No bits follow it in {plural(len(known), 'press', 'presses')}; it may need more of them, or other labels."
        )
    return Card(f"{name}: not found", text, "uncertain")


def _check_card(check: Found, found: Comparison, names: list[str]) -> Card:
    over = ", ".join(f"{first}–{last}" for first, last in check.covers)
    kind = check.check.kind
    at = check.check.at
    text = f"{'Bits' if at.width > 1 else 'Bit'} {at} {'are' if at.width > 1 else 'is'} {KINDS[kind]} bits {over}"
    if kind == "crc":
        text += f", polynomial 0x{check.check.poly:X}"
    if check.check.negate:
        text += ", negated"
    if kind == "sum" and check.check.init:
        text += f", beginning with 0x{check.check.init:02X}"
    if check.check.xor_out and kind != "linear":
        text += f", with 0x{check.check.xor_out:02X} xored on"
    text += f", in {int(check.holds.sum())} of {plural(found.stack.rows, 'press', 'presses')}."
    for row in np.flatnonzero(~check.holds).tolist()[:MOST_NAMED]:
        text += f" Press {row + 1} ({names[row] or 'no label'}) fails it: damaged, perhaps."
    why = f"By accident once in 10^{-check.chance:.0f}, given all that was tried."
    title = {"crc": "CRC", "xor": "Exclusive-or"}.get(kind, kind.capitalize())
    return Card(f"{title}, {check.check.at.width} bits", text, "proven", why=why, finding=named(check))
