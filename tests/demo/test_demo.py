"""The observatory's gadgets and the demo casebook."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from eager_tern.casebook.keys import table_of_keys
from eager_tern.casebook.stacks import stack_of
from eager_tern.casebook.store import Casebook
from eager_tern.compare.comparison import accepting, compare, named
from eager_tern.compare.proof import left_out, prove
from eager_tern.demo.gadgets import GADGETS, NEST_LAMP, DemoGadget
from eager_tern.demo.handset import Handset
from eager_tern.demo.place import demo_casebook_path
from eager_tern.demo.planned import SHUTTERS, TIDE_GAUGE, TURNSTILE, PlannedGadget
from eager_tern.demo.playing import SIMULATED_GADGETS, list_sources
from eager_tern.errors import InputError
from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed


@pytest.mark.parametrize("gadget", GADGETS, ids=lambda gadget: gadget.name)
def test_every_key_sends_a_code_of_its_own(gadget: DemoGadget) -> None:
    handset = Handset(gadget)
    codes = set()
    for key in gadget.keys:
        first, held, count = handset.press(key)
        sent = np.concatenate([*([first] * count), held, held])
        (press,) = read_pulses(pulses_from_signed(sent), library()).presses
        assert press.lead.best is not None
        assert press.lead.best.protocol == gadget.sheet
        assert len(press.frames) == count + 2
        assert press.lead.best.fields.items() >= key.values.items()
        codes.add(tuple(key.values.values()))
    assert len(codes) == len(gadget.keys)
    assert len({(key.row, key.col) for key in gadget.keys}) == len(gadget.keys)


def test_the_toggle_turns_with_each_press() -> None:
    handset = Handset(NEST_LAMP)
    seen = []
    for _ in range(4):
        (press,) = read_pulses(pulses_from_signed(handset.press(NEST_LAMP.keys[0])[0]), library()).presses
        assert press.lead.best is not None
        seen.append(press.lead.best.fields["toggle"])
    assert seen == [0, 1, 0, 1]


def test_the_demo_casebook_is_made_once(own_home: Path) -> None:
    path = demo_casebook_path()
    made = path.stat().st_mtime_ns
    assert demo_casebook_path() == path
    assert path.stat().st_mtime_ns == made
    assert not path.with_name(path.name + ".partial").exists()
    casebook = Casebook.open(path)
    assert [gadget.name for gadget in casebook.gadgets()] == [gadget.name for gadget in SIMULATED_GADGETS]
    for known, kept in zip(GADGETS, casebook.gadgets(), strict=False):
        keys = table_of_keys(casebook.presses(kept.id), casebook.key_places(kept.id))
        assert {key.name for key in keys} == {key.name for key in known.keys}
        assert {key.name for key in keys if key.best is not None} == set(known.caught)
        assert not any(key.contradicts or key.same_as for key in keys)
    lamp = [press for press in casebook.presses(3) if not press.stray]
    # The same key twice, the toggle turned: one code.
    assert lamp[0].code == lamp[-1].code
    assert lamp[0].reading.turning == ("toggle",)
    casebook.close()


def test_a_place_that_cannot_be_written_is_said(own_home: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (own_home / "file").write_text("")
    monkeypatch.setenv("XDG_DATA_HOME", str(own_home / "file"))
    with pytest.raises(InputError, match="eager-tern"):
        demo_casebook_path()


def test_sources_have_names_of_their_own() -> None:
    ids = [source.id for source in list_sources()]
    assert len(set(ids)) == len(ids) >= 3


@pytest.mark.parametrize("gadget", [SHUTTERS, TIDE_GAUGE, TURNSTILE], ids=lambda gadget: gadget.name)
def test_what_a_planned_gadget_sends_is_found_out(demo_casebook: Path, gadget: PlannedGadget) -> None:
    casebook = Casebook.open(demo_casebook)
    kept = next(each for each in casebook.gadgets() if each.name == gadget.name)
    presses = casebook.presses(kept.id)
    assert len(presses) == gadget.taken
    stack, rows, apart = stack_of(presses)
    assert (len(rows), apart) == (gadget.taken, [])
    found = compare(stack)
    assert found.unexplained == ()
    assert {field.name for field in found.fields} == {name for name, _ in gadget.presses[0].labels}
    assert {check.kind for check in found.checks} == {check.kind for check in gadget.sheet.checks}
    proof = prove(
        found, left_out(found.stack), {accepting(named(field)) for field in found.fields}
    )  # twelve presses are few
    assert proof.predicted.sum() == proof.labelled.sum() == len([p for p in gadget.presses[: gadget.taken] if p.labels])
    shots = casebook.shots(kept.id)
    assert [shot.labels for shot in shots] == [press.labels for press in gadget.presses if press.labels]
    casebook.close()
