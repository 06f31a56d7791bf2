"""What is claimed about the selection, in sentences, with the evidence for each."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Literal

import numpy as np
from msgspec import Struct

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
from eager_tern.session.words import CODE_NAMES, duration, frequency, reading_name
from eager_tern.texts import plural, tr

Status = Literal["proven", "uncertain", "failing", "note"]
STATUS_WORDS = {"proven": tr("sure"), "uncertain": tr("not proven"), "failing": tr("does not hold"), "note": ""}
SURE = 0.9


class Strips(Struct, frozen=True):
    """A small picture: marks and spaces as ticks on one logarithmic ruler, with the clusters found."""

    marks_us: tuple[float, ...]
    spaces_us: tuple[float, ...]
    clusters: tuple[tuple[str, Cluster], ...]


class Card(Struct, frozen=True):
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
    text = tr(
        "{as_sent} as sent, its first bit highest; {turned} with the first bit lowest.",
        as_sent=codes.as_sent,
        turned=codes.turned,
    )
    decimal = tr("in decimal {as_sent} and {turned}", as_sent=int(codes.as_sent, 16), turned=int(codes.turned, 16))
    return Card(tr("The code"), text, "note", aside=decimal)


def _structure_cards(best: Reading, others: Sequence[Caught]) -> list[Card]:
    """What an unknown frame's bits say, with those of the gadget's others of its shape."""
    own = bit_text(best.bits)
    alike = {each.reading.bits for each in others if each.reading.protocol == UNKNOWN and not each.stray}
    rows = sorted({own, *(bits for bits in alike if len(bits) == len(own))})
    found = _structure(tuple(rows), best.sections)
    return [Card(tr("Without any label"), told, "proven") for told in of_structure(found)] if found is not None else []


@lru_cache(maxsize=32)  # asked for with each press that is looked at
def _structure(rows: tuple[str, ...], sections: tuple[int, ...]) -> Structure | None:
    return structure_of(np.array([list(map(int, row)) for row in rows], np.uint8), sections)


def _carrier_card(carrier_hz: float, measured: Measured) -> Card:
    """What the pulses were keyed on."""
    if measured.deviation_hz:
        text = tr(
            "Two tones, {frequency} above and below; the higher one is the mark.",
            frequency=frequency(measured.deviation_hz),
        )
    elif measured.keying == "ask":
        text = tr("Turned down in the spaces, not off.")
    else:
        text = tr("On in the marks, off in the spaces.")
    if measured.carrier_duty:
        text += tr(" On for {duty:.0%} of its period.", duty=measured.carrier_duty)
    return Card(
        tr("Carrier {frequency}", frequency=frequency(carrier_hz)),
        text,
        "proven",
        aside=tr("measured in the recording"),
    )


def _mended_card(frame: Frame) -> Card:
    """How a frame was read that could not be read as it is."""
    how = frame.mended[:1].upper() + frame.mended[1:]
    return Card(
        tr("Not read as recorded"),
        tr("{how}. The tape shows what was read; the raw pulses are kept.", how=how),
        "uncertain",
    )


def cards_for_several(presses: list[Caught]) -> list[Card]:
    """Cards about several presses."""
    codes = {press.code for press in presses if press.code is not None}
    if len(codes) == 1:
        text = tr("All {presses} send the same code.", presses=len(presses))
        return [Card(tr("One key, or keys that send the same"), text, "proven")]
    differing = differing_bits(presses)
    if differing < 0:
        return [
            Card(tr("Frames of different lengths"), tr("These frames do not have the same number of bits."), "note")
        ]
    count = len(presses[0].reading.bits)
    text = tr(
        "{differing} of {count} bits are not the same in all {frames} frames; {same} are.",
        differing=differing,
        count=count,
        frames=len(presses),
        same=count - differing,
    )
    title = tr("{codes} codes in {presses} presses", codes=len(codes), presses=len(presses))
    return [Card(title, text, "note")]


def _protocol_card(best: Reading, frame: Frame, press: Caught, caught: Tally) -> Card:
    if best.protocol == "unknown":
        return Card(
            tr("Unknown protocol, {size} bits", size=best.bits.size),
            tr("The line code is clear, but no sheet describes this frame.")
            if best.code != "unknown"
            else tr("No line code explains it; its edges lie on a grid of bits, which are shown as they are."),
            "uncertain",
            aside=_certainty(frame),
        )
    sheet = best.sheet
    widths = {field.name: field.shown_width for field in sheet.fields} if sheet is not None else {}
    shown = [f"{name} {in_words(value, widths.get(name, 8))}" for name, value in best.fields.items()]
    held = [check for check in best.checks if check.ok]
    failed = [check for check in best.checks if not check.ok]
    text = plural(best.bits.size, "bit", "bits")
    if failed:
        text += tr(", but ") + " and ".join(f"the {check.name} does not hold" for check in failed)
    elif len(held) > 1:
        names = ", ".join(check.name for check in held)
        text += (
            tr("; both checks hold ({names})", names=names)
            if len(held) == 2
            else tr("; all checks hold ({names})", names=names)
        )
    elif held:
        text += tr("; the {name} holds", name=held[0].name)
    elif sheet is not None and sheet.overrules:
        text += tr(", read as was said by hand")
    else:
        text += tr("; this protocol has no check")
    for name in best.beyond:
        low, high = next(f.seen for f in sheet.fields if f.name == name and f.seen) if sheet is not None else (0, 0)
        text += tr(
            "; {name} is beyond the {low:g} to {high:g} that it was found out with", name=name, low=low, high=high
        )
    agreeing = caught.protocols[best.protocol] - (press.reading.protocol == best.protocol)
    if agreeing:
        presses = plural(agreeing, "other press", "other presses")
        text += (
            tr(". {presses} of this gadget agrees", presses=presses)
            if agreeing == 1
            else tr(". {presses} of this gadget agree", presses=presses)
        )
    text += "."
    status: Status = "failing" if failed else "proven" if best.confidence >= SURE and held else "uncertain"
    if not held and not failed and (agreeing or press.repeats) and best.confidence >= SURE:
        status = "proven"
    width = sum(check.width for check in held)
    chance = tr(" By accident the checks would hold once in {odds:,}.", odds=2**width) if width > 2 else ""
    why = (
        tr(
            "Unit {unit_us:.0f} µs, {off:.1%} {way} the published {published_us:g} µs; "
            "the edges lie within ± {rms_us:.0f} µs of the ruler.{chance}",
            unit_us=best.clock.unit_us,
            off=abs(best.clock.unit_us / sheet.unit_us - 1),
            way=tr("above") if best.clock.unit_us >= sheet.unit_us else tr("below"),
            published_us=sheet.unit_us,
            rms_us=best.clock.rms_us,
            chance=chance,
        )
        if sheet is not None
        else ""
    )
    title = f"{reading_name(best)} · {' · '.join(shown)}"
    return Card(title, text, status, aside=_certainty(frame), why=why)


def _certainty(frame: Frame) -> str:
    best, *others = frame.readings
    text = tr("confidence {confidence:.3f}", confidence=best.confidence)
    if not others:
        return text + (tr(" · no other sheet fits") if best.known else tr(" · no sheet fits"))
    second = others[0]
    failing = [check.name for check in second.checks if not check.ok]
    against = tr(": its {failing} fails", failing=failing[0]) if failing else ""
    if not failing and len(best.checks) > len(second.checks):
        width = sum(check.width for check in best.checks) - sum(check.width for check in second.checks)
        against = tr(": then {name} would be chance, 1 in {odds:,}", name=best.checks[0].name, odds=2**width)
    name = (
        reading_name(second)
        if second.sheet is not None
        else tr("unknown {line_code}", line_code=CODE_NAMES[second.code])
    )
    size = f"{second.confidence:.3f}" if second.confidence >= 0.0005 else tr("below 0.001")
    return tr("{text} · runner-up {name}, {size}{against}", text=text, name=name, size=size, against=against)


def _line_code_card(best: Reading, frame: Frame) -> Card:
    marks, spaces = frame.pulses.durations_us[0::2], frame.pulses.durations_us[1::2]
    clusters = [("mark", c) for c in find_clusters(marks)] + [("space", c) for c in find_clusters(spaces)]
    sentence = {
        "pulse-distance": "Marks are all one length; the space behind each tells the bit: ",
        "pulse-width": "Spaces are all one length; the mark before each tells the bit: ",
        "biphase": "A change in the middle of every bit; between changes lie one or two half bits: ",
        "unknown": "A bit is a mark (1) or a space (0) all through; marks: ",
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
        sentence += tr(
            " Marks are {excess:.0f} µs too {one_way}, spaces as much too {other_way}:",
            excess=abs(excess),
            one_way=way[0],
            other_way=way[1],
        )
        sentence += tr(" the receiver's doing, taken out.")
    part_of_unit = best.clock.rms_us / best.clock.unit_us
    why = tr(
        "Between the ruler and the edges remain ± {rms_us:.0f} µs, {part_of_unit:.0%} of a unit.",
        rms_us=best.clock.rms_us,
        part_of_unit=part_of_unit,
    )
    others = [line for line in identify(frame.pulses) if line.code != best.code]
    if others:
        other = others[0]
        why += tr(
            " Tried as {line_code}: ± {rms_us:.0f} µs, probability {probability:.2g}.",
            line_code=CODE_NAMES[other.code],
            rms_us=other.clock.rms_us,
            probability=other.probability,
        )
    status: Status = "proven" if best.clock.rms_us < 0.15 * best.clock.unit_us else "uncertain"
    picture = Strips(tuple(marks.tolist()), tuple(spaces.tolist()), tuple(clusters))
    line_code = CODE_NAMES[best.code].capitalize()
    title = tr("{line_code}, unit {unit_us:.0f} µs", line_code=line_code, unit_us=best.clock.unit_us)
    return Card(title, sentence, status, why=why, picture=picture)


def _hold_card(press: Caught, best: Reading | None) -> Card:
    sheet = best.sheet if best is not None else None
    title = tr(
        "Held {held_s:.2f} s: {repeats}",
        held_s=press.reading.held_us / 1e6,
        repeats=plural(press.repeats, "repeat", "repeats"),
    )
    if sheet is not None and sheet.frame(sheet.press.held[0]).repeat:
        text = tr("A short frame without bits, sent while the key is held, stands for the first one.")
    elif best is not None and "toggle" in best.fields:
        text = tr(
            "The same frame again, its toggle bit still {toggle}: one press. The next press turns it.",
            toggle=best.fields["toggle"],
        )
    elif sheet is not None and press.repeats + 1 < sheet.press.count:
        text = tr(
            "Such remotes send a frame {count} times or more; the others were not heard.", count=sheet.press.count
        )
    elif sheet is not None and sheet.press.count > 1 and press.repeats < sheet.press.count:
        text = tr("Every press sends its frame {count} times; this one was not held.", count=sheet.press.count)
        title = tr("{repeats}, as always", repeats=plural(press.repeats, "repeat", "repeats"))
    else:
        text = tr("The same frame again, after less than 150 ms of silence.")
    return Card(title, text, "note")


def _missed_card(press: Caught) -> Card:
    count = plural(len(press.reading.frames), "repeat", "repeats")
    text = tr(
        "{count}, but not the frame they stand for: which key it was cannot be known. Press it again.", count=count
    )
    return Card(tr("The first frame was missed"), text, "uncertain")


def _stray_card(press: Caught) -> Card:
    pulses = press.reading.frames[0][1] - press.reading.frames[0][0] + 1
    marks = plural(pulses // 2 + 1, "mark", "marks")
    return Card(
        tr("A stray"),
        tr("{marks} without the timing of a frame. Lamps and radio noise make them.", marks=marks),
        "note",
    )


def _caught_once(press: Caught, caught: Tally) -> bool:
    if press.repeats or (press.reading.check_count and press.reading.checks_hold):
        return False
    return caught.codes[press.code] == 1


def _once_card(press: Caught) -> Card:
    name = f"“{press.label}”" if press.label else tr("This code")
    text = tr("One frame without a repeat or a check can be a stray. Press it again to be sure.")
    return Card(tr("{name} was caught once only", name=name), text, "uncertain")


def _key_cards(press: Caught, keys: list[Key]) -> list[Card]:
    cards = []
    key = next((key for key in keys if key.name == press.label), None)
    if key is not None and key.same_as:
        others = " and ".join(f"“{name}”" for name in key.same_as)
        cards.append(
            Card(
                tr("“{name}” and {others} send the same", name=key.name, others=others),
                tr("Two names for one code."),
                "uncertain",
                go="Handset",
            )
        )
    if key is not None and key.contradicts:
        text = tr("Presses with this label sent different codes. One of them may be mislabelled.")
        cards.append(Card(tr("“{name}” has sent more than one code", name=key.name), text, "uncertain", go="Handset"))
    if not press.label and press.code is not None:
        known = next((k for k in keys if k.best is not None and k.best.code == press.code), None)
        if known is not None:
            title = tr("Sends what “{name}” sends", name=known.name)
            cards.append(Card(title, tr("Give it that label, or press another key."), "note", label=known.name))
    missing = [key.name for key in keys if key.best is None]
    if missing:
        text = ", ".join(missing[:6]) + (tr(" and {more} more", more=len(missing) - 6) if len(missing) > 6 else "")
        title = plural(len(missing), "key is not caught yet", "keys are not caught yet")
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
