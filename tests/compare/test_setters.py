"""Remotes that send all their settings: what twenty to forty presses say of them holds for presses never seen."""

from __future__ import annotations

from typing import Protocol

import numpy as np
import pytest

from eager_tern.compare.comparison import Comparison, compare, settled
from eager_tern.compare.proof import made_bits
from eager_tern.compare.stack import Stack
from eager_tern.compare.writing import by_itself, field_names, sheet_of
from eager_tern.protocol.checks import evaluate
from eager_tern.protocol.reading import field_values
from tests.gadgets import Value, same_value
from tests.setters import CHECKS, Setter

LATER = 20


class Remote(Protocol):
    def draw(self) -> dict[str, Value]: ...
    def frame(self, values: dict[str, Value], number: int, /) -> np.ndarray: ...


def caught(remote: Remote, rng: np.random.Generator, rows: int, wrong: int = 0, damaged: int = 0) -> Comparison:
    """What is found in some presses, of which some have a wrong label, some a wrong bit."""
    presses = [remote.draw() for _ in range(rows)]
    bits = np.array([remote.frame(chosen, at) for at, chosen in enumerate(presses)])
    labels = {name: [chosen[name] for chosen in presses] for name in presses[0]}
    for _ in range(wrong):
        name, row = str(rng.choice(list(labels))), int(rng.integers(rows))
        labels[name][row] = next(
            v for v in (remote.draw()[name] for _ in range(99)) if v is not None and v != labels[name][row]
        )
    for _ in range(damaged):
        bits[rng.integers(rows), rng.integers(bits.shape[1])] ^= 1
    return compare(Stack(bits, {name: tuple(values) for name, values in labels.items()}))


def later(remote: Remote, found: Comparison) -> tuple[int, int, int]:
    """Of as many presses never seen: how many are read right, and made bit for bit, and how many checks fail."""
    found = settled(found)
    sheet, names, own = sheet_of(found).sheet, field_names(found), by_itself(found)
    read = made = failing = 0
    for press in range(LATER):
        drawn = remote.draw()
        frame = remote.frame(drawn, 1000 + press)
        chosen = {name: value for name, value in drawn.items() if value is not None}
        said = field_values(sheet, frame)
        read += all(same_value(said.get(names.get(name, name)), value) for name, value in chosen.items())
        given = {name: int("".join(map(str, frame[list(run)])), 2) for name, run in own.items()}
        bits = made_bits(sheet, {names[name]: value for name, value in chosen.items() if name in names}, given)
        made += bits is not None and bool((bits == frame).all())
        failing += sum(not evaluate(check, frame).ok for check in sheet.checks)
    return read, made, failing


@pytest.mark.parametrize("mistakes", [False, True])
@pytest.mark.parametrize("check", [check for check in CHECKS if check != "the last byte counts against"])
def test_presses_never_seen_are_read_and_made(check: str, mistakes: bool) -> None:
    rng = np.random.default_rng([8, mistakes])
    remote = Setter(rng, check)
    assert later(remote, caught(remote, rng, 40, 2 * mistakes, mistakes)) == (LATER, LATER, 0)


def test_a_check_that_nobody_knows_takes_no_number_for_a_check() -> None:
    """Its equation, solved for the byte that counts against, is a plain sum: of a byte that somebody set."""
    for number in range(4):
        rng = np.random.default_rng([9, number])
        remote = Setter(rng, "the last byte counts against")
        read, _, failing = later(remote, caught(remote, rng, 40))
        assert (read, failing) == (LATER, 0)


def test_the_bits_of_a_word_are_all_its_own() -> None:
    """Of four bits three tell the words apart, one says what another does, and one stays."""
    rng = np.random.default_rng(3)
    codes = {"low": 0b1111, "mid": 0b0010, "high": 0b0111, "auto": 0b1010}
    words = [str(rng.choice(list(codes))) for _ in range(30)]
    bits = np.array([[1, 0, 0, *(codes[word] >> at & 1 for at in (3, 2, 1, 0)), 1] for word in words], np.uint8)
    bits[:, 5] = 1
    found = compare(Stack(bits, {"fan": tuple(words)}))
    assert {*found.fields[0].positions} >= {3, 4, 6}
    assert found.unexplained == ()
