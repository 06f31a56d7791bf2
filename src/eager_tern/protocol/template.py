"""What the pulses of a sheet's frame look like, in units, before any bit is known."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from eager_tern.linecode.values import Bits
from eager_tern.protocol.schema import FrameKind, Shape, Sheet
from eager_tern.signal.values import Floats, Pulses, pulses_from_signed


@dataclass(frozen=True)
class PairTemplate:
    """A frame in a code whose symbols are a mark and a space each.

    All arrays have one entry a pulse: ``zero`` and ``one`` are the lengths in units if its bit is 0 or 1 (the same for
    fixed pulses), ``bit`` the number of its bit, −1 for fixed pulses. A gap between sections is NaN. The others are
    indices of pulses: the fixed ones of known length, and the mark and the space of each bit.
    """

    zero: Floats
    one: Floats
    bit: NDArray[np.intp]
    fixed: NDArray[np.intp]
    first_of_bit: NDArray[np.intp]
    last_of_bit: NDArray[np.intp]


def is_paired(sheet: Sheet) -> bool:
    """Whether every symbol is one mark and one space, so that pulses and bits correspond one to one."""
    return all(len(symbol) == 2 and symbol[0] > 0 for symbol in (sheet.zero, sheet.one))


@lru_cache(maxsize=512)
def _pair_template(zero: tuple[float, ...], one: tuple[float, ...], shape: Shape) -> PairTemplate:
    z: list[float] = []
    o: list[float] = []
    bit: list[int] = []
    count = 0
    for pulses, bits_here, stretch, gap_us in shape:
        if pulses is not None:
            z += [abs(p) for p in pulses]
            o += [abs(p) for p in pulses]
            bit += [-1] * len(pulses)
        elif gap_us is not None:
            if len(z) % 2 == 0:  # the gap swallows the space before it
                z[-1] = o[-1] = float("nan")
                bit[-1] = -1
            else:
                z.append(float("nan"))
                o.append(float("nan"))
                bit.append(-1)
        else:
            for _ in range(bits_here or 0):
                z += [abs(p) * stretch for p in zero]
                o += [abs(p) * stretch for p in one]
                bit += [count, count]
                count += 1
    if len(z) % 2 == 0:  # the last space runs into the silence behind the frame
        z.pop(), o.pop(), bit.pop()
    bits = np.array(bit, dtype=np.intp)
    of_bits = np.flatnonzero(bits >= 0)
    firsts = np.searchsorted(bits[of_bits], np.arange(count))
    lasts = np.searchsorted(bits[of_bits], np.arange(count), side="right") - 1
    fixed = np.flatnonzero((bits < 0) & ~np.isnan(z))
    return PairTemplate(np.array(z), np.array(o), bits, fixed, of_bits[firsts], of_bits[lasts])


def pair_template(sheet: Sheet, kind: FrameKind) -> PairTemplate:
    return _pair_template(sheet.zero, sheet.one, kind.shape)


def signed_units(sheet: Sheet, kind: FrameKind, bits: Bits) -> Floats:
    """A frame's signed lengths in units, symbol by symbol (neighbours of one sign are not yet joined)."""
    lengths: list[float] = []
    position = 0
    for part in kind.parts:
        if part.pulses is not None:
            lengths += part.pulses
        elif part.gap_us is not None:
            lengths.append(-part.gap_us / sheet.unit_us)
        else:
            for bit in bits[position : position + (part.bits or 0)]:
                lengths += [length * part.stretch for length in (sheet.one if bit else sheet.zero)]
            position += part.bits or 0
    return np.array(lengths)


def frame_pulses(sheet: Sheet, kind: FrameKind, bits: Bits) -> Pulses:
    """The pulses of a frame, its first mark at 0."""
    made = pulses_from_signed(signed_units(sheet, kind, bits) * sheet.unit_us, 0.0, sheet.carrier_hz)
    return Pulses(made.durations_us, 0.0, sheet.carrier_hz)
