"""The capture service: on disk at once, read elsewhere, told as values, whatever goes wrong meanwhile."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from pathlib import Path
from queue import Empty, SimpleQueue

import numpy as np
import pytest
from msgspec import Struct

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import Caught
from eager_tern.errors import InputError
from eager_tern.intake import to_disk
from eager_tern.intake.files import read_file
from eager_tern.intake.jobs import FileToRead
from eager_tern.intake.keeping import keep_pulses
from eager_tern.intake.news import CasebookGone, JobEnded, News, PressesRead, TakeBegun, TakeRead, Trouble
from eager_tern.intake.service import CaptureService
from eager_tern.protocol.loading import library, parse_sheet, with_own
from eager_tern.protocol.making import press_frames
from eager_tern.signal.values import Floats
from tests.files import audio_line, write_audio, write_text
from tests.handsets import IDLE_US, nec, record
from tests.intake.test_live import chatter
from tests.protocol.test_sheets import SHEET

PATIENCE_S = 20.0


class Desk:
    """A casebook with a service, and what it has told."""

    def __init__(self, path: Path) -> None:
        self.book = Casebook.create(path)
        self.gadget = self.book.add_gadget("Lamp")
        self.told: list[News] = []
        self._queue: SimpleQueue[News] = SimpleQueue()
        self.service = CaptureService(self.book, self._queue.put)

    def wait(self, until: Callable[[], bool], patience_s: float = PATIENCE_S) -> None:
        end = time.monotonic() + patience_s
        while not until():
            try:
                self.told.append(self._queue.get(timeout=0.05))
            except Empty:
                assert time.monotonic() < end, self.told[-5:]

    def wait_for(self, kind: type[News]) -> None:
        self.wait(lambda: any(isinstance(news, kind) for news in self.told))

    @property
    def words(self) -> list[str]:
        return [news.words for news in self.told if isinstance(news, Trouble)]

    def presses(self) -> list[Caught]:
        return [press for press in self.book.presses() if not press.stray and not press.deleted]

    def close(self) -> list[tuple[int, Floats]]:
        left = self.service.close()
        self.book.close()
        return left


@pytest.fixture
def desk(tmp_path: Path) -> Iterator[Desk]:
    found = Desk(tmp_path / "book.tern")
    yield found
    if found.service._thread.is_alive():
        found.close()


def test_what_is_heard_is_on_disk_within_a_second_and_read(desk: Desk, rng: np.random.Generator) -> None:
    desk.service.begin(desk.gadget, "test", library())
    signed = record(nec(1, 2), rng)
    desk.service.hear(signed)
    began = time.monotonic()
    desk.wait(lambda: bool(desk.book.takes()) and desk.book.take_durations(1).size == signed.size)
    assert time.monotonic() - began < 1.0
    desk.wait_for(PressesRead)
    (press,) = desk.presses()
    assert press.reading.fields == {"address": 1, "command": 2}
    assert not desk.book.take(1).read_whole
    desk.service.end()
    desk.wait_for(TakeRead)
    assert desk.book.take(1).read_whole


def test_a_chattering_receiver_is_told_of_while_it_goes_on(desk: Desk, rng: np.random.Generator) -> None:
    desk.service.begin(desk.gadget, "test", library())
    frame = record([*nec(5, 6), *nec(5, 6)], rng)[:-1]
    for _ in range(4):
        desk.service.hear(np.concatenate((chatter(rng, 0.5), frame, chatter(rng, 0.5))))
    desk.wait_for(PressesRead)
    desk.wait(lambda: bool(desk.presses()))
    began = time.monotonic()
    desk.service.end()
    assert time.monotonic() - began < 0.1  # nobody waits for the rest to be read


def test_a_chattering_receiver_that_is_inverted_is_turned_round(desk: Desk, rng: np.random.Generator) -> None:
    desk.service.begin(desk.gadget, "test", library())
    frame = record([*nec(5, 6), *nec(5, 6)], rng)[:-1]
    for _ in range(4):
        desk.service.hear(-np.concatenate((chatter(rng, 0.5), frame, chatter(rng, 0.5))))
    desk.wait(lambda: bool(desk.presses()))
    assert desk.book.take(1).by_hand.polarity == "mark-low"
    desk.service.hear(-np.concatenate((chatter(rng, 0.5), frame, chatter(rng, 0.5))))
    desk.service.end()
    desk.wait_for(TakeRead)
    read = [(press.reading.protocol, press.reading.fields) for press in desk.presses()]
    assert read == [("nec", {"address": 5, "command": 6})] * 5


def test_a_sheet_kept_while_listening_reaches_the_running_take(desk: Desk, rng: np.random.Generator) -> None:
    sheet = parse_sheet(SHEET, "test")
    frame = [*np.concatenate(press_frames(sheet, {"group": 9, "level": 3}, 2)), -IDLE_US]
    desk.service.begin(desk.gadget, "test", library())
    desk.service.hear(record(frame, rng, jitter_us=10))
    desk.wait(lambda: bool(desk.presses()))
    assert desk.presses()[0].reading.protocol == "unknown"
    sheets = with_own([sheet])
    desk.service.read_again([1], desk.gadget, sheets)
    desk.wait(lambda: desk.presses()[0].reading.protocol == sheet.id)
    desk.service.hear(record(frame, rng, jitter_us=10))
    desk.wait(lambda: [press.reading.protocol for press in desk.presses()] == [sheet.id] * 2)


class Disk(Struct):
    full: bool = True


def full_disk(monkeypatch: pytest.MonkeyPatch, method: str) -> Disk:
    """A disk that refuses what one method of the casebook writes, as long as it is full."""
    disk, write = Disk(), getattr(Casebook, method)

    def refuse(book: Casebook, take_id: int, what: object) -> object:
        if disk.full:
            raise InputError(book.path, "cannot be written because the disk is full")
        return write(book, take_id, what)

    monkeypatch.setattr(Casebook, method, refuse)
    monkeypatch.setattr(to_disk, "RETRY_S", 0.1)
    return disk


def test_pulses_that_no_disk_takes_are_kept_until_one_does(
    desk: Desk, rng: np.random.Generator, monkeypatch: pytest.MonkeyPatch
) -> None:
    disk = full_disk(monkeypatch, "append_durations")
    desk.service.begin(desk.gadget, "test", library())
    for command in range(5):
        desk.service.hear(record(nec(1, command), rng))
    desk.wait(lambda: any("disk is full" in words for words in desk.words))
    desk.service.end()  # stopping does not let them go
    time.sleep(0.3)
    assert not desk.presses()
    disk.full = False
    desk.wait_for(TakeRead)
    assert [press.reading.fields["command"] for press in desk.presses()] == [0, 1, 2, 3, 4]
    assert len(desk.words) == 2  # it was said once, and once that it is over
    disk.full = True
    desk.service.begin(desk.gadget, "again", library())
    desk.service.hear(np.array([500.0, -600.0, 700.0]))
    desk.wait(lambda: len(desk.words) == 3)
    ((take_id, left),) = desk.close()
    assert (take_id, left.tolist()) == (2, [500, -600, 700])


def test_presses_that_no_disk_takes_are_kept_until_one_does(
    desk: Desk, rng: np.random.Generator, monkeypatch: pytest.MonkeyPatch
) -> None:
    disk = full_disk(monkeypatch, "put_passage")
    desk.service.begin(desk.gadget, "test", library())
    for command in range(5):
        desk.service.hear(record(nec(1, command), rng))
    desk.wait(lambda: any("disk is full" in words for words in desk.words))
    desk.service.end()
    time.sleep(0.3)
    assert not desk.presses()
    disk.full = False
    desk.wait_for(TakeRead)
    assert [press.reading.fields["command"] for press in desk.presses()] == [0, 1, 2, 3, 4]
    assert len(desk.words) == 2


def test_reading_again_that_fails_loses_nothing_that_is_heard_meanwhile(
    desk: Desk, rng: np.random.Generator, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk.service.begin(desk.gadget, "test", library())
    desk.service.hear(record(nec(1, 2), rng))
    desk.wait_for(PressesRead)

    def refuse(*_: object) -> list[int]:
        raise InputError(desk.book.path, "cannot be written because the disk is full")

    with monkeypatch.context() as patched:
        patched.setattr(Casebook, "put_passage", refuse)
        desk.service.read_again([1], desk.gadget, library())
        desk.service.hear(record(nec(1, 3), rng))
        desk.wait(lambda: any("disk is full" in words for words in desk.words))
    desk.service.end()
    desk.wait_for(TakeRead)
    assert [press.reading.fields["command"] for press in desk.presses()] == [2, 3]


@pytest.mark.parametrize("kind", ["text", "audio"])
def test_reading_again_with_the_same_sheets_changes_nothing(
    desk: Desk, rng: np.random.Generator, tmp_path: Path, kind: str
) -> None:
    """A recording that begins within a frame: what is left of it is no press, today or tomorrow."""
    signed = record([*nec(7, 9), -IDLE_US, *nec(7, 10, 2), -IDLE_US], rng)[25:]
    path = tmp_path / ("r.txt" if kind == "text" else "r.wav")
    if kind == "text":
        write_text(path, signed if signed[0] > 0 else signed[1:], "signed")
    else:
        write_audio(path, audio_line(signed, 48_000, rng), 48_000)
    desk.service.read_files([FileToRead(path)], desk.gadget, library())
    desk.wait_for(JobEnded)
    before = [(p.id, p.stray, p.deleted, p.reading) for p in desk.book.presses()]
    (found,) = read_file(path, library())
    assert [p.reading.frames for p in desk.presses()] == [
        tuple((f.first, f.last) for f in press.frames) for press in found.take.presses
    ]
    desk.told.clear()
    desk.service.read_again([1], desk.gadget, library())
    desk.wait_for(JobEnded)
    assert [(p.id, p.stray, p.deleted, p.reading) for p in desk.book.presses()] == before
    assert not any(isinstance(news, PressesRead) for news in desk.told)


def test_a_casebook_that_was_deleted_is_noticed(desk: Desk) -> None:
    desk.book.path.unlink()
    desk.wait_for(CasebookGone)


def test_what_was_not_read_to_its_end_is_marked(desk: Desk, rng: np.random.Generator, tmp_path: Path) -> None:
    write_text(tmp_path / "r.txt", record(nec(1, 2), rng), "signed")
    (found,) = read_file(tmp_path / "r.txt", library())
    take_id = keep_pulses(desk.book, desk.gadget, found)  # and then the power failed
    assert not desk.book.take(take_id).read_whole
    desk.service.read_again([take_id], desk.gadget, library())
    desk.wait_for(TakeRead)
    assert len(desk.presses()) == 1
    assert desk.book.take(take_id).read_whole


def test_files_are_read_one_after_the_other_and_stop_when_told(
    desk: Desk, rng: np.random.Generator, tmp_path: Path
) -> None:
    for number in range(40):
        write_text(tmp_path / f"{number:02}.txt", record(nec(1, number), rng), "signed")
    (tmp_path / "bad.txt").write_text("500\n500 x\n")
    files = [FileToRead(tmp_path / "bad.txt"), *(FileToRead(tmp_path / f"{n:02}.txt") for n in range(40))]
    desk.service.read_files(files, desk.gadget, library())
    desk.wait_for(JobEnded)
    assert [press.reading.fields["command"] for press in desk.presses()] == list(range(40))
    assert "bad.txt: line 2" in desk.words[0]
    desk.told.clear()
    job = desk.service.read_files(files, desk.gadget, library())
    desk.wait_for(TakeBegun)
    desk.service.stop(job)
    desk.wait_for(JobEnded)
    assert len(desk.presses()) < 80


def test_a_file_that_is_being_read_at_the_end_is_read_at_the_next_opening(
    desk: Desk, rng: np.random.Generator, tmp_path: Path
) -> None:
    """To be stopped is something else: what was found so far is all that is wanted."""
    signed = np.concatenate([part for n in range(250) for part in (record(nec(1, n), rng), [-IDLE_US])])
    signed = np.tile(signed, 8)  # takes far longer to read than its beginning does to be told
    write_text(tmp_path / "long.txt", signed[:-1], "signed")
    desk.service.read_files([FileToRead(tmp_path / "long.txt")], desk.gadget, library())
    desk.wait_for(TakeBegun)
    desk.service.close()
    (take,) = desk.book.takes()
    assert len(desk.presses()) < 8 * 250
    assert not take.read_whole


def test_a_reader_that_dies_is_said_and_the_take_is_read_when_it_is_over(desk: Desk, rng: np.random.Generator) -> None:
    desk.service.begin(desk.gadget, "test", library())
    desk.service.hear(record(nec(1, 2), rng))
    desk.wait_for(PressesRead)
    assert desk.service._live.running is not None
    desk.service._live.running.reader.child._process.kill()
    desk.wait(lambda: any("process that reads has ended" in words for words in desk.words))
    desk.service.hear(record(nec(1, 3), rng))
    desk.service.end()
    desk.wait_for(TakeRead)
    assert [press.reading.fields["command"] for press in desk.presses()] == [2, 3]
