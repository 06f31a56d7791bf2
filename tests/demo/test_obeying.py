"""Gadgets that obey: what was made reaches them, what is wrong does not."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.demo.gadgets import GADGETS
from eager_tern.demo.handset import Handset
from eager_tern.demo.obeying import gadgets
from eager_tern.demo.planned import CABINET, PLANNED, SHUTTERS, TURNSTILE, PlannedGadget
from eager_tern.protocol.fields import value_of
from tests.handsets import nec, rc5, record, sony

CARRIER = {"Window shutters": 0.0, "Tide gauge": 0.0, "Turnstile": 0.0}


@pytest.mark.parametrize("planned", PLANNED, ids=lambda p: p.name)
def test_everything_its_maker_sends_is_obeyed(planned: PlannedGadget, rng: np.random.Generator) -> None:
    gadget = gadgets()[planned.name]
    for press in planned.presses:
        frames = [
            record(frame.tolist(), rng, jitter_us=20, excess_us=40).tolist() for frame in planned.sent(press.values)
        ]
        told = gadget.hear(frames, CARRIER.get(planned.name, 38_000.0)).obeyed
        assert told is not None, gadget.last.why
        for name, value in press.values:
            if name in told:
                assert told[name] == pytest.approx(value_of(value)) if name != "shutter" else True


@pytest.mark.parametrize("known", GADGETS, ids=lambda g: g.name)
def test_every_key_is_obeyed(known: object) -> None:
    from eager_tern.demo.gadgets import DemoGadget

    assert isinstance(known, DemoGadget)
    handset, gadget = Handset(known), gadgets()[known.name]
    for key in known.keys:
        first, _, count = handset.press(key)
        told = gadget.hear([first.tolist()] * count, 38_000).obeyed
        assert told is not None
        assert told["key"] == key.name


def test_a_wrong_check_address_or_carrier_is_not_obeyed() -> None:
    projector = gadgets()["Slide projector"]
    good = [nec(0x5B, 0x16)]
    assert projector.hear(good, 38_000).obeyed
    assert projector.hear([nec(0x5C, 0x16)], 38_000).why == "it is addressed to 92"
    assert "does not get through" in projector.hear(good, 56_000).why
    broken = nec(0x5B, 0x16)
    broken[2 + 2 * 20 + 1] = -562.5 if broken[2 + 2 * 20 + 1] < -1000 else -1687.5
    assert "do not agree" in projector.hear([broken], 38_000).why
    slow = [d * 1.4 for d in nec(0x5B, 0x16)]
    assert projector.hear([slow], 38_000).obeyed is None
    assert projector.state["slide"] == 2


def test_a_repeat_out_of_rhythm_is_not_obeyed() -> None:
    guide = gadgets()["Audio guide"]
    frame = sony(18, 21, 1)
    assert guide.hear([frame, frame], 40_000).obeyed
    late = [*frame[:-1], frame[-1] - 90_000]
    assert "its repeat comes after 135 ms" in guide.hear([late, frame], 40_000).why
    assert "second frame" in guide.hear([frame], 40_000).why
    assert guide.hear([frame, sony(19, 21, 1)], 40_000).why == "two frames say different things"


def test_a_key_that_stays_down_is_obeyed_once() -> None:
    lamp = gadgets()["Nest-box lamp"]
    assert lamp.hear([rc5(14, 16, 1)[1:]], 36_000).obeyed
    assert "still down" in lamp.hear([rc5(14, 16, 1)[1:]], 36_000).why
    assert lamp.hear([rc5(14, 16, 0)[1:]], 36_000).obeyed
    assert lamp.state["glow"] == 2


def test_one_flipped_bit_of_the_cabinets_frame_is_never_obeyed() -> None:
    cabinet = gadgets()["Climate cabinet"]
    (frame,) = CABINET.sent((("temperature", "23.5"), ("mode", "dry")))
    assert cabinet.hear([frame.tolist()], 38_000).obeyed
    for at in range(3, frame.size - 2, 2):
        if -2000 < frame[at] < -300 and at != 85:
            turned = frame.copy()
            turned[at] = -430.0 if turned[at] < -900 else -1290.0
            assert cabinet.hear([turned.tolist()], 38_000).obeyed is None
    assert cabinet.state["temperature"] == 23.5


def test_a_code_that_no_key_sends_opens_the_skylight() -> None:
    shutters = gadgets()["Window shutters"]
    code = 0b0110100111000101 << 8 | 0b1000_1100
    frame = [d for bit in f"{code:024b}" for d in ((1020.0, -340.0) if bit == "1" else (340.0, -1020.0))]
    frames = [[*frame, 340.0, -10_540.0]] * 4
    assert shutters.hear(frames, 0).obeyed == {"skylight": "up"}
    assert SHUTTERS.name == shutters.name


def test_rubbish_is_heard_and_not_obeyed(rng: np.random.Generator) -> None:
    for gadget in gadgets().values():
        for _ in range(50):
            size = int(rng.integers(1, 160))
            noise = (rng.uniform(50, 10_000, size) * np.where(np.arange(size) % 2, -1, 1)).tolist()
            assert gadget.hear([noise, noise], None).obeyed is None
    assert TURNSTILE.name in gadgets()
