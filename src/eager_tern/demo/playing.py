"""Sources and targets: the devices of this machine, simulated handsets played by themselves, gadgets that obey."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext
from threading import Event, Thread

from msgspec import Struct

from eager_tern.demo.gadgets import GADGETS, DemoGadget
from eager_tern.demo.handset import turns
from eager_tern.demo.listening_gadget import GadgetTarget
from eager_tern.demo.obeying import gadgets
from eager_tern.demo.planned import PLANNED, PlannedGadget
from eager_tern.devices.board import BoardTarget
from eager_tern.devices.live import LiveDevice, live_devices, open_live
from eager_tern.devices.senders import live_targets, open_sender
from eager_tern.devices.serial_port import Recorder
from eager_tern.devices.simulated.process import StandInProcess
from eager_tern.devices.targets import Target
from eager_tern.errors import InputError

SIMULATED = "simulated:"
TAP_S, REST_S = 0.12, 0.5
SimulatedGadget = DemoGadget | PlannedGadget
SIMULATED_GADGETS: tuple[SimulatedGadget, ...] = (*GADGETS, *PLANNED)


class Source(Struct, frozen=True):
    """``id`` is what `record` takes: a serial port's device, or ``simulated:`` and a gadget's short name."""

    id: str
    description: str


def list_sources() -> list[Source]:
    """Everything that can be listened to now."""
    real = [Source(port.device, port.description) for port in live_devices()]
    made_up = [Source(simulated_id(gadget), f"{gadget.name}, simulated") for gadget in SIMULATED_GADGETS]
    return real + made_up


def simulated_id(gadget: SimulatedGadget) -> str:
    return SIMULATED + gadget.name.lower().replace(" ", "-")


def list_targets() -> list[Source]:
    """Everything that can send now; a file, too, whose suffix names a format that can be written."""
    real = [Source(port.device, port.description) for port in live_targets()]
    obeying = [Source(simulated_id(gadget), f"{gadget.name}, simulated") for gadget in SIMULATED_GADGETS]
    return real + obeying


def open_target(target_id: str) -> Target:
    """A target by its id: a device, ``simulated:`` and a gadget's short name, or a file. Raises InputError."""
    if not target_id.startswith(SIMULATED):
        return open_sender(target_id)
    gadget = _simulated(target_id)
    return GadgetTarget(target_id, gadgets()[gadget.name])


def open_ear(source_id: str, target: Target) -> AbstractContextManager[LiveDevice]:
    """A source to listen to while something is sent; a board that sends hears by the same port.

    What is sent to a simulated gadget is heard by a simulated receiver beside it.
    """
    if isinstance(target, GadgetTarget) and source_id.startswith(SIMULATED):
        return nullcontext(target.air)
    if isinstance(target, BoardTarget) and source_id == target.id:
        return nullcontext(target.heard_by_others())
    return open_source(source_id)


def _simulated(device_id: str) -> SimulatedGadget:
    gadget = next((g for g in SIMULATED_GADGETS if simulated_id(g) == device_id), None)
    if gadget is None:
        known = ", ".join(simulated_id(g) for g in SIMULATED_GADGETS)
        raise InputError(device_id, f"there is no such simulated gadget; there are {known}")
    return gadget


@contextmanager
def open_source(source_id: str) -> Iterator[LiveDevice]:
    """A recorder listening to a source. A simulated gadget plays its keys or its plan meanwhile. Raises InputError."""
    if not source_id.startswith(SIMULATED):
        device = open_live(source_id)
        try:
            yield device
        finally:
            device.close()
        return
    gadget = _simulated(source_id)
    stand_in = StandInProcess()
    done = Event()
    player = Thread(target=_play, args=(gadget, stand_in, done), daemon=True)
    recorder = Recorder.open(stand_in.device)
    try:
        player.start()
        yield recorder
    finally:
        done.set()
        player.join()
        recorder.close()
        stand_in.stop()


def _play(gadget: SimulatedGadget, stand_in: StandInProcess, done: Event) -> None:
    for first, held, count in turns(gadget):
        stand_in.down(first.tolist(), held.tolist(), count)
        if done.wait(TAP_S):
            return
        stand_in.up()
        if done.wait(REST_S):
            return
