"""A recorder board as a transmitter, over its serial line. docs/recorder.md describes the orders.

Version 2 takes a press in numbered pieces, each with a checksum, into the board's memory, and then says it by itself,
repeats included. Version 1 takes a frame in one line.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence

import numpy as np

from eager_tern.devices.line_protocol import IDENTIFY, checksum, encode_order
from eager_tern.devices.serial_port import GONE, Recorder
from eager_tern.devices.targets import DUTY_PERCENT, LOOK_S, USUAL_CARRIER_HZ, RealTime, Went, length_s, wait
from eager_tern.errors import InputError
from eager_tern.signal.values import Floats

STARTS_IN_S = 4.0  # many boards reset themselves when their port is opened, and are back after two seconds
ASK_EVERY_S = 0.5
ANSWER_S = 1.0  # within which a board answers an order that takes no time
TRIES = 4  # of a piece that was not understood
PIECE = 12  # durations of a piece: with its number and checksum it fits the 64 bytes of a board's serial buffer twice
MOST_IN_ORDER = 160  # durations that a board of version 1 takes (kMostToSend of its firmware)
LONGEST_LINE = 60  # characters of a piece


class BoardTarget(RealTime):
    """``pumped`` tells that somebody else polls the recorder, who listens to the same port meanwhile."""

    id: str
    recorder: Recorder
    pumped: bool = False

    @classmethod
    def open(cls, device: str) -> BoardTarget:
        """Open a port. Raises InputError where no recorder answers there."""
        board = cls(device, Recorder.open(device))
        try:
            board.identified()
        except InputError:
            board.recorder.close()
            raise
        return board

    def identified(self) -> None:
        """Wait until the board has said who it is. Raises InputError."""
        until = time.monotonic() + STARTS_IN_S
        ask_at = 0.0
        while self.recorder.hello is None:
            if time.monotonic() > until:
                raise InputError(self.id, "nobody answers as a recorder board does; is its firmware on it?")
            if time.monotonic() > ask_at:
                self.recorder.write(IDENTIFY.decode().strip())
                ask_at = time.monotonic() + ASK_EVERY_S
            self._look()

    def heard_by_others(self) -> Recorder:
        """The recorder, which somebody else polls from now on."""
        self.pumped = True
        return self.recorder

    @property
    def version(self) -> int:
        return self.recorder.hello.version if self.recorder.hello is not None else 1

    def cannot(self, frames: Sequence[Floats], carrier_hz: float | None) -> str:
        if carrier_hz and not 30_000 <= carrier_hz <= 60_000:
            return f"the board makes carriers of 30 to 60 kHz, and none of {carrier_hz / 1000:g} kHz"
        if self.version >= 2:
            return ""
        if carrier_hz == 0:
            return "this board's firmware (version 1) cannot send without a carrier; version 2 can"
        longest = max(frame.size for frame in frames)
        if longest > MOST_IN_ORDER:
            return f"this board's firmware (version 1) takes {MOST_IN_ORDER} pulses a frame, this one has {longest}"
        return ""

    def send(self, frames: Sequence[Floats], carrier_hz: float | None, stopped: Callable[[], bool]) -> Went:
        carrier = USUAL_CARRIER_HZ if carrier_hz is None else round(carrier_hz)
        self.recorder.answers.clear()
        whole = [_whole(frame) for frame in frames]
        if self.version < 2:
            return self._send_in_orders(whole, carrier, stopped)
        went = 0
        while went < len(whole) and not stopped():
            first, held, count = _first_and_held(whole[went:])
            self._load(first, held, carrier)
            said = self._say(count, sum(map(length_s, whole[went : went + count])), stopped)
            went += said
            if said < count:
                break
        return Went(went)

    def _load(self, first: Floats, held: Floats | None, carrier: int) -> None:
        """Fill the board's memory with a frame, and with what follows it."""
        size = first.size + (held.size if held is not None else 0)
        answer = self._ordered(f"load {carrier} {DUTY_PERCENT} {size}", ("ready",))
        room = int(answer[1]) if len(answer) > 1 and answer[1].isdigit() else size
        if room < size:
            raise InputError(self.id, f"its memory takes {room} pulses of a press, this one has {size}")
        number = 0
        for part in (first, held):
            if part is None:
                continue
            if part is held:
                self._ordered("again", ("ready",))
            for words in _pieces(part):
                self._piece(number, words)
                number += 1

    def _piece(self, number: int, words: str) -> None:
        for _ in range(TRIES):
            self.recorder.write(encode_order(f". {number} {words}"))
            answer = self._answer(("got", "again", "full"), ANSWER_S)
            if answer == ["got", str(number)]:
                return
            if answer[:1] == ["full"]:
                raise InputError(self.id, f"its memory is full after {' '.join(answer[1:])} pulses")
        raise InputError(self.id, f"did not understand piece {number} of the frame, said {TRIES} times")

    def _say(self, count: int, lasts_s: float, stopped: Callable[[], bool]) -> int:
        """Have it said, and see how many frames went out."""
        self.recorder.write(encode_order(f"go {count}"))
        until = time.monotonic() + lasts_s + ANSWER_S
        said = 0
        told = False
        while time.monotonic() < until:
            if stopped() and not told:
                self.recorder.write("stop")
                told, until = True, time.monotonic() + ANSWER_S
            answer = self._heard()
            if answer[:1] == ["said"] and len(answer) > 1 and answer[1].isdigit():
                said = int(answer[1])
            elif answer[:1] == ["sent"]:
                return count
            elif answer[:1] == ["stopped"]:
                return said
            elif answer and answer[0] in ("order", "busy", "cannot"):
                raise InputError(self.id, f"the board says: {' '.join(answer)}")
        if told:
            return said
        raise InputError(self.id, f"the board has not said that it sent the frame; {said} of {count} are sure")

    def _send_in_orders(self, frames: Sequence[Floats], carrier: int, stopped: Callable[[], bool]) -> Went:
        went = 0
        for number, frame in enumerate(frames):
            if stopped():
                break
            begun = time.monotonic()
            body = f"! {carrier} {' '.join(f'{d:+.0f}' for d in frame[: frame.size - 1 + frame.size % 2])}"
            self.recorder.write(f"{body} # {checksum(body):02x}")
            answer = self._answer(("sent", "order"), length_s(frame) + ANSWER_S)
            if answer[:1] != ["sent"]:
                raise InputError(self.id, f"the board says: {' '.join(answer) or 'nothing'}")
            went += 1
            if number < len(frames) - 1:
                wait(length_s(frame) - (time.monotonic() - begun), stopped)
        return Went(went)

    def _ordered(self, body: str, wanted: tuple[str, ...]) -> list[str]:
        """The answer to an order. Raises InputError where none comes, or another."""
        answer: list[str] = []
        for _ in range(TRIES):
            self.recorder.write(encode_order(body))
            answer = self._answer((*wanted, "order", "busy", "cannot", "full"), ANSWER_S)
            if answer and answer[0] in wanted:
                return answer
            if answer and answer[0] in ("cannot", "full"):
                break
        what = " ".join(answer)
        raise InputError(self.id, f"the board says: {what}" if what else f'the board does not answer to "{body}"')

    def _answer(self, wanted: tuple[str, ...], within_s: float) -> list[str]:
        until = time.monotonic() + within_s
        while time.monotonic() < until:
            answer = self._heard()
            if answer and answer[0] in wanted:
                return answer
        return []

    def _heard(self) -> list[str]:
        """One answer, if one is there; waits a little."""
        if not self.recorder.answers:
            self._look()
        return self.recorder.answers.popleft().split() if self.recorder.answers else []

    def _look(self) -> None:
        if self.pumped:
            wait(LOOK_S, lambda: bool(self.recorder.answers))
        elif self.recorder.poll().news == GONE:
            raise InputError(self.id, "the port has disappeared, and with it the board")

    def close(self) -> None:
        self.recorder.close()


def _whole(frame: Floats) -> Floats:
    """Whole µs, none of them 0."""
    return np.asarray(np.sign(frame) * np.maximum(np.rint(np.abs(frame)), 1.0))


def _first_and_held(frames: Sequence[Floats]) -> tuple[Floats, Floats | None, int]:
    """A frame, the one that repeats behind it (None: itself), and how many frames in a row these two make."""
    first = frames[0]
    if len(frames) == 1:
        return first, None, 1
    held = frames[1]
    count = 2
    while count < len(frames) and np.array_equal(frames[count], held):
        count += 1
    return first, None if np.array_equal(first, held) else held, count


def _pieces(frame: Floats) -> list[str]:
    pieces: list[list[str]] = [[]]
    for word in (f"{d:+.0f}" for d in frame.tolist()):
        if len(pieces[-1]) == PIECE or sum(len(w) + 1 for w in pieces[-1]) + len(word) > LONGEST_LINE:
            pieces.append([])
        pieces[-1].append(word)
    return [" ".join(piece) for piece in pieces]
