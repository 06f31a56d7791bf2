"""What is told about a poor recording."""

from __future__ import annotations

from pathlib import Path
from queue import SimpleQueue

import numpy as np
import pytest

from eager_tern.casebook.store import Casebook
from eager_tern.intake.files import read_file
from eager_tern.intake.news import News, TakeRead, Trouble
from eager_tern.intake.service import CaptureService
from eager_tern.protocol.loading import library
from eager_tern.signal.measure import best_shift_us, differing_stretches
from eager_tern.signal.quality import advice_on
from eager_tern.signal.values import NO_PULSES, Pulses
from tests.handsets import IDLE_US, join, nec
from tests.kept import keep


def test_a_coarse_recording_and_an_empty_one() -> None:
    pulses = Pulses(np.abs(join(nec(1, 2)))[:-1])
    assert advice_on(pulses, 4_000, 1)[0].startswith("it is too coarse, about 2 samples a pulse")
    assert advice_on(pulses, 48_000, 1) == ()
    assert "no signal" in advice_on(NO_PULSES, 48_000, 0)[0]
    rng = np.random.default_rng(1)
    chatter = Pulses(rng.uniform(20, 300, 2001))
    assert "chatter" in advice_on(chatter, None, 0)[0]
    assert advice_on(chatter, 44_100, 3) == ()  # what was read in it was not too coarse


def test_an_inverted_live_source_is_turned_round(tmp_path: Path) -> None:
    book = Casebook.create(tmp_path / "a.tern")
    told: SimpleQueue[News] = SimpleQueue()
    service = CaptureService(book, told.put)
    service.begin(book.add_gadget("Lamp"), "test", library())
    for command in (6, 7):
        service.hear(-np.array([-IDLE_US, *nec(5, command), -IDLE_US]))
    service.end()
    news = [told.get(timeout=10)]
    while not isinstance(news[-1], TakeRead):
        news.append(told.get(timeout=10))
    assert any("inverted" in each.words for each in news if isinstance(each, Trouble))
    take_id = news[-1].take_id
    service.close()
    commands = [press.reading.fields.get("command") for press in book.presses() if not press.stray]
    assert commands == [6, 7]
    pulses = book.take_pulses(take_id)
    first, last = book.presses()[0].reading.frames[0]
    np.testing.assert_allclose(pulses.durations_us[first : last + 1], np.abs(join(nec(5, 6)))[:-1])


def test_named_arrays_label_their_presses(tmp_path: Path) -> None:
    arrays = [("power", 3), ("mute", 4)]
    text = "\n".join(
        f"const uint16_t {name}[67] = {{{', '.join(f'{abs(d):.0f}' for d in join(nec(1, command))[:-1])}}};"
        for name, command in arrays
    )
    (tmp_path / "keys.h").write_text(text)
    (found,) = read_file(tmp_path / "keys.h", library())
    book = Casebook.create(tmp_path / "a.tern")
    keep(book, book.add_gadget("Lamp"), found)
    assert [press.label for press in book.presses()] == ["power", "mute"]


@pytest.mark.parametrize("shift", [-900.0, 0.0, 1100.0])
def test_two_tapes_by_best_fit(shift: float) -> None:
    one = Pulses(np.abs(join(nec(5, 6)))[:-1])
    d = one.durations_us.copy()
    if shift < 0:
        d[0] += shift  # the beginning was missed
    other = Pulses(d)
    found = best_shift_us(one, other, 5000)
    assert found == pytest.approx(-shift if shift < 0 else 0.0, abs=40)
    assert len(differing_stretches(one, other, found, 280)) == (1 if shift < 0 else 0)
    changed = Pulses(np.abs(join(nec(5, 7)))[:-1])
    assert len(differing_stretches(one, changed, 0.0, 280)) > 0
