"""Repeats repair each other: of a frame sent several times, the version heard most often is believed."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

import numpy as np
from msgspec.structs import replace

from eager_tern.linecode.closeness import CLEAN, UNEVEN
from eager_tern.linecode.values import Bits
from eager_tern.protocol.checks import evaluate
from eager_tern.protocol.damaged import has_checks, raw_range, reads_well, without_one_short
from eager_tern.protocol.matching import match_sheets
from eager_tern.protocol.presses import Frame, at_most
from eager_tern.protocol.reading import Reading, field_values, reading_of_match
from eager_tern.protocol.wholeness import DOUBTED, is_left_of
from eager_tern.signal.assumed import LONGEST_SILENCE_US
from eager_tern.signal.measure import level_at
from eager_tern.signal.values import Floats, Pulses

MOST_WRONG = 1 / 6  # of the bits: with more, it is another frame
SAME_LENGTH = 0.12
AGREES = 0.86  # of the time on the same level: a damaged copy of a frame
DAMAGED = "damaged; has pulses where its repeat has them"
LEFT_OUT = "1 stray pulse left out, as its repeat shows"
SHIFTS = 24
REACH_UNITS = 12


def repaired_by_repeats(
    pulses: Pulses, frames: Sequence[Frame], strays: Sequence[tuple[int, int, Pulses]]
) -> tuple[list[Frame], set[int]]:
    """The frames as corrected by their repeats, and the first marks of the bursts that turned out to be repeats.

    ``pulses`` are the whole take's; ``strays`` are first mark, last mark and pulses of bursts that could not be read.
    """
    edges = pulses.edge_times_us
    rows: list[Frame | tuple[int, int, Pulses]] = sorted([*frames, *strays], key=_first)
    out: list[Frame] = []
    taken: set[int] = set()
    for group in _close_together(rows):
        whole = [item for item in group if isinstance(item, Frame)]
        if len(whole) == len(group) and _say_the_same(whole):
            out += whole
            continue
        model = _model(whole)
        for item in group:
            if isinstance(item, Frame):
                out.append(_agreeing(item, model, whole, pulses, edges) if model is not None else item)
            elif model is not None and (copy := _copy_of(model, *item)) is not None:
                out.append(copy)
                taken.add(item[0])
    return out, taken


def _first(item: Frame | tuple[int, int, Pulses]) -> int:
    return item.first if isinstance(item, Frame) else item[0]


def _pulses(item: Frame | tuple[int, int, Pulses]) -> Pulses:
    return item.pulses if isinstance(item, Frame) else item[2]


def _close_together(
    rows: Sequence[Frame | tuple[int, int, Pulses]],
) -> list[list[Frame | tuple[int, int, Pulses]]]:
    groups: list[list[Frame | tuple[int, int, Pulses]]] = []
    for item in rows:
        if groups and _pulses(item).start_us - _pulses(groups[-1][-1]).end_us < LONGEST_SILENCE_US:
            groups[-1].append(item)
        else:
            groups.append([item])
    return groups


def _model(frames: Sequence[Frame]) -> Frame | None:
    """The frame that most of its repeats agree with, one whose checks hold before all others; of two that are alone the
    longer, since damage takes bits.
    """
    with_bits = [f for f in frames if f.best is not None and f.best.bits.size]
    if not with_bits:
        return None
    said = Counter(f.reading.bits.tobytes() for f in with_bits)
    return max(
        with_bits,
        key=lambda f: (
            _trust(f),
            said[f.reading.bits.tobytes()],
            f.reading.bits.size,
            f.reading.confidence,
            -f.reading.clock.rms_us,
        ),
    )


def _say_the_same(frames: Sequence[Frame]) -> bool:
    """Whether all of some frames that have bits say the same, so that none could repair another."""
    said = {(f.reading.protocol, f.reading.bits.tobytes()) for f in frames if f.best is not None and f.best.bits.size}
    return len(said) <= 1


def _trust(frame: Frame) -> int:
    """How much a frame says for itself, however often it came: a start bit or a parity holds for damaged ones, too."""
    best = frame.reading
    if not best.known:
        return -1 if best.confidence <= DOUBTED else 0
    if best.confidence <= DOUBTED:
        return 0
    return (3 if has_checks(best) else 2) if best.checks_hold else 1


def _supporters(frame: Frame, frames: Sequence[Frame]) -> int:
    return sum(np.array_equal(frame.reading.bits, other.reading.bits) for other in frames)


def _agreeing(frame: Frame, model: Frame, frames: Sequence[Frame], pulses: Pulses, edges: Floats) -> Frame:
    """The frame unchanged, or with the few bits corrected in which it differs from its repeats."""
    best, right = frame.best, model.reading
    if best is None or not best.bits.size or frame is model:
        return frame
    if not best.known and (repeat := _repeat_of(model, frame.first, frame.last, frame.pulses)) is not None:
        return repeat
    same_code = best.protocol == right.protocol or not (best.known and right.known)
    coded = [f for f in frames if f.best is not None]
    if not same_code or best.bits.size != right.bits.size:
        weaker = _trust(frame) < _trust(model)
        outvoted = _trust(frame) == _trust(model) and _supporters(model, coded) > _supporters(frame, coded)
        if weaker or outvoted:
            repeat = _repeat_of(model, frame.first, frame.last, frame.pulses)
            repeat = repeat or (_copy_near(model, frame, pulses, edges) if right.known else None)
            if repeat is not None:
                return repeat
        copy = (weaker and _alike(frame.pulses, model.pulses)) or (outvoted and is_left_of(best.bits, right.bits))
        if copy:
            return _damaged_copy(model, frame.first, frame.last, frame.pulses)
        if best.known and right.known and _supporters(frame, coded) == 1 and _may_be_left_of(best, right):
            return at_most(frame, DOUBTED)
        return _doubted_beside(model, frame) if weaker and _supporters(model, coded) > 1 else frame
    wrong = int(np.sum(best.bits != right.bits))
    if wrong == 0:
        return frame
    if frame.mended and not model.mended:
        # What was read in a disturbed line may be a symbol off; the repeat says where to look.
        return _copy_near(model, frame, pulses, edges) or frame
    several = _supporters(model, coded) > 1
    if several and wrong > MOST_WRONG * best.bits.size and _is_shifted(best.bits, right.bits):
        return _damaged_copy(model, frame.first, frame.last, frame.pulses)
    doubtful = bool(frame.mended) or not reads_well(frame.readings) or best.clock.rms_us > CLEAN * best.clock.unit_us
    mends = _trust(frame) < _trust(model) or (doubtful and several)
    if wrong > MOST_WRONG * best.bits.size or not mends or _turned(best, right):
        return frame
    words = "1 bit" if wrong == 1 else f"{wrong} bits"
    reading = _with_bits(right, right.bits)
    return replace(frame, readings=(reading,), mended=f"{words} of {best.bits.size} taken from the repeats")


def _is_shifted(bits: Bits, other: Bits) -> bool:
    """Whether bits are others of which the first was lost, or before which one was added."""
    return is_left_of(bits[:-1], other) or is_left_of(bits[1:], other)


def _turned(reading: Reading, other: Reading) -> bool:
    """Whether a toggle or counter differs: then it is the next press, and no damage."""
    fields = reading.sheet.fields if reading.sheet is not None else ()
    return any(f.role and reading.fields.get(f.name) != other.fields.get(f.name) for f in fields)


def _with_bits(reading: Reading, bits: Bits) -> Reading:
    """A reading of the same sheet with other bits."""
    sheet = reading.sheet
    if sheet is None:
        return replace(reading, bits=bits)
    meant = sheet.frame(reading.kind).turned(bits)
    return replace(
        reading,
        bits=bits,
        fields=field_values(sheet, meant),
        checks=tuple(evaluate(check, meant) for check in sheet.checks),
    )


def _damaged_copy(model: Frame, first: int, last: int, pulses: Pulses) -> Frame:
    return Frame(first, last, pulses, (model.reading,), DAMAGED, model.as_read)


def _copy_of(model: Frame, first: int, last: int, pulses: Pulses) -> Frame | None:
    """A stray burst as a repeat of the model, if it is a damaged copy of it."""
    if _alike(pulses, model.pulses):
        return _damaged_copy(model, first, last, pulses)
    return _repeat_of(model, first, last, pulses)


def _repeat_of(model: Frame, first: int, last: int, pulses: Pulses) -> Frame | None:
    """A burst as another frame of the model's press, if it says the same as it is or without one short pulse.

    It may be too uneven, or with a repeat code of three pulses too short, to be read by itself.
    """
    best = model.reading
    if best.sheet is None:
        return None
    # As the receiver gave the model, and with the repeat codes, which only a family's first sheet speaks for.
    as_received = replace(best.sheet, mark_excess_us=best.clock.excess_us, id=best.sheet.family)
    tried = list(without_one_short(pulses))
    fitting = match_sheets(pulses.durations_us[None], (as_received,), UNEVEN)
    fitting += match_sheets(np.array([without.durations_us for without in tried]), (as_received,), UNEVEN)
    for without, matches in zip([pulses, *tried], fitting, strict=True):
        for match in matches:
            if np.array_equal(match.meant, best.meant) if match.bits.size else match.kind.repeat:
                reading = reading_of_match(replace(match, sheet=best.sheet), best.confidence)
                if without is pulses:
                    return Frame(first, last, pulses, (reading,))
                return Frame(first, last, pulses, (reading,), LEFT_OUT, without)
    return None


def _may_be_left_of(short: Reading, long: Reading) -> bool:
    """Whether a frame of one protocol may be what damage left of another's, sent in symbols as long: few checks speak
    for it.
    """
    as_fast = abs(short.clock.unit_us / long.clock.unit_us - 1) < SAME_LENGTH
    return short.code == long.code and short.bits.size < long.bits.size and as_fast and not has_checks(short)


def _doubted_beside(model: Frame, frame: Frame) -> Frame:
    """An uneven frame of a known one's length and line code: rather a copy of which too little is left."""
    best = frame.reading
    alike = best.code == model.reading.code and best.clock.rms_us > CLEAN * best.clock.unit_us
    same_length = abs(frame.pulses.duration_us / model.pulses.duration_us - 1) < SAME_LENGTH
    return at_most(frame, DOUBTED) if alike and same_length else frame


def _copy_near(model: Frame, frame: Frame, pulses: Pulses, edges: Floats) -> Frame | None:
    """The model's frame found in the line about another one, whatever that was read as."""
    unit = model.reading.clock.unit_us
    times = np.arange(0.0, model.as_read.duration_us, unit / 8)
    theirs = level_at(model.as_read, times)
    starts = edges[:-1:2]
    near = starts[np.abs(starts - frame.pulses.start_us) < REACH_UNITS * unit]
    if near.size == 0:
        return None
    levels = np.searchsorted(edges, near[:, None] + times, side="right") % 2 == 1
    agreement = (levels == theirs).mean(axis=1)
    at = int(np.argmax(agreement))
    if agreement[at] < AGREES:
        return None
    first, last = raw_range(edges, float(near[at]), float(near[at]) + model.as_read.duration_us)
    whole = Pulses(model.as_read.durations_us, float(near[at]), pulses.carrier_hz)
    return Frame(first, last, pulses.part(first, last), (model.reading,), DAMAGED, whole)


def _alike(pulses: Pulses, other: Pulses) -> bool:
    """Whether two bursts are on the same level nearly all the time, at the best of a few shifts."""
    if abs(pulses.duration_us / other.duration_us - 1) > SAME_LENGTH or other.durations_us.size < 9:
        return False
    step = float(np.quantile(other.durations_us, 0.25)) / 8
    times = np.arange(0.0, max(pulses.duration_us, other.duration_us), step)
    theirs = level_at(other, times)
    return any(
        float(np.mean(level_at(pulses, times + shift * step) == theirs)) > AGREES
        for shift in range(-SHIFTS, SHIFTS + 1)
    )
