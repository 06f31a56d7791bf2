"""The whole example without a window: from key presses at a serial port to a table of keys and back."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import nullcontext
from pathlib import Path
from queue import Empty, SimpleQueue

from msgspec import Struct

from eager_tern.casebook.keys import Key, table_of_keys
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import Caught, Gadget, KeyPlace
from eager_tern.demo.gadgets import GADGETS, DemoGadget
from eager_tern.demo.handset import Handset
from eager_tern.demo.listening_gadget import GadgetTarget
from eager_tern.demo.obeying import gadgets
from eager_tern.devices.serial_port import Recorder
from eager_tern.devices.simulated.process import StandInProcess
from eager_tern.errors import TernError
from eager_tern.export.keys import exported_keys, write_keys
from eager_tern.intake.files import read_file
from eager_tern.intake.listening import Listening
from eager_tern.intake.news import News, PressesRead, TakeRead
from eager_tern.intake.service import CaptureService
from eager_tern.protocol.fields import marked
from eager_tern.protocol.loading import library
from eager_tern.sending.order import send_order
from eager_tern.sending.saying import Handset as Voice
from eager_tern.sending.saying import Saying

SPEED = 4.0  # times faster than life
PATIENCE_S = 8.0
QUIET_S = 0.3  # without news: a press is whole
HELD_KEY = 3  # one key of each gadget is held for a while
HOLD_S = 0.5
BETWEEN_S = 0.35  # of presses that are said back: not taken for one, on a slow machine either


class DemoResult(Struct, frozen=True):
    """What came of one gadget. ``read_back`` counts the keys whose exported timings read to the same code, ``obeyed``
    those that it obeyed when they were said back, with the same bits in the echo.
    """

    gadget: DemoGadget
    keys: list[Key]
    strays: int
    exported: list[Path]
    read_back: int
    obeyed: int


def run_demo(folder: Path, say: Callable[[str], None]) -> list[DemoResult]:
    """Catch every key of every gadget from the stand-in, export the keys to ``folder`` and read them back.

    Raises TernError where something fails.
    """
    casebook = Casebook.create(folder / "skarvholm.tern")
    stand_in = StandInProcess(SPEED, seed=1)
    news: SimpleQueue[News] = SimpleQueue()
    service = CaptureService(casebook, news.put)
    try:
        say(f"simulated recorder on {stand_in.device}")
        listening = Listening(lambda: Recorder.open(stand_in.device), service, lambda _: None)
        try:
            return [_catch(casebook, gadget, stand_in, listening, news, folder, say) for gadget in GADGETS]
        finally:
            listening.close()
    finally:
        service.close()
        stand_in.stop()
        casebook.close()


def _catch(
    casebook: Casebook,
    gadget: DemoGadget,
    stand_in: StandInProcess,
    listening: Listening,
    news: SimpleQueue[News],
    folder: Path,
    say: Callable[[str], None],
) -> DemoResult:
    gadget_id = casebook.add_gadget(gadget.name, gadget.about)
    for key in gadget.keys:
        casebook.place_key(gadget_id, KeyPlace(key.name, key.row, key.col))
    listening.record(gadget_id, "simulated recorder", library())
    handset = Handset(gadget)
    for number, key in enumerate(gadget.keys):
        first, held, count = handset.press(key)
        stand_in.down(first.tolist(), held.tolist(), count)
        if number == HELD_KEY:
            time.sleep(HOLD_S / SPEED)
        stand_in.up()
        press = _next_press(casebook, news, key.name)
        casebook.set_label(press.id, key.name)
        say(_sentence(press, key.name))
    listening.rest()
    while not isinstance(_next_news(news, "the recording was not read"), TakeRead):
        pass
    presses = casebook.presses(gadget_id)
    keys = table_of_keys(presses, casebook.key_places(gadget_id))
    out = exported_keys(casebook, keys)
    owner = next(g for g in casebook.gadgets() if g.id == gadget_id)
    stem = gadget.name.lower().replace(" ", "-")
    paths = [folder / f"{stem}-keys{suffix}" for suffix in (".csv", ".json", ".h")]
    for path in paths:
        write_keys(path, owner.name, out)
    (header,) = read_file(paths[-1], library())
    again = [press.lead.best for press in header.take.presses]
    same = sum(
        reading is not None and reading.protocol == key.protocol and reading.fields == key.fields
        for reading, key in zip(again, out, strict=False)
    )
    obeyed = _said_back(casebook, owner, say)
    return DemoResult(gadget, keys, sum(press.stray for press in presses), paths, same, obeyed)


def _said_back(casebook: Casebook, owner: Gadget, say: Callable[[str], None]) -> int:
    """Send every key that was caught to the gadget, and count those that it obeyed and that were heard as meant."""
    voice = Voice.of_casebook(casebook, owner)
    target = GadgetTarget(owner.name, gadgets()[owner.name])
    presses: list[tuple[Saying | None, float]] = [(voice.key(name), BETWEEN_S) for name in voice.keys]
    done = send_order(presses, target, library(), nullcontext(target.air), lambda: False, lambda words: say(str(words)))
    good = 0
    for one, echo in zip(done.sent, done.echoes, strict=True):
        as_told = one.obeyed is not None and one.obeyed.get("key") == one.saying.what
        good += as_told and echo is not None and echo.right
    return good


def _next_news(news: SimpleQueue[News], otherwise: str, timeout: float = PATIENCE_S) -> News:
    try:
        return news.get(timeout=timeout)
    except Empty:
        raise TernError(otherwise) from None


def _next_press(casebook: Casebook, news: SimpleQueue[News], name: str) -> Caught:
    """Wait for the press to come, and until nothing more does."""
    found: int | None = None
    while True:
        try:
            told = _next_news(
                news,
                f"the simulated handset was not heard when {name} was pressed",
                PATIENCE_S if found is None else QUIET_S,
            )
        except TernError:
            if found is None or (press := casebook.press(found)) is None:
                raise
            return press
        if isinstance(told, PressesRead):
            presses = [press for press in casebook.presses_of(told.press_ids) if not press.stray and not press.deleted]
            found = presses[-1].id if presses else found


def _sentence(press: Caught, name: str) -> str:
    fields = ", ".join(f"{field} {marked(value)}" for field, value in press.reading.fields.items())
    held = f", {press.repeats} repeats" if press.repeats else ""
    return f"{name}: {press.reading.protocol}, {fields}{held} (confidence {press.reading.confidence:.2f})"
