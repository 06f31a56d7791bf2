"""A simulated handset: what its keys send."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import cycle

from msgspec import Struct

from eager_tern.demo.gadgets import DemoGadget, DemoKey
from eager_tern.demo.planned import PlannedGadget
from eager_tern.protocol.loading import library_sheet
from eager_tern.protocol.making import press_frames
from eager_tern.signal.values import Floats


class Handset(Struct):
    """Keeps the toggle, as a handset does."""

    gadget: DemoGadget
    presses: int = 0

    def press(self, key: DemoKey) -> tuple[Floats, Floats, int]:
        """The next press of a key: signed durations of its first and of each following frame, and the least count.

        Each frame ends with the silence behind it.
        """
        sheet = library_sheet(self.gadget.sheet)
        assert sheet is not None
        toggles = {field.name: self.presses % 2 for field in sheet.fields if field.role == "toggle"}
        self.presses += 1
        frames = press_frames(sheet, {**key.values, **toggles}, sheet.press.count + 1)
        return frames[0], frames[-1], sheet.press.count


def turns(gadget: DemoGadget | PlannedGadget) -> Iterator[tuple[Floats, Floats, int]]:
    """Every press of a gadget, over and over: each key in turn, or each press of its plan; as ``press`` gives them."""
    if isinstance(gadget, PlannedGadget):
        for press in cycle(gadget.presses):
            yield planned_turn(gadget.sent(press.values))
    else:
        handset = Handset(gadget)
        for key in cycle(gadget.keys):
            yield handset.press(key)


def planned_turn(frames: list[Floats]) -> tuple[Floats, Floats, int]:
    """A press of a planned gadget as ``press`` gives one."""
    return frames[0], frames[-1], len(frames)
