"""A frame's bits as one number, for those who only want the code."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from eager_tern.linecode.values import Bits


class Codes(Struct, frozen=True):
    """Hex with as many digits as the bits need: the first transmitted bit highest, or lowest (``turned``)."""

    as_sent: str
    turned: str


def codes_of(bits: Bits) -> Codes | None:
    """The codes of some bits in the order sent; None where there are none."""
    return Codes(_hex(bits), _hex(bits[::-1])) if bits.size else None


def _hex(bits: Bits) -> str:
    digits = -(-bits.size // 4)
    packed = np.packbits(np.concatenate((np.zeros(4 * digits - bits.size, np.uint8), bits)))
    return "0x" + packed.tobytes().hex().upper()[:digits]
