"""The demo casebook, made from the simulated handsets."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import KeyPlace
from eager_tern.demo.cabinet import ABOUT as CABINET_ABOUT
from eager_tern.demo.cabinet import MISTAKEN, TAKEN, cabinet_plan, cabinet_sheet, sent_for
from eager_tern.demo.cabinet import NAME as CABINET
from eager_tern.demo.gadgets import GADGETS, DemoGadget
from eager_tern.demo.handset import Handset
from eager_tern.devices.simulated.recorder import Impairment, impair
from eager_tern.intake.live import Listening
from eager_tern.protocol.loading import library
from eager_tern.signal.values import Floats

EVENING = 1_792_957_200.0  # 25 October 2026, 19:40 UTC
BETWEEN_PRESSES_US = 2_400_000.0


def make_demo_casebook(path: Path) -> None:
    """A casebook with every gadget, its plate of keys, and some of them caught. Raises InputError."""
    casebook = Casebook.create(path)
    try:
        for number, gadget in enumerate(GADGETS):
            _gadget(casebook, gadget, EVENING + 600.0 * number, np.random.default_rng(number))
        _cabinet(casebook, EVENING + 600.0 * len(GADGETS), np.random.default_rng(len(GADGETS)))
    finally:
        casebook.close()


def _gadget(casebook: Casebook, gadget: DemoGadget, started_at: float, rng: np.random.Generator) -> None:
    with casebook.changing():
        gadget_id = casebook.add_gadget(gadget.name, gadget.about)
        for key in gadget.keys:
            casebook.place_key(gadget_id, KeyPlace(key.name, key.row, key.col))
        listening = Listening(casebook, gadget_id, "simulated recorder", "recorder", library(), started_at)
        handset = Handset(gadget)
        for number, name in enumerate(gadget.caught):
            first, held, count = handset.press(gadget.key(name))
            held_frames = 5 if number == 3 else 0
            sent = np.concatenate([first] * count + [held] * held_frames)
            heard = listening.hear(_seen(sent, rng))
            for press_id in heard.press_ids:
                casebook.set_label(press_id, name)
            if number % 3 == 2:
                lamp = np.array([rng.uniform(60, 300), -BETWEEN_PRESSES_US / 4])
                listening.hear(np.rint(lamp))
        if gadget.caught:  # the same key once more, not yet labelled
            first, _, count = handset.press(gadget.key(gadget.caught[0]))
            listening.hear(_seen(np.concatenate([first] * count), rng))
        listening.finish()


def _seen(sent: Floats, rng: np.random.Generator) -> Floats:
    seen = impair(sent, Impairment(), rng)
    seen[-1] -= np.rint(rng.uniform(0.7, 1.6) * BETWEEN_PRESSES_US)
    return seen


def _cabinet(casebook: Casebook, started_at: float, rng: np.random.Generator) -> None:
    """The climate cabinet, of whose shot list most is taken; one press bears a label that is not what was sent."""
    sheet, shots = cabinet_sheet(), list(cabinet_plan())
    with casebook.changing():
        gadget_id = casebook.add_gadget(CABINET, CABINET_ABOUT)
        listening = Listening(casebook, gadget_id, "simulated recorder", "recorder", library(), started_at)
        for number, shot in enumerate(shots[:TAKEN]):
            sent = shots[number - 1] if number == MISTAKEN else shot
            heard = listening.hear(_seen(sent_for(sent, sheet), rng))
            for press_id in heard.press_ids:
                casebook.set_label(press_id, shot.text)
                shots[number] = replace(shot, press_id=press_id)
        listening.finish()
        casebook.put_shots(gadget_id, tuple(shots))
