"""A simulated handset: what its keys send."""

from __future__ import annotations

from dataclasses import dataclass

from eager_tern.demo.gadgets import DemoGadget, DemoKey
from eager_tern.protocol.loading import library_sheet
from eager_tern.protocol.making import press_frames
from eager_tern.signal.values import Floats


@dataclass
class Handset:
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
