"""A press's code in every form that somebody may want to paste."""

from __future__ import annotations

from eager_tern.casebook.values import Caught
from eager_tern.export.keys import exported_key
from eager_tern.export.names import in_comment
from eager_tern.export.payloads import payloads
from eager_tern.session.session import Session
from eager_tern.texts import tr


def forms_of(session: Session, press: Caught) -> list[tuple[str, str]]:
    """Names and texts: numbers with either end first, bits, a C array of its timings, a payload."""
    key = exported_key(press.label or "key", press.reading, session.frame_pulses(press))
    if (codes := key.codes) is None:
        return []
    array = ", ".join(str(round(us)) for us in key.pulses_us)
    return [
        (tr("hex, as sent"), codes.as_sent),
        (tr("hex, turned round"), codes.turned),
        (tr("decimal"), str(int(codes.as_sent, 16))),
        (tr("decimal, turned round"), str(int(codes.turned, 16))),
        (tr("bits"), press.reading.bits),
        (tr("C array"), f"const uint32_t us[] = {{{array}}};  /* {in_comment(key.name)} */"),
        (tr("payload"), payloads([key]).strip()),
    ]
