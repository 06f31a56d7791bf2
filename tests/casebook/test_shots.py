"""The shot list: plans to presses, what is taken next, and what is held up."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.casebook.changes import History, PlanShots
from eager_tern.casebook.file import SCHEMA
from eager_tern.casebook.shots import (
    Shot,
    next_shot,
    odd_one,
    parse_plan,
    repeated,
    shots_csv,
    shots_from_csv,
    skipped,
    stepped_back,
    taken,
)
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import Caught, Faint, Measured, PressReading
from eager_tern.errors import InputError


def texts(plan: str) -> list[str]:
    return [shot.text for shot in parse_plan(plan)]


@pytest.mark.parametrize(
    ("plan", "shots"),
    [
        ("Power\nVolume up\n", ["Power", "Volume up"]),
        ("mode cool dry", ["mode = cool", "mode = dry"]),
        ("level 16..18", ["level = 16", "level = 17", "level = 18"]),
        ("level 1..0 by 0.5", ["level = 1", "level = 0.5", "level = 0"]),
        ("a 1..2, b x y", ["a = 1, b = x", "a = 1, b = y", "a = 2, b = x", "a = 2, b = y"]),
        ("# nothing\n\n'fan on'", ["fan on"]),
        ("level -2..-1", ["level = -2", "level = -1"]),
    ],
)
def test_a_plan_in_words(plan: str, shots: list[str]) -> None:
    assert texts(plan) == shots


@pytest.mark.parametrize("plan", ["x 0..99999", "Power\nx 1..9 by 0", "a 1..200, b 1..200"])
def test_a_plan_without_end_is_refused_with_its_line(plan: str) -> None:
    with pytest.raises(InputError) as caught:
        parse_plan(plan)
    assert caught.value.place == f"line {plan.count(chr(10)) + 1}"


def test_presses_take_shots_in_order() -> None:
    shots = parse_plan("mode cool dry heat fan")
    shots = taken(shots, 7)
    assert next_shot(shots) == 1
    shots = taken(skipped(shots), 8)
    assert [s.press_id for s in shots] == [7, None, 8, None]
    shots = repeated(shots)
    assert [s.text for s in shots] == ["mode = cool", "mode = dry", "mode = heat", "mode = heat", "mode = fan"]
    assert next_shot(shots) == 3
    back, press = stepped_back(shots)
    assert press == 8
    assert next_shot(back) == 2
    done = taken(taken(shots, 9), 10)
    assert next_shot(done) is None
    assert taken(done, 11) == done


def press(**reading: object) -> Caught:
    values = {"frames": ((0, 2),), "start_us": 0.0, "held_us": 1.0, "protocol": "nec", "bits": "01", "confidence": 0.9}
    return Caught(1, 1, 1, 0.0, "", False, False, PressReading(**{**values, **reading}))


def test_what_is_not_like_its_neighbours_is_held_up() -> None:
    usual = [press(), press()]
    assert odd_one(press(), usual) == ""
    assert "3 bits" in odd_one(press(bits="011"), usual)
    assert "rc5" in odd_one(press(protocol="rc5"), usual)
    assert "check" in odd_one(press(checks_hold=False), [])
    assert "repeats" in odd_one(press(first_missed=True), [])
    assert "doubt" in odd_one(press(confidence=0.3), usual)


@given(st.lists(st.tuples(st.sampled_from(["", "mode", "level"]), st.text('abc,;" é1', min_size=1).map(str.strip))))
def test_a_list_comes_back_from_its_table(pairs: list[tuple[str, str]]) -> None:
    shots = tuple(Shot(((name, value),)) for name, value in pairs if value)
    if shots:
        again = shots_from_csv(shots_csv(shots))
        assert [s.labels for s in again] == [s.labels for s in shots]


@pytest.mark.parametrize("text", ["", "mode\n", "mode\ncool,3\n"])
def test_a_table_that_is_none_is_refused(text: str) -> None:
    with pytest.raises(InputError):
        shots_from_csv(text)


def test_a_list_survives_and_can_be_taken_back(tmp_path: Path) -> None:
    book = Casebook.create(tmp_path / "a.tern")
    gadget = book.add_gadget("Cabinet")
    history = History()
    shots = parse_plan("Power\nlevel 1..3")
    history.do(book, PlanShots(gadget, shots))
    history.do(book, PlanShots(gadget, skipped(shots)))
    history.undo(book)
    book.close()
    assert Casebook.open(tmp_path / "a.tern").shots(gadget) == shots


@pytest.mark.parametrize("version", [1, 2, 3])
def test_an_older_casebook_is_brought_up(tmp_path: Path, version: int) -> None:
    path = tmp_path / "old.tern"
    book = Casebook.create(path)
    gadget = book.add_gadget("Lamp")
    book.close()
    newer = {1: ["path", "channel", "by_hand", "measured"], 2: ["measured"], 3: []}[version]
    columns = "".join(f"ALTER TABLE take DROP COLUMN {name};" for name in newer)
    with sqlite3.connect(path) as db:
        db.executescript(
            f"DROP TABLE dismissed; {'DROP TABLE shot;' if version == 1 else ''} PRAGMA user_version = {version};"
            + columns
        )
    db.close()
    assert Casebook.open(path, read_only=True).shots(gadget) == ()
    book = Casebook.open(path)
    book.set_dismissed(gadget, frozenset({"sum 7 6 5 4"}))
    assert book.dismissed(gadget) == {"sum 7 6 5 4"}
    book.put_shots(gadget, parse_plan("Power"))
    assert book.shots(gadget) == (Shot((("", "Power"),)),)
    measured = Measured("fsk", 20_000.0, None, (Faint(1.0, 2.0, 0.5),))
    assert book.take(book.add_take(gadget, "a", "iq", measured=measured)).measured == measured
    book.close()
    with sqlite3.connect(path) as db:
        assert db.execute("PRAGMA user_version").fetchone()[0] == SCHEMA
    db.close()
