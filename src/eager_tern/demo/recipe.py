"""The demo casebook, made from the simulated handsets."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from msgspec.structs import replace

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import KeyPlace
from eager_tern.demo.gadgets import GADGETS, DemoGadget
from eager_tern.demo.handset import Handset
from eager_tern.demo.planned import PLANNED, PlannedGadget
from eager_tern.devices.simulated.recorder import Impairment, impair
from eager_tern.intake.recording import keep_recording
from eager_tern.protocol.loading import library
from eager_tern.signal.values import Floats

EVENING = 1_792_957_200.0  # 25 October 2026, 19:40 UTC
BETWEEN_PRESSES_S = 2.4
A_MINUTE = 60.0


def make_demo_casebook(path: Path) -> None:
    """A casebook with every gadget, its plate of keys, and some of them caught. Raises InputError."""
    casebook = Casebook.create(path)
    try:
        for number, gadget in enumerate(GADGETS):
            _gadget(casebook, gadget, EVENING + 600.0 * number, np.random.default_rng(number))
        for number, planned in enumerate(PLANNED, len(GADGETS)):
            _planned(casebook, planned, EVENING + 600.0 * number, np.random.default_rng(number))
    finally:
        casebook.close()


def _gadget(casebook: Casebook, gadget: DemoGadget, started_at: float, rng: np.random.Generator) -> None:
    with casebook.changing():
        gadget_id = casebook.add_gadget(gadget.name, gadget.about)
        for key in gadget.keys:
            casebook.place_key(gadget_id, KeyPlace(key.name, key.row, key.col))
        handset = Handset(gadget)
        evening: list[tuple[Floats, str]] = []  # what was heard, and the label of what it is
        for number, name in enumerate(gadget.caught):
            first, held, count = handset.press(gadget.key(name))
            held_frames = 5 if number == 3 else 0
            evening.append((_seen(np.concatenate([first] * count + [held] * held_frames), rng), name))
            if number % 3 == 2:
                lamp = np.array([rng.uniform(60, 300), -1e6 * BETWEEN_PRESSES_S / 4])
                evening.append((np.rint(lamp), ""))
        if gadget.caught:  # the same key once more, not yet labelled
            first, _, count = handset.press(gadget.key(gadget.caught[0]))
            evening.append((_seen(np.concatenate([first] * count), rng), ""))
        _keep(casebook, gadget_id, evening, started_at)


def _keep(casebook: Casebook, gadget_id: int, evening: list[tuple[Floats, str]], started_at: float) -> list[list[int]]:
    """Keep what was heard with its labels. Gives the ids of the presses in each piece."""
    signed = np.concatenate([piece for piece, _ in evening]) if evening else np.empty(0)
    take_id = keep_recording(casebook, gadget_id, "simulated recorder", signed, library(), started_at)
    ends = np.cumsum([np.abs(piece).sum() for piece, _ in evening])
    ids: list[list[int]] = [[] for _ in evening]
    for press in casebook.presses(take_id=take_id):
        at = int(np.searchsorted(ends, press.reading.start_us, side="right"))
        if not press.stray:
            ids[at].append(press.id)
            if evening[at][1]:
                casebook.set_label(press.id, evening[at][1])
    return ids


def _seen(sent: Floats, rng: np.random.Generator, between_s: float = BETWEEN_PRESSES_S) -> Floats:
    seen = impair(sent, Impairment(), rng)
    early, late = (0.7, 1.6) if between_s < A_MINUTE else (0.999, 1.001)  # people press when they like
    seen[-1] -= np.rint(rng.uniform(early, late) * 1e6 * between_s)
    return seen


def _planned(casebook: Casebook, gadget: PlannedGadget, started_at: float, rng: np.random.Generator) -> None:
    """A gadget with a shot list of which most is taken."""
    shots = list(gadget.shots)
    with casebook.changing():
        gadget_id = casebook.add_gadget(gadget.name, gadget.about)
        evening: list[tuple[Floats, str]] = []
        shot_of: dict[int, int] = {}  # by the number of the press
        for number, press in enumerate(gadget.presses[: gadget.taken]):
            sent = gadget.presses[number - 1] if number == gadget.mistaken else press
            if press.labels:
                shot_of[number] = len(shot_of)
            label = shots[shot_of[number]].text if press.labels else ""
            evening.append((_seen(np.concatenate(gadget.sent(sent.values)), rng, gadget.between_s), label))
        for number, press_ids in enumerate(_keep(casebook, gadget_id, evening, started_at)):
            if number in shot_of and press_ids:
                shots[shot_of[number]] = replace(shots[shot_of[number]], press_id=press_ids[0])
        casebook.put_shots(gadget_id, tuple(shots))
