"""Presses that are to be sent: made from a sheet where one reproduces the capture, else as they were recorded."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace

from eager_tern.casebook.keys import Key, table_of_keys
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import Caught, Gadget, PressReading
from eager_tern.errors import InputError, did_you_mean
from eager_tern.linecode.values import NO_BITS, Bits, bit_text, bits_of_text
from eager_tern.protocol.checks import fill_in
from eager_tern.protocol.fields import Value, marked, value_of
from eager_tern.protocol.loading import library_sheet, parse_sheet
from eager_tern.protocol.making import frames_of_bits, make_frame, press_frames
from eager_tern.protocol.presses import Press
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import TakeRead
from eager_tern.protocol.template import frame_pulses
from eager_tern.signal.assumed import USUAL_REST_US
from eager_tern.signal.values import Floats, Pulses, pulses_from_signed, signed_durations

# Behind a frame whose gap nobody recorded: as between the frames of most handsets, and shorter than what makes two
# presses of one (150 ms).
CLOCK_ERROR = 0.07  # of handsets with a ceramic resonator or a worse clock: what is off by more has another unit


class Saying(Struct, frozen=True):
    """One press to be sent. ``frames`` are signed durations (µs), each with the silence behind it.

    ``made`` tells that they come from a sheet and not from a recording; ``held`` is the frame that follows for as long
    as a key is held. ``bits`` are those of the first frame, where they are known. ``sheet`` and ``values`` are what it
    was made from.
    """

    what: str
    frames: tuple[Floats, ...]
    held: Floats
    carrier_hz: float | None = None
    made: bool = False
    bits: Bits = field(default_factory=lambda: NO_BITS)
    sheet: Sheet | None = None
    values: Mapping[str, Value] = field(default_factory=dict)

    @property
    def pulses(self) -> Pulses:
        """The first frame."""
        return pulses_from_signed(self.frames[0], 0.0, self.carrier_hz)

    @property
    def duration_s(self) -> float:
        """From the first mark to the end of the last frame's last mark."""
        whole = sum(float(np.abs(frame).sum()) for frame in self.frames)
        return (whole + min(float(self.frames[-1][-1]), 0.0)) / 1e6

    def times(self, count: int) -> Saying:
        """With so many frames in all, at its own rhythm; a sheet's least count stands."""
        if count <= 0:
            return self
        if self.sheet is not None:
            return said_by_sheet(self.what, self.sheet, self.values, count)
        more = (self.held,) * (count - len(self.frames))
        return replace(self, frames=(*self.frames[:count], *more))


def said_by_sheet(what: str, sheet: Sheet, values: Mapping[str, Value], frames: int = 0) -> Saying:
    """A press made from values for a sheet's fields. Raises InputError for unknown names and values out of range."""
    sent = press_frames(sheet, values, frames)
    one_more = press_frames(sheet, values, len(sent) + 1)[-1]
    made = make_frame(sheet, values)
    return Saying(what, tuple(sent), one_more, sheet.carrier_hz, True, made.bits, sheet, dict(values))


def said_by_bits(what: str, sheet: Sheet, bits: Bits) -> Saying:
    """A press whose frames have these bits, as meant."""
    frames = tuple(frames_of_bits(sheet, bits))
    one_more = frames_of_bits(sheet, bits, len(frames) + 1)[-1]
    kind = sheet.frame(sheet.press.first[0])
    return Saying(what, frames, one_more, sheet.carrier_hz, True, kind.turned(bits))


def said_as_recorded(what: str, pulses: Pulses, frames: Sequence[tuple[int, int]], bits: Bits = NO_BITS) -> Saying:
    """The frames of a recording, by their first and last marks, with the silences that were between them."""
    spans = list(frames)
    if not spans:
        raise InputError(what, "holds no frame that could be sent")
    sent: list[Floats] = []
    for at, (first, last) in enumerate(spans):
        follows = at + 1 < len(spans)
        gap = float(pulses.durations_us[last + 1 : spans[at + 1][0]].sum()) if follows else _rest(sent)
        sent.append(np.append(signed_durations(pulses.part(first, last)), -gap))
    return Saying(what, tuple(sent), sent[-1], pulses.carrier_hz, False, bits)


def _rest(sent: Sequence[Floats]) -> float:
    """The silence behind the last frame: that behind the ones before it."""
    return -float(sent[-1][-1]) if sent else USUAL_REST_US


def said_by_press(what: str, press: Press, take: TakeRead) -> Saying:
    """A press of a take, as it was recorded."""
    best = press.lead.best
    spans = [(frame.first, frame.last) for frame in press.frames]
    return said_as_recorded(what, take.pulses, spans, best.bits if best is not None else NO_BITS)


class Handset:
    """What a gadget is told by: its keys and the fields of its sheet. It counts and toggles on from press to press.

    ``pulses_of`` gives a take's pulses by its id; ``presses`` are those heard last, which counters go on from.
    """

    def __init__(
        self,
        name: str,
        keys: Sequence[Key],
        own_sheets: Mapping[str, Sheet],
        presses: Iterable[Caught],
        pulses_of: Callable[[int], Pulses],
        as_recorded: bool = False,
    ) -> None:
        self.name = name
        self.keys: dict[str, Key] = {key.name: key for key in keys if key.best is not None}
        self.own_sheets = dict(own_sheets)
        self._pulses_of = pulses_of
        self._as_recorded = as_recorded
        self._turned: dict[tuple[str, str], int] = {}  # what a sheet's counter last was
        for press in presses:
            self._heard(press)

    @classmethod
    def of_casebook(cls, casebook: Casebook, gadget: Gadget, as_recorded: bool = False) -> Handset:
        """Raises InputError where one of the gadget's own sheets cannot be used."""
        presses = casebook.presses(gadget.id)
        own = {name: parse_sheet(text, f"sheet {name}") for name, text in casebook.sheets(gadget.id).items()}
        keys = table_of_keys(presses, casebook.key_places(gadget.id))
        return cls(gadget.name, keys, own, presses, casebook.take_pulses, as_recorded)

    @property
    def key_names(self) -> tuple[str, ...]:
        return tuple(self.keys)

    @property
    def sheet(self) -> Sheet | None:
        """The gadget's own sheet, else the library's that its keys were read by."""
        if self.own_sheets:
            return next(iter(self.own_sheets.values()))
        read = [key.best.reading.protocol for key in self.keys.values() if key.best is not None]
        return next((sheet for name in read if (sheet := library_sheet(name)) is not None), None)

    def key(self, name: str) -> Saying:
        """What a key sends. Raises InputError where there is no such key, naming those there are."""
        key = self.keys.get(name) or next((k for n, k in self.keys.items() if n.casefold() == name.casefold()), None)
        if key is None or key.best is None:
            meant = did_you_mean(name, self.keys) or f"; it has {', '.join(self.keys) or 'none'}"
            raise InputError(self.name, f'has no key "{name}" that was caught{meant}')
        return self.press(key.best, key.name)

    def press(self, caught: Caught, name: str = "") -> Saying:
        """A press of the log: made where a sheet makes its very bits, else as it was recorded."""
        what = name or caught.label or f"press {caught.id}"
        sheet = None if self._as_recorded else self.sheet_that_reproduces(caught)
        if sheet is not None:
            return self._made(what, self.in_its_time(sheet, caught), caught.reading.fields)
        pulses = self._pulses_of(caught.take_id)
        bits = bits_of_text(caught.reading.bits)
        return said_as_recorded(what, pulses, caught.reading.frames, bits)

    def _sheet_of(self, reading: PressReading) -> Sheet | None:
        """The sheet that a press was read by."""
        return self.own_sheets.get(reading.protocol) or library_sheet(reading.protocol)

    def sheet_that_reproduces(self, caught: Caught) -> Sheet | None:
        """The sheet that makes the bits of a press from its fields; None where none does."""
        reading = caught.reading
        sheet = self._sheet_of(reading)
        if sheet is None or reading.first_missed:
            return None
        try:
            made = make_frame(sheet, reading.fields)
        except InputError:
            return None
        return sheet if bit_text(made.bits) == reading.bits else None

    def fields(self, what: str, values: Mapping[str, Value]) -> Saying:
        """A frame set by its fields. Raises InputError."""
        if self.sheet is None:
            raise InputError(self.name, f'has no sheet yet, so that "{what}" cannot be made; name a key instead')
        sheet, common = self.in_common(self.sheet)
        return self._made(what, sheet, {**common, **values})

    def in_common(self, sheet: Sheet) -> tuple[Sheet, dict[str, Value]]:
        """A sheet in the time of the keys that were read by it, and what these have in common."""
        heard = [k.best for k in self.keys.values() if k.best is not None and k.best.reading.protocol == sheet.id]
        return (self.in_its_time(sheet, heard[0]) if heard else sheet), self._in_all_keys(sheet)

    def with_bits(self, what: str, first: int, last: int, number: int) -> Saying:
        """The first key's frame with some of its bits set to a number, the first of them highest; checks follow.

        Raises InputError where there is no such frame or no such bit.
        """
        sheet = self.sheet
        known = [k.best for k in self.keys.values() if k.best is not None and len(k.best.reading.bits) > 0]
        base = next((c for c in known if sheet is not None and len(c.reading.bits) == sheet.bit_count), None)
        if sheet is None or base is None:
            raise InputError(self.name, f'has no sheet yet, so that "{what}" cannot be made; name a key instead')
        if not 0 <= first <= last < sheet.bit_count or not 0 <= number < 1 << (last - first + 1):
            raise InputError(f"sheet {sheet.id}", f"{what}: it has bits 0 to {sheet.bit_count - 1}")
        sheet = self.in_its_time(sheet, base)
        kind = sheet.frame(base.reading.kind) if base.reading.kind else sheet.leads[0]
        sent = bits_of_text(base.reading.bits)
        bits = kind.turned(sent)
        bits[first : last + 1] = list(map(int, f"{number:0{last - first + 1}b}"))
        free = tuple(c for c in sheet.checks if not set(range(first, last + 1)) & set(c.at.index.tolist()))
        return said_by_bits(what, sheet, fill_in(free, bits))

    def in_its_time(self, sheet: Sheet, heard: Caught) -> Sheet:
        """The sheet in the unit of what was heard, where that is another than any clock's error makes it: the unit of
        some handsets hangs on a resistor.
        """
        first, last = heard.reading.frames[0]
        recorded = self._pulses_of(heard.take_id).part(first, last).duration_us
        kind = sheet.frame(heard.reading.kind) if heard.reading.kind else sheet.leads[0]
        bits = bits_of_text(heard.reading.bits)
        if bits.size != sheet.bit_count:
            return sheet
        slower = recorded / frame_pulses(sheet, kind, kind.turned(bits)).duration_us
        if abs(slower - 1) < CLOCK_ERROR:
            return sheet
        rhythm = sheet.press
        gap = rhythm.gap_us * slower if rhythm.gap_us is not None else None
        press = replace(rhythm, gap_us=gap)
        return replace(sheet, unit_us=round(sheet.unit_us * slower, 1), press=press)

    def _in_all_keys(self, sheet: Sheet) -> dict[str, Value]:
        """What all keys of a library's sheet have in common, as their address: it is the gadget's."""
        if sheet.id in self.own_sheets:
            return {}
        said = [
            k.best.reading for k in self.keys.values() if k.best is not None and k.best.reading.protocol == sheet.id
        ]
        plain = {f.name for f in sheet.fields if f.role is None}
        names = plain.intersection(*(reading.fields for reading in said)) if len(said) > 1 else set()
        return {n: said[0].fields[n] for n in names if all(r.fields[n] == said[0].fields[n] for r in said)}

    def _made(self, what: str, sheet: Sheet, values: Mapping[str, Value]) -> Saying:
        turning = {f.name: f.bits.width for f in sheet.fields if f.role is not None}
        given = dict(values)
        for name, width in turning.items():
            last = self._turned.get((sheet.id, name))
            now = 0 if last is None else (last + 1) % (1 << width)
            given[name] = now
            self._turned[sheet.id, name] = now
        return said_by_sheet(what, sheet, given)

    def _heard(self, caught: Caught) -> None:
        """Note what counts on: the next frame said goes on from the last one heard."""
        reading = caught.reading
        sheet = self._sheet_of(reading)
        for f in sheet.fields if sheet is not None else ():
            value = reading.fields.get(f.name)
            if f.role is not None and isinstance(value, int):
                self._turned[reading.protocol, f.name] = value


def fields_in_words(values: Mapping[str, Value]) -> str:
    """`temperature 21, mode dry`."""
    return ", ".join(f"{name} {marked(value)}" for name, value in values.items())


def fields_of_words(words: Sequence[str]) -> dict[str, Value]:
    """Values of `field=value` words. Raises InputError naming the word that is none."""
    given: dict[str, Value] = {}
    for word in words:
        name, equals, text = word.partition("=")
        if not equals or not text or not name:
            raise InputError(word, "is not of the form field=value")
        given[name] = value_of(text)
    return given
