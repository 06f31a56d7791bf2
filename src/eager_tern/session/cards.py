"""What is claimed about the selection, in sentences, with the evidence for each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

import numpy as np

from eager_tern.casebook.keys import Key
from eager_tern.casebook.tally import Tally
from eager_tern.casebook.values import Caught, Measured, Take
from eager_tern.compare.structure import Structure, structure_of
from eager_tern.compare.wording import of_structure
from eager_tern.linecode.clusters import find_clusters
from eager_tern.linecode.identify import identify
from eager_tern.linecode.values import Cluster, bit_text
from eager_tern.protocol.codes import codes_of
from eager_tern.protocol.fields import in_words
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import UNKNOWN, Reading
from eager_tern.session.words import CODE_NAMES, duration, frequency, plural, reading_name

Status = Literal["proven", "uncertain", "failing", "note"]
STATUS_WORDS = {"proven": "sure", "uncertain": "not proven", "failing": "does not hold", "note": ""}
SURE = 0.9


@dataclass(frozen=True)
class Strips:
    """A small picture: marks and spaces as ticks on one logarithmic ruler, with the clusters found."""

    marks_us: tuple[float, ...]
    spaces_us: tuple[float, ...]
    clusters: tuple[tuple[str, Cluster], ...]


@dataclass(frozen=True)
class Card:
    """``why`` is shown when asked; ``go`` names a leaf that shows more, ``label`` a label to give the press.

    ``finding`` names what can be dismissed, ``accept`` what is only possible and can be believed.
    """

    title: str
    text: str
    status: Status
    aside: str = ""
    why: str = ""
    picture: Strips | None = None
    go: str = ""
    label: str = ""
    finding: str = ""
    accept: str = ""


def cards_for_press(
    press: Caught, frame: Frame, caught: Tally, keys: list[Key], take: Take | None = None, others: Sequence[Caught] = ()
) -> list[Card]:
    """Cards about one press; ``caught`` counts all of the gadget's, ``take`` is the recording it was found in.

    ``others`` are the gadget's presses, by which an unknown frame's structure is told.
    """
    if press.stray:
        return [_stray_card(press)]
    cards = []
    best = frame.best
    if press.reading.first_missed:
        cards.append(_missed_card(press))
    elif best is not None:
        cards.append(_protocol_card(best, frame, press, caught))
    if best is not None and best.bits.size:
        cards.append(_line_code_card(best, frame))
        cards.append(_code_card(best))
    structure = _structure_cards(best, others) if best is not None and best.protocol == UNKNOWN else []
    cards += structure
    if take is not None and take.carrier_hz:
        cards.append(_carrier_card(take.carrier_hz, take.measured))
    if frame.mended:
        cards.append(_mended_card(frame))
    if press.repeats and not press.reading.first_missed:
        cards.append(_hold_card(press, best))
    if not press.reading.first_missed and not structure and _caught_once(press, caught):
        cards.append(_once_card(press))
    cards += _key_cards(press, keys)
    return cards


def _code_card(best: Reading) -> Card:
    """The frame as one number, either end first."""
    codes = codes_of(best.bits)
    assert codes is not None
    text = f"{codes.as_sent} as sent, its first bit highest; {codes.turned} with the first bit lowest."
    decimal = f"in decimal {int(codes.as_sent, 16)} and {int(codes.turned, 16)}"
    return Card("The code", text, "note", aside=decimal)


def _structure_cards(best: Reading, others: Sequence[Caught]) -> list[Card]:
    """What an unknown frame's bits say, with those of the gadget's others of its shape."""
    own = bit_text(best.bits)
    alike = {each.reading.bits for each in others if each.reading.protocol == UNKNOWN and not each.stray}
    rows = sorted({own, *(bits for bits in alike if len(bits) == len(own))})
    found = _structure(tuple(rows), best.sections)
    return [Card("Without any label", told, "proven") for told in of_structure(found)] if found is not None else []


@lru_cache(maxsize=32)  # asked for with each press that is looked at
def _structure(rows: tuple[str, ...], sections: tuple[int, ...]) -> Structure | None:
    return structure_of(np.array([list(map(int, row)) for row in rows], np.uint8), sections)


def _carrier_card(carrier_hz: float, measured: Measured) -> Card:
    """What the pulses were keyed on."""
    if measured.deviation_hz:
        text = f"Two tones, {frequency(measured.deviation_hz)} above and below; the higher one is the mark."
    elif measured.keying == "ask":
        text = "Turned down in the spaces, not off."
    else:
        text = "On in the marks, off in the spaces."
    if measured.carrier_duty:
        text += f" On for {measured.carrier_duty:.0%} of its period."
    return Card(f"Carrier {frequency(carrier_hz)}", text, "proven", aside="measured in the recording")


def _mended_card(frame: Frame) -> Card:
    """How a frame was read that could not be read as it is."""
    how = frame.mended[:1].upper() + frame.mended[1:]
    return Card("Not read as recorded", f"{how}. The tape shows what was read; the raw pulses are kept.", "uncertain")


def cards_for_several(presses: list[Caught]) -> list[Card]:
    """Cards about several presses."""
    codes = {press.code for press in presses if press.code is not None}
    if len(codes) == 1:
        text = f"All {len(presses)} send the same code."
        return [Card("One key, or keys that send the same", text, "proven")]
    differing = differing_bits(presses)
    if differing < 0:
        return [Card("Frames of different lengths", "These frames do not have the same number of bits.", "note")]
    count = len(presses[0].reading.bits)
    text = f"{differing} of {count} bits are not the same in all {len(presses)} frames; {count - differing} are."
    return [Card(f"{len(codes)} codes in {len(presses)} presses", text, "note")]


def _protocol_card(best: Reading, frame: Frame, press: Caught, caught: Tally) -> Card:
    if best.protocol == "unknown":
        return Card(
            f"Unknown protocol, {best.bits.size} bits",
            "The line code is clear, but no sheet describes this frame.",
            "uncertain",
            aside=_certainty(frame),
        )
    sheet = best.sheet
    widths = {field.name: field.shown_width for field in sheet.fields} if sheet is not None else {}
    shown = [f"{name} {in_words(value, widths.get(name, 8))}" for name, value in best.fields.items()]
    held = [check for check in best.checks if check.ok]
    failed = [check for check in best.checks if not check.ok]
    text = f"{plural(best.bits.size, 'bit')}"
    if failed:
        text += ", but " + " and ".join(f"the {check.name} does not hold" for check in failed)
    elif len(held) > 1:
        text += f"; {'both' if len(held) == 2 else 'all'} checks hold ({', '.join(check.name for check in held)})"
    elif held:
        text += f"; the {held[0].name} holds"
    elif sheet is not None and sheet.overrules:
        text += ", read as was said by hand"
    else:
        text += "; this protocol has no check"
    for name in best.beyond:
        low, high = next(f.seen for f in sheet.fields if f.name == name and f.seen) if sheet is not None else (0, 0)
        text += f"; {name} is beyond the {low:g} to {high:g} that it was found out with"
    agreeing = caught.protocols[best.protocol] - (press.reading.protocol == best.protocol)
    if agreeing:
        presses = plural(agreeing, "other press", "other presses")
        text += f". {presses} of this gadget agree{'s' if agreeing == 1 else ''}"
    text += "."
    status: Status = "failing" if failed else "proven" if best.confidence >= SURE and held else "uncertain"
    if not held and not failed and (agreeing or press.repeats) and best.confidence >= SURE:
        status = "proven"
    width = sum(check.width for check in held)
    chance = f" By accident the checks would hold once in {2**width:,}." if width > 2 else ""
    why = (
        f"Unit {best.clock.unit_us:.0f} µs, {abs(best.clock.unit_us / sheet.unit_us - 1):.1%} "
        f"{'above' if best.clock.unit_us >= sheet.unit_us else 'below'} the published {sheet.unit_us:g} µs; "
        f"the edges lie within ± {best.clock.rms_us:.0f} µs of the ruler.{chance}"
        if sheet is not None
        else ""
    )
    title = f"{reading_name(best)} · {' · '.join(shown)}"
    return Card(title, text, status, aside=_certainty(frame), why=why)


def _certainty(frame: Frame) -> str:
    best, *others = frame.readings
    text = f"confidence {best.confidence:.3f}"
    if not others:
        return f"{text} · no {'other ' if best.known else ''}sheet fits"
    second = others[0]
    failing = [check.name for check in second.checks if not check.ok]
    against = f": its {failing[0]} fails" if failing else ""
    if not failing and len(best.checks) > len(second.checks):
        width = sum(check.width for check in best.checks) - sum(check.width for check in second.checks)
        against = f": then {best.checks[0].name} would be chance, 1 in {2**width:,}"
    name = reading_name(second) if second.sheet is not None else f"unknown {CODE_NAMES[second.code]}"
    size = f"{second.confidence:.3f}" if second.confidence >= 0.0005 else "below 0.001"
    return f"{text} · runner-up {name}, {size}{against}"


def _line_code_card(best: Reading, frame: Frame) -> Card:
    marks, spaces = frame.pulses.durations_us[0::2], frame.pulses.durations_us[1::2]
    clusters = [("mark", c) for c in find_clusters(marks)] + [("space", c) for c in find_clusters(spaces)]
    sentence = {
        "pulse-distance": "Marks are all one length; the space behind each tells the bit: ",
        "pulse-width": "Spaces are all one length; the mark before each tells the bit: ",
        "biphase": "A change in the middle of every bit; between changes lie one or two half bits: ",
        "async-serial": f"{1e6 / best.clock.unit_us:.0f} baud, {best.bits.size // 8} bytes; each begins with a mark: ",
    }.get(best.code, "")
    part = spaces if best.code == "pulse-distance" else marks
    data = [c for c in find_clusters(part) if c.centre_us < 6 * best.clock.unit_us and c.count > 1] or find_clusters(
        part
    )
    sentence += ", ".join(f"{duration(c.centre_us)} ({c.count})" for c in data[:3]) + "."
    excess = best.clock.excess_us
    if abs(excess) >= 10:
        way = ("long", "short") if excess > 0 else ("short", "long")
        sentence += f" Marks are {abs(excess):.0f} µs too {way[0]}, spaces as much too {way[1]}:"
        sentence += " the receiver's doing, taken out."
    part_of_unit = best.clock.rms_us / best.clock.unit_us
    why = f"Between the ruler and the edges remain ± {best.clock.rms_us:.0f} µs, {part_of_unit:.0%} of a unit."
    others = [line for line in identify(frame.pulses) if line.code != best.code]
    if others:
        other = others[0]
        why += (
            f" Tried as {CODE_NAMES[other.code]}: ± {other.clock.rms_us:.0f} µs, probability {other.probability:.2g}."
        )
    status: Status = "proven" if best.clock.rms_us < 0.15 * best.clock.unit_us else "uncertain"
    picture = Strips(tuple(marks.tolist()), tuple(spaces.tolist()), tuple(clusters))
    title = f"{CODE_NAMES[best.code].capitalize()}, unit {best.clock.unit_us:.0f} µs"
    return Card(title, sentence, status, why=why, picture=picture)


def _hold_card(press: Caught, best: Reading | None) -> Card:
    sheet = best.sheet if best is not None else None
    title = f"Held {press.reading.held_us / 1e6:.2f} s: {plural(press.repeats, 'repeat')}"
    if sheet is not None and sheet.frame(sheet.press.held[0]).repeat:
        text = "A short frame without bits, sent while the key is held, stands for the first one."
    elif best is not None and "toggle" in best.fields:
        text = (
            f"The same frame again, its toggle bit still {best.fields['toggle']}: one press. The next press turns it."
        )
    elif sheet is not None and press.repeats + 1 < sheet.press.count:
        text = f"Such remotes send a frame {sheet.press.count} times or more; the others were not heard."
    elif sheet is not None and sheet.press.count > 1 and press.repeats < sheet.press.count:
        text = f"Every press sends its frame {sheet.press.count} times; this one was not held."
        title = f"{plural(press.repeats, 'repeat')}, as always"
    else:
        text = "The same frame again, after less than 150 ms of silence."
    return Card(title, text, "note")


def _missed_card(press: Caught) -> Card:
    count = plural(len(press.reading.frames), "repeat")
    text = f"{count}, but not the frame they stand for: which key it was cannot be known. Press it again."
    return Card("The first frame was missed", text, "uncertain")


def _stray_card(press: Caught) -> Card:
    pulses = press.reading.frames[0][1] - press.reading.frames[0][0] + 1
    marks = plural(pulses // 2 + 1, "mark")
    return Card("A stray", f"{marks} without the timing of a frame. Lamps and radio noise make them.", "note")


def _caught_once(press: Caught, caught: Tally) -> bool:
    if press.repeats or (press.reading.check_count and press.reading.checks_hold):
        return False
    return caught.codes[press.code] == 1


def _once_card(press: Caught) -> Card:
    name = f"“{press.label}”" if press.label else "This code"
    text = "One frame without a repeat or a check can be a stray. Press it again to be sure."
    return Card(f"{name} was caught once only", text, "uncertain")


def _key_cards(press: Caught, keys: list[Key]) -> list[Card]:
    cards = []
    key = next((key for key in keys if key.name == press.label), None)
    if key is not None and key.same_as:
        others = " and ".join(f"“{name}”" for name in key.same_as)
        cards.append(
            Card(f"“{key.name}” and {others} send the same", "Two names for one code.", "uncertain", go="Handset")
        )
    if key is not None and key.contradicts:
        text = "Presses with this label sent different codes. One of them may be mislabelled."
        cards.append(Card(f"“{key.name}” has sent more than one code", text, "uncertain", go="Handset"))
    if not press.label and press.code is not None:
        known = next((k for k in keys if k.best is not None and k.best.code == press.code), None)
        if known is not None:
            title = f"Sends what “{known.name}” sends"
            cards.append(Card(title, "Give it that label, or press another key.", "note", label=known.name))
    missing = [key.name for key in keys if key.best is None]
    if missing:
        text = ", ".join(missing[:6]) + (f" and {len(missing) - 6} more" if len(missing) > 6 else "")
        title = plural(len(missing), "key") + (" is" if len(missing) == 1 else " are") + " not caught yet"
        cards.append(Card(title, text + ".", "note", go="Handset"))
    return cards


def strip_bounds(strips: Strips) -> tuple[float, float]:
    """The ends of the picture's ruler, µs."""
    values = np.array([*strips.marks_us, *strips.spaces_us])
    return float(values.min()) / 1.3, float(values.max()) * 1.3


def differing_bits(presses: list[Caught]) -> int:
    """How many bit positions differ among presses with equally many bits."""
    rows = [np.frombuffer(p.reading.bits.encode(), np.uint8) for p in presses if p.reading.bits]
    if len({row.size for row in rows}) != 1:
        return -1
    stack = np.stack(rows)
    return int((stack != stack[0]).any(axis=0).sum())
