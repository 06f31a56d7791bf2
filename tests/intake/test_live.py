"""A recording as it arrives gives what the whole recording gives."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from eager_tern.casebook.store import Casebook
from eager_tern.errors import InputError
from eager_tern.intake.live import Listening
from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import evening, nec, record, serial, sony


def listening(path: Path) -> tuple[Casebook, Listening]:
    casebook = Casebook.create(path)
    return casebook, Listening(casebook, casebook.add_gadget("x"), "test", "recorder", library(), 1000.0)


@given(st.integers(0, 1000), st.lists(st.integers(1, 200), min_size=1, max_size=30))
@settings(max_examples=15, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_pieces_of_any_size_make_no_difference(
    tmp_path_factory: pytest.TempPathFactory, seed: int, sizes: list[int]
) -> None:
    recording = evening(np.random.default_rng(seed), 5, jitter_us=20)
    signed = np.array([*recording.signed[:-1], -50_000.0, 150.0, -400_000.0])
    casebook, live = listening(tmp_path_factory.mktemp("live") / "l.tern")
    at, n = 0, 0
    while at < signed.size:
        size = sizes[n % len(sizes)]
        live.hear(signed[at : at + size])
        at, n = at + size, n + 1
    live.finish()
    whole = read_pulses(pulses_from_signed(signed), library())
    caught = [press for press in casebook.presses() if not press.stray]
    assert [p.reading.frames for p in caught] == [tuple((f.first, f.last) for f in p.frames) for p in whole.presses]
    assert [p.reading.start_us for p in caught] == pytest.approx([p.start_us for p in whole.presses])
    assert [p.reading.frames[0] for p in casebook.presses() if p.stray] == list(whole.noise)
    np.testing.assert_allclose(casebook.take_pulses(live.take_id).durations_us, whole.pulses.durations_us)
    casebook.close()


def test_a_frame_is_read_as_soon_as_silence_follows(tmp_path: Path, rng: np.random.Generator) -> None:
    casebook, live = listening(tmp_path / "l.tern")
    frame = record(nec(1, 2), rng)
    assert live.hear(frame[:40]).press_ids == ()
    assert live.hear(frame[40:-1]).press_ids == ()
    (press_id,) = live.hear(np.array([-20_000.0])).press_ids
    assert casebook.press(press_id).reading.fields == {"address": 1, "command": 2}
    # The rest of the silence, then a repeat: the press grows.
    repeat = record(nec(1, 2, 1)[68:], rng)
    assert live.hear(np.concatenate(([-20_000.0], repeat))).press_ids == (press_id,)
    assert casebook.press(press_id).repeats == 1
    # Silence of more than 150 ms in pieces, then the same code: another press.
    live.hear(np.array([-100_000.0]))
    live.hear(np.array([-60_000.0]))
    (other,) = live.hear(record([*nec(1, 2)], rng)).press_ids
    assert other != press_id
    assert casebook.press(other).caught_at > casebook.press(press_id).caught_at
    casebook.close()


def test_a_full_disk_loses_nothing_that_was_heard(tmp_path: Path, rng: np.random.Generator) -> None:
    casebook, live = listening(tmp_path / "l.tern")
    pages = casebook._db.execute("PRAGMA page_count").fetchone()[0]
    casebook._db.execute(f"PRAGMA max_page_count = {pages}")
    signed = record(nec(1, 2), rng)
    refused = 0
    for _ in range(40):
        try:
            live.hear(signed)
        except InputError as error:
            assert "disk is full" in str(error)
            refused += 1
    assert refused
    casebook._db.execute("PRAGMA max_page_count = 100000")
    live.finish()
    assert casebook.take_pulses(live.take_id).durations_us.size == 40 * 68 - 1
    assert len([p for p in casebook.presses() if not p.stray]) >= 1
    total = sum(len(p.reading.frames) for p in casebook.presses() if not p.stray)
    assert total == 40
    casebook.close()


def test_a_press_that_cannot_be_kept_is_read_again(
    tmp_path: Path, rng: np.random.Generator, monkeypatch: pytest.MonkeyPatch
) -> None:
    casebook, live = listening(tmp_path / "l.tern")
    live.hear(record(nec(1, 2), rng))

    def refuse(*_: object, **__: object) -> int:
        raise InputError(casebook.path, "cannot be written because the disk is full")

    with monkeypatch.context() as patched:
        patched.setattr(casebook, "put_press", refuse)
        with pytest.raises(InputError):
            live.hear(record(nec(1, 2, 1)[68:], rng))
    live.hear(np.array([-1000.0]))
    (press,) = casebook.presses()
    assert press.repeats == 1
    casebook.close()


def test_frames_of_a_hold_repair_one_another_when_it_is_over(tmp_path: Path, rng: np.random.Generator) -> None:
    casebook, live = listening(tmp_path / "l.tern")
    frames = [record(sony(21, 3, frames=1), rng) for _ in range(4)]
    lead = frames[1][0]
    # A hole in the leader, as a lamp makes.
    frames[1] = np.concatenate(([lead / 3, -lead / 3, lead / 3], frames[1][1:]))
    for frame in frames:
        live.hear(frame)
    heard = live.hear(np.array([-200_000.0]))
    live.finish()
    whole = read_pulses(casebook.take_pulses(live.take_id), library())
    caught = [p for p in casebook.presses() if not p.deleted and not p.stray]
    assert [p.reading.frames for p in caught] == [tuple((f.first, f.last) for f in p.frames) for p in whole.presses]
    assert len(caught) == 1
    assert len(caught[0].reading.frames) == 4
    assert heard.revised
    assert heard.press_ids == (caught[0].id,)
    casebook.close()


def test_frames_of_characters_agree_when_the_recording_ends(tmp_path: Path, rng: np.random.Generator) -> None:
    """Seven bits with parity look like eight without in one frame by itself; in all of them together they do not."""
    casebook, live = listening(tmp_path / "l.tern")
    said = [tuple(rng.integers(0, 128, 5).tolist()) for _ in range(12)]
    for data in said:
        live.hear(record(serial(list(data), 600, 7, "even"), rng, jitter_us=10))
    read = [press.reading.fields["bytes"] for press in casebook.presses()]
    assert read != said
    heard = live.finish()
    assert heard.revised
    assert [press.reading.fields["bytes"] for press in casebook.presses()] == said
    casebook.close()
