"""Frames with a stray pulse in or beside them, read as if it were not there."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.linecode.closeness import CLEAN
from eager_tern.linecode.likeliest import likeliest
from eager_tern.linecode.prices import DISTURBED, STRAY
from eager_tern.protocol.may_lie import LEAST_AGREEMENT, MOST_GLITCHES, may_lie
from eager_tern.protocol.reading import SERIAL, Reading, by_size, fits_closely, read_by_sheets, read_frame
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.shapes import code_shapes
from eager_tern.protocol.tolerance import coarsest
from eager_tern.signal.assumed import LONGEST_FRAME_US
from eager_tern.signal.evidence import LineEvidence
from eager_tern.signal.order import quantile
from eager_tern.signal.values import Floats, Pulses

SHORT = 0.45  # of the shorter pulses: what is shorter still is no pulse of the frame
SHORTEST_BIT = 0.25  # of a bit of serial characters, however the receiver shortens it
FEWEST_TO_MEND = 7  # pulses of a burst that may be a frame with a stray in it
MOST_TRIED = 4  # of the shortest marks and as many spaces, one of which may be a stray
FEWEST_CHECKED = 8  # bits that have to hold then
CLOSE = 0.8  # of what a sheet allows for between ruler and edges: a pulse wrongly left out shows in all of them


class Mended(Struct, frozen=True):
    """A frame read after all: the pulses as they were read, the readings, and what was done, in words.

    ``price`` is what was assumed for it, in nats, below 0.
    """

    pulses: Pulses
    readings: tuple[Reading, ...]
    how: str
    price: float


def reads_well(readings: Sequence[Reading]) -> bool:
    """Whether the best reading needs no second look: a protocol whose checks hold, or a clean line code."""
    if not readings:
        return False
    best = readings[0]
    return best.checks_hold and (best.known or best.clock.rms_us < CLEAN * best.clock.unit_us)


def lies_close(reading: Reading) -> bool:
    """Whether a sheet's frame lies so close on the ruler that a check which fails is damage, and no other frame."""
    sheet, clock = reading.sheet, reading.clock
    return sheet is not None and clock.rms_us < CLOSE * coarsest(sheet.alphabet) * clock.unit_us


def _reads_closely(readings: Sequence[Reading]) -> bool:
    """Whether a frame reads well after some of its pulses were left out."""
    return reads_well(readings) and (not readings[0].known or lies_close(readings[0]))


def mend(pulses: Pulses, sheets: Sequence[Sheet]) -> Mended | None:
    """The frame in a burst, without stray pulses; None where that gives no frame of a known protocol."""
    if pulses.durations_us.size < FEWEST_TO_MEND or pulses.duration_us > LONGEST_FRAME_US:
        return None
    return leave_out_glitches(pulses, sheets) or fit_known(pulses, sheets)


def leave_out_glitches(pulses: Pulses, sheets: Sequence[Sheet]) -> Mended | None:
    """The frame in a burst without the few pulses that are too short for it, if it then reads well."""
    without, left_out = _without_glitches(pulses)
    readings = read_frame(without, sheets) if left_out else ()
    if not _reads_closely(readings) or readings[0].stands_for_repeat:
        return None
    best = readings[0]
    if best.code == SERIAL and max(left_out) > SHORTEST_BIT * best.clock.unit_us:
        return None  # characters have nothing that would not hold without one of their bits
    return _left_out(without, readings, len(left_out))


def close_without_glitches(bursts: Sequence[Pulses], sheets: Sequence[Sheet]) -> list[Mended | None]:
    """The same for the bursts that are then so close to a sheet's frame that nothing could explain them better."""
    found: list[Mended | None] = [None] * len(bursts)
    glitched = [
        at for alike, durations in by_size(bursts) for at in np.array(alike)[_have_glitches(durations)].tolist()
    ]
    tried = {at: _without_glitches(bursts[at]) for at in sorted(glitched)}
    read = read_by_sheets([without for without, _ in tried.values()], sheets)
    for (at, (without, left_out)), readings in zip(tried.items(), read, strict=True):
        if readings and readings[0].code != SERIAL and fits_closely(readings[0]):
            found[at] = _left_out(without, readings, len(left_out))
    return found


def _left_out(without: Pulses, readings: tuple[Reading, ...], count: int) -> Mended:
    return Mended(without, readings, f"{count} stray {'pulse' if count == 1 else 'pulses'} left out", STRAY * count)


def leave_out_one(pulses: Pulses, sheets: Sequence[Sheet]) -> Mended | None:
    """The frame in a burst without one of its shortest pulses, if checks of many bits then hold."""
    tried = list(without_one_short(pulses))
    read = read_by_sheets(tried, sheets)
    held = [at for at, readings in enumerate(read) if _is_held(readings)]
    if not held:
        return None
    closest = tried[min(held, key=lambda at: read[at][0].clock.rms_us)]
    readings = read_frame(closest, sheets)  # beside what its line code alone would say
    return _left_out(closest, readings, 1) if _is_held(readings) else None


def _is_held(readings: Sequence[Reading]) -> bool:
    """Whether a frame reads closely and checks of many bits hold; of serial characters any pulse is a bit."""
    if not _reads_closely(readings) or readings[0].code == SERIAL:
        return False
    return has_checks(readings[0])


def has_checks(reading: Reading) -> bool:
    """Whether its checks are of so many bits that they hardly hold by chance."""
    return checked_bits(reading) >= FEWEST_CHECKED


def checked_bits(reading: Reading) -> int:
    """How many bits could not be otherwise if its checks hold."""
    return sum(check.width for check in reading.checks)


def without_one_short(pulses: Pulses) -> Iterator[Pulses]:
    """The burst without each of its shortest marks and spaces in turn, the two pulses beside it joined.

    Each among its like: where the receiver lengthens marks, a stray one is no shorter than many a space.
    """
    d = pulses.durations_us
    spaces, marks = (np.argsort(d[first:-1:2])[:MOST_TRIED] * 2 + first for first in (1, 2))
    for at in np.concatenate((spaces, marks)).tolist():
        joined = np.concatenate((d[: at - 1], [d[at - 1 : at + 2].sum()], d[at + 2 :]))
        yield Pulses(joined, pulses.start_us, pulses.carrier_hz)


def _have_glitches(durations_us: Floats) -> NDArray[np.bool_]:
    """Which of several bursts, shape (bursts, pulses), have pulses that are far too short, but few of them."""
    count = (durations_us < SHORT * quantile(durations_us, 0.25)[..., None]).sum(axis=-1)
    few: NDArray[np.bool_] = (count > 0) & (count <= MOST_GLITCHES)
    return few


def _without_glitches(pulses: Pulses) -> tuple[Pulses, list[float]]:
    """The pulses with the few that are far too short joined to their neighbours, and how long those were (µs)."""
    d = pulses.durations_us
    if not _have_glitches(d):
        return pulses, []
    bound = SHORT * float(quantile(d, 0.25))
    left = d.tolist()
    start, left_out = pulses.start_us, []
    while (at := int(np.argmin(left))) >= 0 and left[at] < bound and len(left) > 3:
        left_out.append(left[at])
        if at == 0:
            start += left[0] + left[1]
            left = left[2:]
        elif at == len(left) - 1:
            left = left[:-2]
        else:
            left[at - 1 : at + 2] = [sum(left[at - 1 : at + 2])]
    return Pulses(np.array(left), start, pulses.carrier_hz), left_out


def fit_known(
    pulses: Pulses, sheets: Sequence[Sheet], unit_us: tuple[float, float] | None = None, fewest_bits: int = 0
) -> Mended | None:
    """The likeliest frame of the sheets in a line with errors; ``unit_us`` is the range of its unit, where known, and
    ``fewest_bits`` what it has at least.
    """
    shapes = [shape for shape in code_shapes(sheets) if not shape.bits or shape.bits >= fewest_bits]
    shapes = [narrowed for shape in shapes if (narrowed := may_lie(shape, pulses, unit_us)) is not None]
    best: Mended | None = None
    most = 0.0
    for shape in shapes:
        evidence = LineEvidence(pulses, sum(shape.unit_us) / 8)
        unit = shape.unit_us[0]
        found = likeliest(evidence, pulses.start_us - unit, pulses.end_us + 4 * unit, [shape])
        if found is None:
            continue
        cells = found.pulses.duration_us / (sum(shape.unit_us) / 8)
        agreement = found.gain / (cells * LineEvidence.RIGHT - shape.bits * float(np.log(2)))
        if agreement <= LEAST_AGREEMENT or found.gain <= most:
            continue
        readings = read_frame(found.pulses, sheets)
        if reads_well(readings) and readings[0].known:
            sure = tuple(replace(r, confidence=r.confidence * found.certainty * min(agreement, 1.0)) for r in readings)
            how = "read as the likeliest frame in a disturbed line"
            most, best = found.gain, Mended(found.pulses, sure, how, DISTURBED)
    return best


def raw_range(edges_us: Floats, start_us: float, end_us: float) -> tuple[int, int]:
    """First and last mark (even indices) of the pulses nearest to a stretch; ``edges_us`` are all edges."""
    starts, ends = edges_us[:-1:2], edges_us[1::2]
    first = 2 * int(np.argmin(np.abs(starts - start_us)))
    last = 2 * int(np.argmin(np.abs(ends - end_us)))
    return first, max(first, last)
