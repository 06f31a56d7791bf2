"""What was found about a stack, in sentences: the same wherever it is told."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from eager_tern.compare.asking import Wanted, next_shots, press_to_tell
from eager_tern.compare.checks import BYTE, NIBBLE, Found
from eager_tern.compare.comparison import Comparison, covers, is_possible, named
from eager_tern.compare.counters import Counter
from eager_tern.compare.field import Field, Linear, Table
from eager_tern.compare.stack import Label, label_word
from eager_tern.compare.structure import Structure
from eager_tern.protocol.positions import positions_text

MOST_NAMED = 3
WORTH_TELLING = 0.15  # odds of another description of the same bits
WORDS_SHOWN = 6  # of a table
PARTS = {0.5: "half of ", 0.25: "a quarter of ", 0.1: "a tenth of ", 0.01: "a hundredth of ", 2.0: "twice "}
CODED = {
    "binary": "",
    "signed": ", signed",
    "magnitude": ", its highest bit the sign",
    "bcd": ", in BCD",
    "gray": ", in Gray code",
}
KINDS = {
    "sum": "the sum of", "xor": "the exclusive-or of", "crc": "a CRC over", "complement": "the complement of",
    "copy": "a copy of", "parity": "the parity of", "ones": "the number of ones in",
    "linear": "a digest, linear over exclusive-or, of",
}  # fmt: skip
TIME_OF_DAY = re.compile(r"\d{1,2}:\d{2}")
TITLES = {"counter": "A counter", "toggle": "A toggle", "id": "An id", "rolling": "A rolling code"}
COUNTERS = {
    "counter": "count up from press to press", "toggle": "turns round with each press",
    "id": "change now and then, whatever is set", "rolling": "are new with each press",
}  # fmt: skip


class Sentences(Struct, frozen=True):
    """A finding. ``claim`` says it and how often it is right, ``doubts`` the presses that contradict it and what else
    would explain them, ``chance`` how likely an accident is. ``sure``: nothing contradicts it, and it is no accident;
    ``possible``: an accident could well do as much.
    ``finding`` names it among all others of the stack.
    """

    title: str
    claim: str
    doubts: tuple[str, ...] = ()
    chance: str = ""
    sure: bool = True
    finding: str = ""
    possible: bool = False

    @property
    def text(self) -> str:
        return " ".join((self.claim, *self.doubts))


def all_findings(found: Comparison, names: Sequence[str]) -> list[Sentences]:
    """Every field, check and counter, and what is left; ``names`` are what rows are called."""
    asks = next_shots(found)
    told = [of_field(field, found, letter, asks) for letter, field in enumerate(found.fields)]
    told += [of_silence(name, labels) for name, labels in silent_labels(found)]
    told += [of_check(check, found, names) for check in found.checks]
    told += [of_counter(counter, found) for counter in found.counters]
    return [*told, of_unexplained(found)] if found.unexplained else told


def silent_labels(found: Comparison) -> list[tuple[str, tuple[Label, ...]]]:
    """The labels that no bits follow."""
    said = {field.name for field in found.fields}
    return [(name, labels) for name, labels in found.stack.labels.items() if name not in said]


def of_field(field: Field, found: Comparison, letter: int = 0, asks: Sequence[Wanted] = ()) -> Sentences:
    """What carries a label; ``asks`` are the presses that would settle what is open."""
    claim = f"{field.name} {meaning(field)}. Right in {field.explained} of {_presses(len(field.holds))}{_where(field)}."
    says = field.says(found.stack.bits)
    doubts = [
        f"Press {row + 1} says {label_word(found.stack.labels[field.name][row])}, its bits say {label_word(says[row])}."
        for row in field.contradicting.tolist()[:MOST_NAMED]
    ]
    nearly = [
        number_text(each.map, bits_text(each.positions))
        for each, odds in zip(field.also, field.odds[1:], strict=True)
        if isinstance(each.map, Linear) and odds > WORTH_TELLING
    ]
    if nearly:
        doubts.append(f"It may as well be {' or '.join(nearly)}.")
    tell = press_to_tell(field, found)
    asked = " with ".join(f"{name} {label_word(value)}" for name, value in tell.items())
    to_tell = f": press {asked} to tell." if tell else "."
    if field.others:
        others = [positions_text(o.positions) for o in field.others[:MOST_NAMED]]
        doubts.append(f"Bits {' or '.join(others)} explain it as well{to_tell}")
    elif tell:
        doubts.append(f"{next(name for name in tell if name != field.name)} follows them as well{to_tell}")
    elif is_possible(field):
        doubts += _settled_by(field.name, asks)
    sure = not is_possible(field) and bool(field.holds.all())
    title = f"{chr(ord('a') + letter % 26)} · {field.name}"
    return Sentences(title, claim, tuple(doubts), _by_accident(field.chance), sure, named(field), is_possible(field))


def _settled_by(name: str, asks: Sequence[Wanted]) -> list[str]:
    """Which presses would settle what follows a label."""
    about = [ask for ask in asks if name in ask.about]
    if not about:
        return []
    if name in about[0].labels:
        return [f"Press {name} {label_word(about[0].labels[name])} once more to settle it."]
    more = "1 more press that varies" if len(about) == 1 else f"{len(about)} more presses that vary"
    return [f"{more} {name} would settle it."]


def meaning(field: Field) -> str:
    """What a field's bits say, behind its name."""
    bits = bits_text(field.positions)
    if isinstance(field.map, Table):
        shown = [f"{raw} = {label_word(word)}" for raw, word in sorted(field.map.words.items())]
        more = " …" if len(shown) > WORDS_SHOWN else ""
        return f"is in {bits}: {', '.join(shown[:WORDS_SHOWN])}{more}"
    return f"= {number_text(field.map, bits)}"


def number_text(found: Linear, bits: str) -> str:
    """A number made of bits, as one would say it."""
    part = PARTS.get(abs(found.scale), f"{abs(found.scale):g} × " if abs(found.scale) != 1 else "")
    number = f"{part}{bits}{CODED[found.encoding]}"
    rounded = "" if found.decimals is None else ", rounded"
    if found.scale < 0:
        return f"{found.offset:g} − {number}{rounded}"
    return f"{found.offset:g} + {number}{rounded}" if found.offset else f"{number}{rounded}"


def of_silence(name: str, labels: Sequence[Label]) -> Sentences:
    """A label that no bits follow."""
    known = [label for label in labels if label is not None]
    if len(set(known)) < 2:
        claim = f"{name} is the same in every press that has it: vary it to see which bits follow."
    elif all(TIME_OF_DAY.fullmatch(label_word(label)) for label in known):
        claim = (
            f"{name} is a word for each time: label its hours and minutes apart, or count its minutes from midnight."
        )
    elif len(set(known)) == len(known) and any(isinstance(label, str) for label in known):
        claim = f"Each {name} was pressed once: press some of them again to see which bits follow."
    else:
        claim = f"No bits follow {name} in {_presses(len(known))}; it may need more of them, or other labels."
    return Sentences(f"{name}: not found", claim, sure=False)


def of_check(check: Found, found: Comparison, names: Sequence[str]) -> Sentences:
    """What is computed from what."""
    what, at = check.check, check.check.at
    bits = f"Bit{'s' if at.width > 1 else ''} {at}"
    claim = f"{bits} {'are' if at.width > 1 else 'is'} {_computed(check)}."
    claim += f" Right in {int(check.holds.sum())} of {_presses(found.stack.rows)}."
    doubts = tuple(
        f"Press {row + 1} ({names[row] or 'no label'}) fails it: damaged, perhaps."
        for row in np.flatnonzero(~check.holds).tolist()[:MOST_NAMED]
    )
    title = {"crc": "CRC", "xor": "Exclusive-or"}.get(what.kind, what.kind.capitalize())
    return Sentences(f"{title}, {at.width} bits", claim, doubts, _by_accident(check.chance), True, named(check))


def _computed(found: Found) -> str:
    """What a check is of the bits it covers, as in "the sum of bits 0–63, beginning with 0x10"."""
    what = found.check
    pieces = "the nibbles of " if what.unit == NIBBLE and what.kind in ("sum", "xor") else ""
    words = f"{KINDS[what.kind]} {pieces}bits {', '.join(f'{first}–{last}' for first, last in found.covers)}"
    if what.kind == "crc":
        words += f", polynomial 0x{what.poly:X}"
    if what.modulus:
        words += f", modulo {what.modulus}"
    if what.rotate:
        words += f", turned by {what.rotate} bits between them"
    if what.carry:
        words += ", with what it carries out added again"
    if what.negate:
        words += ", negated"
    if what.swap:
        words += ", with its halves swapped"
    if what.by is not None:
        seeds = ", ".join(f"0x{seed:02X} where it is {raw}" for raw, seed in sorted(what.seeds.items()))
        words += f", beginning with what bits {what.by} say: {seeds}"
    if what.kind == "sum" and what.init:
        words += f", beginning with 0x{what.init:02X}"
    if what.xor_out and what.kind != "linear":
        words += f", with 0x{what.xor_out:02X} xored on"
    return words


def of_structure(found: Structure) -> list[str]:
    """What frames say of themselves, a sentence each."""
    told = []
    complements = [check for check in found.checks if check.kind == "complement"]
    if complements:
        which = "Each byte is" if len(complements) > 1 else "A byte is"
        which = "The first half is" if len(complements[0].positions) > BYTE else which
        told.append(f"{which} followed by its complement. {_by_accident(complements[0].chance)}")
    for check in found.checks:
        if check.kind != "complement":
            count = f"in {len(check.holds)} different {'frame' if len(check.holds) == 1 else 'frames'}"
            claim = f"{bits_text(check.positions, capital=True)} = {_computed(check)}, {count}."
            told.append(f"{claim} {_by_accident(check.chance)}")
    return told


def of_counter(counter: Counter, found: Comparison) -> Sentences:
    """A counter, toggle, id or rolling code."""
    claim = f"{bits_text(counter.positions, capital=True)} {COUNTERS[counter.kind]}."
    if counter.kind == "rolling":
        covered = [c.check.name for c in found.checks if covers(c) & set(counter.positions)]
        follows = f"the {covered[0]} follows them" if covered else "nothing else follows them"
        claim = f"{claim[:-1]}, whatever is set: {len(counter.positions)} of {found.stack.columns} bits; {follows}."
    possible = is_possible(counter)
    chance = _by_accident(counter.chance)
    return Sentences(TITLES[counter.kind], claim, (), chance, not possible, named(counter), possible)


def of_unexplained(found: Comparison) -> Sentences:
    """The bits that nothing accounts for."""
    several = len(found.unexplained) > 1
    bits = bits_text(found.unexplained, capital=True)
    claim = f"{bits} {'change' if several else 'changes'}, and nothing accounts for {'them' if several else 'it'}."
    doubt = "Vary one thing at a time and label what you set."
    return Sentences(f"{len(found.unexplained)} bit{'s' if several else ''} unexplained", claim, (doubt,), sure=False)


def bits_text(positions: Sequence[int], capital: bool = False) -> str:
    """Positions, as in "bits 51–48, 63"."""
    word = f"bit{'s' if len(positions) > 1 else ''}"
    return f"{word.capitalize() if capital else word} {positions_text(positions)}"


def _where(field: Field) -> str:
    if not field.when:
        return ""
    return " where " + " and ".join(f"{n} is {' or '.join(map(label_word, v))}" for n, v in field.when.items())


def _presses(count: int) -> str:
    return f"{count} press{'es' if count != 1 else ''}"


def _by_accident(log10: float) -> str:
    return f"By accident once in 10^{max(-log10, 0):.0f}, given all that was tried."
