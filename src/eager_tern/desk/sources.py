"""What can be listened to, as the header offers it."""

from __future__ import annotations

from dataclasses import dataclass

from eager_tern.demo.gadgets import GADGETS, DemoGadget, gadget_named
from eager_tern.devices.live import live_devices


@dataclass(frozen=True)
class SourceChoice:
    """A serial port, or a simulated handset if ``simulated`` is given."""

    name: str
    device: str = ""
    simulated: DemoGadget | None = None


def source_choices(gadget_name: str) -> list[SourceChoice]:
    """The machine's ports first; of the simulated handsets, the one of the open gadget first."""
    real = [SourceChoice(f"{port.description} ({port.device})", port.device) for port in live_devices()]
    own = gadget_named(gadget_name)
    ordered = ([own] if own is not None else []) + [g for g in GADGETS if g is not own]
    return real + [SourceChoice(f"Simulated handset: {g.name}", simulated=g) for g in ordered]
