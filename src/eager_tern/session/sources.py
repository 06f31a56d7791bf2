"""What can be listened to, and how it is opened."""

from __future__ import annotations

from msgspec import Struct

from eager_tern.demo.playing import SIMULATED_GADGETS, SimulatedGadget
from eager_tern.devices.live import live_devices
from eager_tern.devices.serial_port import Port
from eager_tern.session.events import Event
from eager_tern.session.inbox import Inbox
from eager_tern.texts import tr


class SourceChoice(Struct, frozen=True):
    """A device by its id, or a simulated gadget if ``simulated`` is given."""

    name: str
    device: str = ""
    simulated: SimulatedGadget | None = None


class Sources:
    """What can be listened to here. It is looked for in a thread: a sound system may take its time to answer."""

    def __init__(self, inbox: Inbox) -> None:
        self._inbox = inbox
        self._looking = False
        self.devices: list[Port] | None = None  # of this machine; None: nobody has looked yet
        self.changed: Event[[]] = Event()

    def look(self) -> None:
        """See what is there now, and say so where it is not what was there."""
        if not self._looking:
            self._looking = True
            self._inbox.in_thread(live_devices, self._seen)

    def _seen(self, devices: list[Port] | Exception) -> None:
        self._looking = False
        if isinstance(devices, Exception):
            raise devices
        if devices != self.devices:
            self.devices = devices
            self.changed.emit()

    def choices(self, gadget_name: str) -> list[SourceChoice]:
        """The machine's devices first; of the simulated gadgets, the one of the open gadget first."""
        real = [SourceChoice(f"{port.description} ({port.device})", port.device) for port in self.devices or ()]
        ordered = sorted(SIMULATED_GADGETS, key=lambda gadget: gadget.name != gadget_name)
        return real + [SourceChoice(tr("Simulated: {name}", name=gadget.name), simulated=gadget) for gadget in ordered]
