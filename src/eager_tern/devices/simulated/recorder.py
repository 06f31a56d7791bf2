"""A recorder stand-in: a process behind a pseudo-terminal that speaks the line protocol."""

from __future__ import annotations

import math
import os
import pty
import select
import termios
import time
import tty
from collections import deque
from collections.abc import Callable
from multiprocessing.connection import Connection

import numpy as np
from msgspec import Struct

from eager_tern.devices.line_protocol import LineSplitter, encode_durations, encode_hello
from eager_tern.devices.simulated.orders import Orders
from eager_tern.signal.values import Floats

TICK_US = 4
LINE_DURATIONS = 48
SILENCE_US = 20_000.0  # told as soon as it has lasted, so that the listener knows that the frame is whole
STRAY_EVERY = 9


class Impairment(Struct, frozen=True):
    """What receiver and handset do to the signal. ``clock`` multiplies every duration."""

    jitter_us: float = 18.0
    excess_us: float = 45.0
    clock: float = 1.012


def impair(signed_us: Floats, impairment: Impairment, rng: np.random.Generator) -> Floats:
    """Durations as a receiver gives them: each edge shifted on its own, each mark longer by the excess."""
    edges = np.concatenate(([0.0], np.cumsum(np.abs(signed_us)) * impairment.clock))
    edges += rng.normal(0.0, impairment.jitter_us, edges.size)
    edges[1:] += np.where(signed_us > 0, impairment.excess_us, 0.0)
    ticks = np.maximum(np.rint(np.diff(edges) / TICK_US), 1.0) * TICK_US
    return np.asarray(np.sign(signed_us) * ticks)


class StandIn:
    """The simulated receiver's line, from its one end to the other."""

    def __init__(
        self, line: int, speed: float, rng: np.random.Generator, impairment: Impairment, baud: int = 115_200
    ) -> None:
        self._line = line
        self._baud = baud
        self._speed = speed
        self._rng = rng
        self._impairment = impairment
        self._number = 0
        self._quiet_since = time.monotonic()
        self._told_us = 0.0  # of the silence that is going on
        self._rest_us = math.inf  # what it lasts if another frame of the press follows
        self._frames = 0
        self._over_s = self._quiet_since  # when the frame before was over, had this process had its turn at once
        self.greeted = False  # whether somebody listens: what is sent before is lost

    def hello(self) -> None:
        self.greeted = True
        self.print(encode_hello("stand-in", TICK_US))

    def frame(
        self, signed_us: Floats, impairment: Impairment | None = None, follows: bool = False, at_s: float = 0.0
    ) -> None:
        """Send a frame in its own time. Its last duration is the silence behind it; a handset keeps it before a frame
        that ``follows``, and the silence until ``at_s`` (monotonic) before another, however late this process gets
        its turn.
        """
        if follows:
            self._over_s += self._rest_us / 1e6 / self._speed
            self._tell_silence(most_us=self._rest_us)
        else:
            self._tell_silence(least_us=(at_s - self._over_s) * 1e6 * self._speed)
            self._over_s = max(at_s, self._over_s)
        seen = impair(signed_us, impairment or self._impairment, self._rng)
        body, rest = seen[:-1], -float(seen[-1])
        self._over_s += float(np.abs(body).sum()) / 1e6 / self._speed
        self._wait_us(float(np.abs(body).sum()))
        for start in range(0, body.size, LINE_DURATIONS):
            self._durations(body[start : start + LINE_DURATIONS])
        self._quiet_since, self._told_us, self._rest_us = time.monotonic(), 0.0, rest
        self._wait_us(min(rest, SILENCE_US))
        self._tell_silence(most_us=rest)
        self._wait_us(rest - SILENCE_US)

    def stray(self) -> None:
        """A lone pulse, as a lamp makes it."""
        length = float(self._rng.uniform(60, 400))
        self.frame(np.array([length, -SILENCE_US]), Impairment(0.0, 0.0, 1.0))

    def press(self, first: Floats, held: Floats, count: int, still_down: Callable[[], bool], at_s: float = 0.0) -> None:
        """A key pressed at ``at_s`` (monotonic; 0: now), and held for as long as ``still_down`` says."""
        for number in range(count):
            self.frame(first, follows=number > 0, at_s=at_s)
        while still_down():
            self.frame(held, follows=True)
        if self._told_us < SILENCE_US:  # frames that follow each other sooner end with a silence too
            self._wait_us(SILENCE_US - self._told_us)
            self._tell_silence()
        self._frames += 1
        if self._frames % STRAY_EVERY == 0:
            self._wait_us(60_000)
            self.stray()

    def _tell_silence(self, least_us: float = 0.0, most_us: float = math.inf) -> None:
        so_far = min(max((time.monotonic() - self._quiet_since) * 1e6 * self._speed, least_us), most_us)
        if so_far - self._told_us >= 1.0:
            self._durations(np.array([-(so_far - self._told_us)]))
            self._told_us = so_far

    def _durations(self, signed_us: Floats) -> None:
        self.print(encode_durations(signed_us, self._number))
        self._number += 1

    def print(self, text: str) -> None:
        """A line to whoever listens."""
        data = (text + "\n").encode("ascii")
        told = termios.tcgetattr(self._line)[5]
        if told != getattr(termios, f"B{self._baud}"):  # what another speed makes of the bits
            data = bytes((byte * 73 + 0x95) & 0xFF for byte in data[::3]) + b"\n"
        os.write(self._line, data)

    def _wait_us(self, us: float) -> None:
        if us > 0:
            time.sleep(us / 1e6 / self._speed)


class Order(Struct, frozen=True):
    """A key pressed: signed durations (µs, the silence behind each frame included) of its first frame, sent ``count``
    times, and of the frame that follows for as long as it is held. Nothing but ``up`` lets go of it. ``at_s``: when
    (monotonic).
    """

    first: tuple[float, ...] = ()
    held: tuple[float, ...] = ()
    count: int = 1
    up: bool = False
    stray: bool = False
    at_s: float = 0.0


class Manner(Struct, frozen=True):
    """``speed``: how many times faster than life; ``baud``: speed of the serial line."""

    speed: float = 1.0
    seed: int | None = None
    baud: int = 115_200


def serve(connection: Connection) -> None:
    """The stand-in's process: it is told its manner, says the name of its serial line, then obeys orders."""
    manner: Manner = connection.recv()
    line, other = pty.openpty()
    tty.setraw(other)
    connection.send(os.ttyname(other))
    device = StandIn(line, manner.speed, np.random.default_rng(manner.seed), Impairment(), manner.baud)
    queue: deque[Order] = deque()
    down = False
    splitter = LineSplitter()
    halted = False

    def stopped() -> bool:
        """Whether somebody says stop while something is being sent."""
        nonlocal halted
        while not halted and select.select([line], [], [], 0)[0]:
            halted = b"stop" in os.read(line, 4096)
        return halted

    orders = Orders(device.print, device.frame, stopped)

    def listen(timeout: float | None) -> None:
        """Take orders in, and answer whoever asks on the line."""
        nonlocal down, halted
        ready = select.select([connection.fileno(), line], [], [], timeout)[0]
        for text in splitter.feed(os.read(line, 4096)) if line in ready else []:
            if "?" in text:
                device.hello()
            elif text.strip():
                halted = False
                orders.take(text)
        while connection.poll():
            order: Order = connection.recv()
            if order.stray:
                device.stray()
            elif order.up:
                down = False
            else:
                queue.append(order)
                down = True

    def still_down() -> bool:
        listen(0)
        return down and not queue

    while True:
        listen(None)
        while queue and device.greeted:
            order = queue.popleft()
            device.press(np.array(order.first), np.array(order.held), order.count, still_down, order.at_s)
