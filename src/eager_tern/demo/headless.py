"""The whole example without a window: from key presses at a serial port to a table of keys and back."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from eager_tern.casebook.export import exported_keys, write_keys
from eager_tern.casebook.keys import Key, table_of_keys
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import KeyPlace
from eager_tern.demo.gadgets import GADGETS, DemoGadget
from eager_tern.demo.handset import Handset
from eager_tern.devices.serial_port import Recorder
from eager_tern.devices.simulated.process import StandInProcess
from eager_tern.errors import TernError
from eager_tern.intake.files import read_file
from eager_tern.intake.live import Listening
from eager_tern.protocol.fields import marked
from eager_tern.protocol.loading import library

SPEED = 4.0  # times faster than life
PATIENCE_S = 4.0
HELD_KEY = 3  # one key of each gadget is held for a while
HOLD_S = 0.5


@dataclass(frozen=True)
class DemoResult:
    """What came of one gadget. ``read_back`` counts the keys whose exported timings read to the same code."""

    gadget: DemoGadget
    keys: list[Key]
    strays: int
    exported: list[Path]
    read_back: int


def run_demo(folder: Path, say: Callable[[str], None]) -> list[DemoResult]:
    """Catch every key of every gadget from the stand-in, export the keys to ``folder`` and read them back.

    Raises TernError where something fails.
    """
    casebook = Casebook.create(folder / "skarvholm.tern")
    stand_in = StandInProcess.start(SPEED, seed=1)
    try:
        recorder = Recorder.open(stand_in.device)
        try:
            say(f"simulated recorder on {stand_in.device}")
            return [_catch(casebook, gadget, stand_in, recorder, folder, say) for gadget in GADGETS]
        finally:
            recorder.close()
    finally:
        stand_in.stop()
        casebook.close()


def _catch(
    casebook: Casebook,
    gadget: DemoGadget,
    stand_in: StandInProcess,
    recorder: Recorder,
    folder: Path,
    say: Callable[[str], None],
) -> DemoResult:
    gadget_id = casebook.add_gadget(gadget.name, gadget.about)
    for key in gadget.keys:
        casebook.place_key(gadget_id, KeyPlace(key.name, key.row, key.col))
    listening = Listening(casebook, gadget_id, recorder.device, "recorder", library(), time.time())
    handset = Handset(gadget)
    for number, key in enumerate(gadget.keys):
        first, held, count = handset.press(key)
        stand_in.down(first.tolist(), held.tolist(), count)
        if number == HELD_KEY:
            time.sleep(HOLD_S / SPEED)
        stand_in.up()
        time.sleep(0.25 / SPEED)
        press_id = _next_press(recorder, listening, key.name)
        casebook.set_label(press_id, key.name)
        say(_sentence(casebook, press_id, key.name))
    presses = casebook.presses(gadget_id)
    keys = table_of_keys(presses, casebook.key_places(gadget_id))
    out = exported_keys(casebook, keys)
    owner = next(g for g in casebook.gadgets() if g.id == gadget_id)
    stem = gadget.name.lower().replace(" ", "-")
    paths = [folder / f"{stem}-keys{suffix}" for suffix in (".csv", ".json", ".h")]
    for path in paths:
        write_keys(path, owner, out)
    (header,) = read_file(paths[-1], library())
    again = [press.lead.best for press in header.take.presses]
    same = sum(
        reading is not None and reading.protocol == key.protocol and reading.fields == key.fields
        for reading, key in zip(again, out, strict=False)
    )
    return DemoResult(gadget, keys, sum(press.stray for press in presses), paths, same)


def _next_press(recorder: Recorder, listening: Listening, name: str) -> int:
    """Wait for the press to come, and until nothing more does."""
    until = time.monotonic() + PATIENCE_S
    found = 0
    while time.monotonic() < until:
        received = recorder.poll()
        heard = [press_id for part in received.durations for press_id in listening.hear(part).press_ids]
        if heard:
            found = heard[-1]
        elif found and not received.durations:
            return found
    raise TernError(f"the simulated handset was not heard when {name} was pressed")


def _sentence(casebook: Casebook, press_id: int, name: str) -> str:
    press = casebook.press(press_id)
    fields = ", ".join(f"{field} {marked(value)}" for field, value in press.reading.fields.items())
    held = f", {press.repeats} repeats" if press.repeats else ""
    return f"{name}: {press.reading.protocol}, {fields}{held} (confidence {press.reading.confidence:.2f})"
