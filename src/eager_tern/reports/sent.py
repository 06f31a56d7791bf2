"""What ``send`` and ``echo`` say."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from eager_tern.linecode.values import bit_text
from eager_tern.protocol.take import TakeRead
from eager_tern.sending.documents import step_document
from eager_tern.sending.echo import Echo, Meant
from eager_tern.sending.order import Done
from eager_tern.sending.wording import echo_in_words, frames_in_words

SENT = "eager-tern/sent/1"
ECHO = "eager-tern/echo/1"


def sent_document(target: str, done: Done, with_echo: bool) -> dict[str, Any]:
    """The JSON document of ``send``."""
    missing = {"heard": 0, "same_bits": False}
    heard = [None if not with_echo else missing if echo is None else _echo(echo) for echo in done.echoes]
    steps = [step_document(one, echo) for one, echo in zip(done.sent, heard, strict=True)]
    return {"schema": SENT, "target": target, "steps": steps}


def echo_document(found: Sequence[Echo | None], heard: TakeRead) -> dict[str, Any]:
    """The JSON document of ``echo``. ``heard`` of a press counts frames."""
    presses = [
        {"meant": number, **(_echo(one) if one is not None else {"heard": 0, "same_bits": False})}
        for number, one in enumerate(found)
    ]
    return {"schema": ECHO, "presses": presses}


def _echo(echo: Echo) -> dict[str, Any]:
    return {
        "heard": echo.heard,
        "frames_meant": echo.meant,
        "same_bits": echo.same_bits,
        "bits": bit_text(echo.bits) if echo.bits.size else None,
        "first_different": echo.first_different,
        "mark_excess_us": round(echo.mark_excess_us, 1),
        "clock": round(echo.clock, 5),
        "rms_us": round(echo.rms_us, 1),
        "worst_us": round(echo.worst_us, 1),
        "gap_error_us": round(echo.gap_error_us, 1) if echo.gap_error_us is not None else None,
        "carrier_hz": echo.carrier_hz,
    }


def describe_sent(done: Done, with_echo: bool) -> list[str]:
    """The same in sentences, a line a press."""
    lines = []
    for one, echo in zip(done.sent, done.echoes, strict=True):
        saying = one.saying
        how = "made from the sheet" if saying.made else "as recorded"
        lines.append(f"{one.start_s:8.2f} s  {saying.what}: {frames_in_words(one.frames)}, {how}")
        if one.obeyed is not None:
            lines.append("            obeyed: " + ", ".join(f"{name} {value}" for name, value in one.obeyed.items()))
        elif one.why:
            lines.append(f"            heard, and not obeyed: {one.why}")
        if with_echo:
            lines.append("            " + echo_in_words(echo))
    return lines


def describe_echoes(meant: Sequence[Meant], found: Sequence[Echo | None]) -> list[str]:
    return [f"press {number}: {echo_in_words(one)}" for number, one in enumerate(found)]
