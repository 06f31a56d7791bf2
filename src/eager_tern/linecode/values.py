"""Values for how a frame carries its bits."""

from __future__ import annotations

from typing import Literal

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.signal.values import Floats

Code = Literal["pulse-distance", "pulse-width", "biphase", "async-serial", "unknown"]
Bits = NDArray[np.uint8]
Parity = Literal["none", "odd", "even"]
Framing = tuple[int, Parity, int]  # of serial characters: data bits, parity, stop bits
NO_BITS: Bits = np.empty(0, np.uint8)


def character_length(framing: Framing) -> int:
    """Of a character, in bits, its start bit included."""
    data, parity, stop = framing
    return 1 + data + (parity != "none") + stop


def bit_text(bits: Bits) -> str:
    """Bits as a string of 0 and 1, in the order sent."""
    return (bits.astype(np.uint8) + ord("0")).tobytes().decode("ascii")


def bits_of_text(text: str) -> Bits:
    """The bits that ``bit_text`` wrote."""
    return np.frombuffer(text.encode("ascii"), np.uint8) - ord("0")


class Clock(Struct, frozen=True, gc=False):
    """The ruler laid on a frame.

    A mark of k units lasts k·unit + excess, a space k·unit − excess (µs). ``rms_us`` is what remains between the
    measured and the expected durations.
    """

    unit_us: float
    excess_us: float
    rms_us: float


class LineReading(Struct, frozen=True, gc=False):
    """One hypothesis about a frame's line code.

    ``bits`` has shape (n,); ``bit_spans_us`` shape (n, 2): start and end of each bit, from the frame's first edge.
    ``expected_us`` has shape (pulses,): what each pulse should last; NaN where the hypothesis says nothing.
    ``symbol_bits`` are sent together, as a character or a symbol of several bits, of which there are ``symbols``
    (three of them stand for two bits each as well, 00 to 10); ``framing`` of serial characters is
    data bits, parity and stop bits. ``leader`` counts the pulses before the data. ``score`` is the log
    likelihood less what the hypothesis cost;
    ``probability`` compares it with the others and with no code at all.
    """

    code: Code
    clock: Clock
    bits: Bits
    bit_spans_us: Floats
    expected_us: Floats
    leader: int
    score: float
    probability: float = 0.0
    symbol_bits: int = 1
    symbols: int = 2
    framing: Framing | None = None


class Cluster(Struct, frozen=True):
    """Durations of one kind that belong together: ``count`` of them about ``centre_us``."""

    centre_us: float
    count: int
