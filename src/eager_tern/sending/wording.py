"""What was sent and heard, in sentences."""

from __future__ import annotations

from eager_tern.sending.echo import Echo

LATE_US = 1000.0  # a receiver's jitter at both ends of a gap makes less
TRUE_CLOCK = 0.0005  # by how much a clock may be off before it is worth a word


def frames_in_words(count: int) -> str:
    return "1 frame" if count == 1 else f"{count} frames"


def times_in_words(count: int) -> str:
    return {1: "once", 2: "twice"}.get(count, f"{count} times")


def echo_in_words(echo: Echo | None) -> str:
    """One sentence: how often it was heard, what differs, how true the sender is."""
    if echo is None:
        return "Nothing of it was heard."
    short = f" of {echo.meant}" if echo.heard != echo.meant else ""
    heard = f"Heard {times_in_words(echo.heard)}{short}"
    if not echo.same_bits:
        if echo.first_different is None:
            return f"{heard}, with other pulses."
        kind = "bit" if echo.bits.size else "pulse"
        return f"{heard}; the first {kind} that differs is {echo.first_different}."
    bits = f", the same {echo.bits.size} bits" if echo.bits.size else ", the same pulses"
    longer = "longer" if echo.mark_excess_us >= 0 else "shorter"
    clock = echo.clock - 1
    speed = "" if abs(clock) < TRUE_CLOCK else f"; clock {abs(clock):.1%} {'slow' if clock > 0 else 'fast'}"
    late = echo.gap_error_us or 0.0
    rhythm = f"; repeats {abs(late) / 1e3:.1f} ms {'late' if late > 0 else 'early'}" if abs(late) > LATE_US else ""
    carrier = f"; carrier {echo.carrier_hz / 1e3:.1f} kHz" if echo.carrier_hz else ""
    marks = f"marks {abs(echo.mark_excess_us):.0f} µs {longer}, edges within {echo.worst_us:.0f} µs"
    return f"{heard}{bits}; {marks}{speed}{rhythm}{carrier}."
