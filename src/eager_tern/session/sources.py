"""What can be listened to, and how it is opened."""

from __future__ import annotations

from msgspec import Struct

from eager_tern.demo.playing import SIMULATED_GADGETS, SimulatedGadget
from eager_tern.devices.live import live_devices
from eager_tern.texts import tr


class SourceChoice(Struct, frozen=True):
    """A device by its id, or a simulated gadget if ``simulated`` is given."""

    name: str
    device: str = ""
    simulated: SimulatedGadget | None = None


def source_choices(gadget_name: str) -> list[SourceChoice]:
    """The machine's ports first; of the simulated gadgets, the one of the open gadget first."""
    real = [SourceChoice(f"{port.description} ({port.device})", port.device) for port in live_devices()]
    ordered = sorted(SIMULATED_GADGETS, key=lambda gadget: gadget.name != gadget_name)
    return real + [SourceChoice(tr("Simulated: {name}", name=gadget.name), simulated=gadget) for gadget in ordered]
