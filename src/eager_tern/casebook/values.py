"""What the casebook gives back."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

from msgspec import Struct, field

from eager_tern.linecode.values import bit_text
from eager_tern.protocol.fields import Value
from eager_tern.protocol.presses import Press
from eager_tern.protocol.reading import Reading
from eager_tern.signal.baseband import Keying
from eager_tern.signal.by_hand import FOUND_OUT, ByHand


class Gadget(Struct, frozen=True):
    id: int
    name: str
    about: str = ""


class Faint(Struct, frozen=True):
    """A stretch (µs of the take) whose pulses no threshold gave, but the likeliest frame.

    ``certainty`` is the probability that its bits are right.
    """

    start_us: float
    end_us: float
    certainty: float


class Measured(Struct, frozen=True, omit_defaults=True):
    """What was measured of a take besides its pulses."""

    keying: Keying | None = None
    deviation_hz: float | None = None
    carrier_duty: float | None = None
    faint: tuple[Faint, ...] = ()


NOT_MEASURED = Measured()


class Take(Struct, frozen=True):
    id: int
    gadget_id: int
    source: str
    format: str
    started_at: float
    sample_rate_hz: float | None = None
    polarity: str | None = None
    carrier_hz: float | None = None
    path: str = ""
    channel: int | None = None
    by_hand: ByHand = FOUND_OUT
    measured: Measured = NOT_MEASURED
    cut: bool = False
    read_whole: bool = True
    hidden: bool = False

    @property
    def turned(self) -> bool:
        """Whether the user wants marks and spaces the other way round."""
        return self.by_hand.polarity is not None and self.by_hand.polarity != (self.polarity or "mark-high")


class PressReading(Struct, frozen=True, omit_defaults=True):
    """What was read of a press, as kept in the casebook.

    ``frames`` are index ranges of marks in the take's pulses; ``turning`` names the fields that change by themselves
    from press to press, as a toggle does. ``sections`` are the bits of each section, if there are several. ``steady``
    are the bits beside those that turn and their checks (dots), where no field but the turning ones is known.
    """

    frames: tuple[tuple[int, int], ...]
    start_us: float
    held_us: float
    protocol: str = ""
    kind: str = ""
    bits: str = ""
    fields: dict[str, Value] = {}
    turning: tuple[str, ...] = ()
    confidence: float = 0.0
    checks_hold: bool = True
    check_count: int = 0
    first_missed: bool = False
    mended: str = ""
    sections: tuple[int, ...] = ()
    steady: str = ""

    @property
    def place(self) -> int:
        """What tells it from all others of its take, however that is read: when it begins, in whole µs."""
        return round(self.start_us)

    @property
    def code(self) -> tuple[str, tuple[tuple[str, Value], ...], str] | None:
        """What tells one key from another: protocol and fields (but those that turn), or the bits beside them.

        None where only repeats were caught.
        """
        if self.first_missed:
            return None
        fields = tuple((name, value) for name, value in self.fields.items() if name not in self.turning)
        return (self.protocol, fields, "" if fields else self.steady or self.bits)

    def overlaps(self, other: PressReading) -> bool:
        """Whether two presses of one recording were sent at the same time."""
        ends = self.start_us + self.held_us, other.start_us + other.held_us
        return self.start_us < ends[1] and other.start_us < ends[0]


class PassageRead(Struct, frozen=True):
    """What was read between two times of a take (µs, the second not included), in place of all that was known there.

    ``presses`` and ``strays`` are in the order sent. ``labels`` are those that presses get when they are new, by the
    index of their first mark.
    """

    from_us: float
    to_us: float
    presses: tuple[PressReading, ...] = ()
    strays: tuple[PressReading, ...] = ()
    labels: Mapping[int, str] = field(default_factory=dict)


class Caught(Struct, frozen=True, dict=True):
    """A press (or a stray) with what the user says about it."""

    id: int
    take_id: int
    gadget_id: int
    caught_at: float
    label: str
    stray: bool
    deleted: bool
    reading: PressReading

    @property
    def repeats(self) -> int:
        return len(self.reading.frames) - (0 if self.reading.first_missed else 1)

    @cached_property
    def code(self) -> tuple[str, tuple[tuple[str, Value], ...], str] | None:
        """What tells one key from another; None where only repeats were caught, and of a stray."""
        return None if self.stray else self.reading.code


class KeyPlace(Struct, frozen=True):
    """Where a key stands on its gadget's plate."""

    name: str
    row: int
    col: int


def press_reading(press: Press) -> PressReading:
    """What is kept of a press."""
    best = press.lead.best
    frames = tuple((frame.first, frame.last) for frame in press.frames)
    if best is None:
        return PressReading(frames=frames, start_us=press.start_us, held_us=press.held_us)
    return PressReading(
        frames=frames,
        start_us=press.start_us,
        held_us=press.held_us,
        protocol=best.protocol,
        kind=best.kind,
        bits=bit_text(best.bits),
        fields=best.fields,
        turning=tuple(field.name for field in best.sheet.fields if field.role) if best.sheet is not None else (),
        confidence=best.confidence,
        checks_hold=best.checks_hold,
        check_count=len(best.checks),
        first_missed=press.first_missed,
        mended=press.lead.mended,
        sections=best.sections,
        steady=_steady(best),
    )


def _steady(reading: Reading) -> str:
    """The bits of a reading whose sheet knows only what turns, without that and the checks, which turn with it."""
    sheet = reading.sheet
    if sheet is None or not sheet.fields or not all(f.role for f in sheet.fields):
        return ""
    beside = list(bit_text(reading.meant))
    for each in (*(f.bits for f in sheet.fields), *(check.at for check in sheet.checks)):
        for at in each.index.tolist():
            beside[at] = "·"
    return "".join(beside)
