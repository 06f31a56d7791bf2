"""Presses that are asked for, from three on: whether they lead to a full proof, and how many it takes."""

from __future__ import annotations

from math import lgamma, log, log10

import numpy as np
from tests.gadgets import Gadget, Value, climate

from benches.baseline import held
from eager_tern.compare.asking import next_shots
from eager_tern.compare.comparison import Comparison, compare, settled
from eager_tern.compare.proof import made_bits
from eager_tern.compare.stack import Stack
from eager_tern.compare.writing import by_itself, field_names, sheet_of

GADGETS, FRAMES, MOST = 40, 25, 60


def test_what_is_asked_leads_to_a_full_proof() -> None:
    """Aim: all, in 1.5 times what is needed (median). Beside it, how many presses of anything new it takes."""
    asked = [presses(number, True) for number in range(GADGETS)]
    parts = [each / needed(number) for number, each in enumerate(asked) if each is not None]
    print(
        f"\n{np.median(parts):.2f} times what is needed, {sum(part <= 1.5 for part in parts)} of {GADGETS} within 1.5"
    )
    chance = [presses(number, False) for number in range(GADGETS // 4)]
    done = [each for each in asked if each is not None]
    print(f"\n{np.median(done):.0f} presses, {np.median([c for c in chance if c is not None]):.0f} of anything new")
    held("asked for until all is proven", len(done), GADGETS)


def gadget_of(number: int) -> tuple[np.random.Generator, Gadget]:
    rng = np.random.default_rng([55, number])
    return rng, climate(rng, str(rng.choice(["sum", "xor", "crc8", "negated", "nibbles"])))


def needed(number: int) -> int:
    """The fewest presses whose labels can say enough: spread evenly, the values of each label have to have more
    orders than a hundred times the bits that change; chance would else find bits that follow them.
    """
    rng, gadget = gadget_of(number)
    drawn = [gadget.draw(rng) for _ in range(MOST)]
    bits = np.array([gadget.write(values, at) for at, values in enumerate(drawn)], np.uint8)
    enough = log10(100 * int(np.count_nonzero(np.ptp(bits, axis=0))))
    counts = [len({values[name] for values in drawn}) for name in drawn[0]]
    return max(next(n for n in range(2, MOST) if orders(n, count) >= enough) for count in counts)


def orders(presses: int, values: int) -> float:
    """log10 of the orders of so many presses in which each value comes as often, as near as can be."""
    often = [presses // values + (at < presses % values) for at in range(values)]
    return (lgamma(presses + 1) - sum(lgamma(each + 1) for each in often)) / log(10)


def presses(number: int, by_asking: bool) -> int | None:
    """How many presses it takes until frames that were never seen are made exactly; None: it is given up before."""
    rng, gadget = gadget_of(number)
    drawn = [gadget.draw(rng) for _ in range(3)]
    unseen = [gadget.draw(rng) for _ in range(FRAMES)]
    while len(drawn) < MOST:
        found = search(gadget, drawn)
        if all(made(gadget, found, values, n) for n, values in enumerate(unseen)):
            return len(drawn)
        asks = [ask.labels for ask in next_shots(found)] if by_asking else [{}]
        if not asks:
            return None
        drawn += [press(gadget, rng, dict(labels), drawn) for labels in asks]
    return None


def search(gadget: Gadget, drawn: list[dict[str, Value]]) -> Comparison:
    bits = np.array([gadget.write(values, number) for number, values in enumerate(drawn)], np.uint8)
    return compare(Stack(bits, {name: tuple(v[name] for v in drawn) for name in drawn[0]}, gadget.sections))


def press(
    gadget: Gadget, rng: np.random.Generator, asked: dict[str, Value], drawn: list[dict[str, Value]]
) -> dict[str, Value]:
    """A press as it was asked for; the rest is something new, if one of a dozen is."""
    values = dict(gadget.draw(rng))
    for name in values:
        for _ in range(12):
            if name not in asked and values[name] in [each[name] for each in drawn]:
                values[name] = gadget.draw(rng)[name]
    return values | asked


def made(gadget: Gadget, found: Comparison, values: dict[str, Value], number: int) -> bool:
    """Whether the sheet makes a frame as the gadget does."""
    proven = settled(found)
    frame = np.array(gadget.write(values, number), np.uint8)
    given = {name: int("".join(map(str, frame[list(run)])), 2) for name, run in by_itself(proven).items()}
    names = field_names(proven)
    bits = made_bits(sheet_of(proven).sheet, {names[n]: v for n, v in values.items() if n in names}, given)
    return bits is not None and bool((bits == frame).all())
