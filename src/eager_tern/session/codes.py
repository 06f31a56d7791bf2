"""A press's code in every form that somebody may want to paste."""

from __future__ import annotations

from eager_tern.casebook.keys import Key
from eager_tern.casebook.values import Caught, KeyPlace
from eager_tern.errors import InputError
from eager_tern.export.keys import exported_keys
from eager_tern.export.names import in_a_line
from eager_tern.export.payloads import payloads
from eager_tern.linecode.values import bits_of_text
from eager_tern.protocol.codes import codes_of
from eager_tern.session.session import Session


def forms_of(session: Session, press: Caught) -> list[tuple[str, str]]:
    """Names and texts: numbers with either end first, bits, a C array of its timings, a payload."""
    codes = codes_of(bits_of_text(press.reading.bits))
    book = session.casebook
    if codes is None or book is None:
        return []
    numbers = [
        ("hex, as sent", codes.as_sent),
        ("hex, turned round", codes.turned),
        ("decimal", str(int(codes.as_sent, 16))),
        ("decimal, turned round", str(int(codes.turned, 16))),
        ("bits", press.reading.bits),
    ]
    key = Key(KeyPlace(press.label or "key", 0, 0), (press,), press)
    try:
        (exported,) = exported_keys(book, [key])
    except InputError:
        return numbers
    array = ", ".join(str(round(us)) for us in exported.pulses_us)
    c_array = f"const uint32_t us[] = {{{array}}};  /* {in_a_line(exported.name).replace('*/', '* /')} */"
    return [*numbers, ("C array", c_array), ("payload", payloads([exported]).strip())]
