"""A step that was sent, as HEADLESS.md has it in JSON."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from eager_tern.linecode.values import bit_text
from eager_tern.protocol.documents import durations_us
from eager_tern.sending.sender import Sent


def step_document(one: Sent, echo: Mapping[str, Any] | None = None) -> dict[str, Any]:
    """One of ``steps``; ``echo`` is what was heard of it."""
    saying = one.saying
    return {
        "what": saying.what,
        "made": saying.made,
        "bits": bit_text(saying.bits) if saying.bits.size else None,
        "pulses_us": durations_us(saying.pulses.durations_us),
        "carrier_hz": saying.carrier_hz,
        "frames": one.frames,
        "start_s": round(one.start_s, 4),
        "echo": None if echo is None else dict(echo),
        "obeyed": dict(one.obeyed) if one.obeyed is not None else None,
    }
