"""Logs as hobbyists' sketches print them, by chance: a few presses, and whatever such programs write round them.

Written from what a print loop can do (a tag, a counter, a wrap after so many numbers, a gap in front, a unit behind)
without the code under test in mind.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

import numpy as np

from tests.handsets import Sent, random_press, record

PROTOCOLS = ("nec", "jvc", "sirc12", "rc5", "kaseikyo", "rca")
LEADERS = ("nec", "jvc", "kaseikyo")  # with spaces that others have between two frames
BOOTS = (
    "", "ets Jun  8 2016 00:22:57\nrst:0x1 (POWERON_RESET)\n", "MPY: soft reboot\n",
    "*** dump, v1.2 ***\nPin 14, low\n", "Serial started @ 115200\nwaiting...\n",
    "Python 3.11.2 (main)\n>>> capture()\n", "# by my sketch\n# board: pico\n",
)  # fmt: skip
BETWEEN = (
    "\n", "\n\n", "\n-----\n", "\n=== press {n} ===\n", "\nDecoded: 0x{h:08X}\n", "\nOK\n", "\ngap {g} ms\n",
    "\n# next\n", "\n[{g}] got one!\n", "\n.\n.\n",
)  # fmt: skip
BEFORE = (
    "", "", "RAW: ", "raw[{k}] = {{", "timings (us): ", "rx> ", "12:00:0{n}.123 -> ", "[INFO] ", "[ {g}.456789] ir: ",
    "uint16_t k{n}[] = {{", "Frame {n} ({k} edges): ", "Press {n}: ", "[", "len={k} data=", "({n}) ", "#{n} ",
    "key_{n}=",
)  # fmt: skip
CLOSING = {"{": "};", "[": "]", "(": ")"}
NUMBERS: tuple[Callable[[int, int], str], ...] = (
    lambda us, sign: f"{us}", lambda us, sign: f"{us}", lambda us, sign: f"{sign * us:+d}",
    lambda us, sign: f"{'sm'[sign > 0]}{us}", lambda us, sign: f"{us}us", lambda us, sign: f"{us:6d}",
    lambda us, sign: f"{us}.0",
)  # fmt: skip


def presses(rng: np.random.Generator, protocols: tuple[str, ...] = PROTOCOLS) -> tuple[list[list[int]], list[Sent]]:
    """The first frame of some presses: durations, a mark first and last, and what was sent."""
    protocol = str(rng.choice(protocols))
    frames, sent = [], []
    for _ in range(int(rng.integers(1, 4))):
        signed, said = random_press(rng, protocol, 0)
        heard = record(signed, rng, jitter_us=10, excess_us=float(rng.choice([0, 30, 60])))
        lengths = np.abs(heard[1:] if heard[0] < 0 else heard).astype(int)
        rests = np.flatnonzero(lengths > (10_500 if protocol in LEADERS else 7000))
        rests = rests[rests > 10]
        lengths = lengths[: rests[0]] if rests.size else lengths
        frames.append(lengths[: lengths.size - 1 + lengths.size % 2].tolist())
        sent.append(said)
    return frames, sent


def of_durations(rng: np.random.Generator, frames: list[list[int]]) -> str:
    def one_of(choices: Any) -> Any:
        return choices[int(rng.integers(len(choices)))]

    gap, between, before = one_of([" ", ",", ", ", "; ", "\t", " | ", "  "]), one_of(BETWEEN), one_of(BEFORE)
    behind = CLOSING.get(before[-1:], one_of(["", " us", "", " // key", " (end)"]))
    number, wrap = one_of(NUMBERS), one_of([0, 0, 0, 8, 10, 16])
    counted = wrap and rng.random() < 0.3
    first, last = one_of([None, None, 87_654, 0, 65_535]), one_of([None, None, 30_000])
    if number(1, 1).endswith("us") and behind == " us":
        behind = ""
    text = ""
    for at, frame in enumerate(frames, 1):
        words = [number(us, -1 if place % 2 else 1) for place, us in enumerate(frame)]
        words[:0] = [number(first, -1)] if first is not None else []
        words += [number(last, -1)] if last is not None else []
        begin = before.format(n=at, k=len(words), g=int(rng.integers(100, 900)))
        if wrap:
            rows = [gap.join(words[start : start + wrap]) for start in range(0, len(words), wrap)]
            rows = [f"{place * wrap:4d}: {row}" if counted else row for place, row in enumerate(rows)]
            end = gap.rstrip() if gap.strip() in (",", ";") else ""
            body = f"{begin}\n" * bool(begin) + f"{end}\n".join(rows)
        else:
            body = begin + gap.join(words)
        if at > 1:
            text += between.format(n=at, h=int(rng.integers(1 << 32)), g=int(rng.integers(100, 9000)))
        text += body + behind
    return text


LEVELS = (("0", "1"), ("L", "H"), ("low", "high"), ("falling", "rising"), ("down", "up"), ("False", "True"))
UNITS: dict[str, Callable[[int], str]] = {
    "us": str, "ms": lambda t: f"{t / 1000:.3f}", "s": lambda t: f"{t / 1e6:.6f}", "ns": lambda t: f"{t}000",
}  # fmt: skip


def of_edges(rng: np.random.Generator, frames: list[list[int]]) -> str:
    def one_of(choices: Any) -> Any:
        return choices[int(rng.integers(len(choices)))]

    rest, now = one_of([80_000, 300_000, 1_200_000]), one_of([1_234_567, 71_204_312, 5_000])
    edges = []
    for frame in frames:
        for place, us in enumerate(frame):
            edges.append((now, place % 2 == 0))
            now += us
        edges.append((now, False))
        now += rest
    turned = bool(rng.random() < 0.6)
    unit, words, sep = one_of(list(UNITS)), one_of(LEVELS), one_of([" ", "\t", ",", ", ", ";"])
    kind = one_of(["time level", "level time", "named", "at", "json", "counted", "since", "brackets", "arrow"])
    lines, before = [], edges[0][0]
    for at, (time, mark) in enumerate(edges):
        t, level, since = UNITS[unit](time), words[mark != turned], time - before
        before = time
        lines.append(
            {
                "time level": f"{t}{sep}{level}", "level time": f"{level}{sep}{t}", "named": f"t={t} v={level}",
                "at": f"edge {at}: {level} at {t}", "json": json.dumps({"t": float(t), "level": level}),
                "counted": f"{at}{sep}{t}{sep}{level}", "since": f"{t}{sep}{since}{sep}{level}",
                "brackets": f"[{t}] GPIO 4 {level}", "arrow": f"{t} -> {level}",
            }[kind]
        )  # fmt: skip
    head = {"since": f"time_{unit}{sep}delta_us{sep}level\n", "counted": f"n{sep}{unit}{sep}level\n"}.get(kind, "")
    return head + (f"# times in {unit}\n" if unit != "us" and not head else "") + "\n".join(lines)


def of_polls(rng: np.random.Generator, frames: list[list[int]]) -> str:
    def one_of(choices: Any) -> Any:
        return choices[int(rng.integers(len(choices)))]

    us = one_of([20, 25, 50, 100])
    lengths = [3000, *[length for frame in frames for length in (*frame, 90_000)]]
    marks = np.array([0, *[place % 2 == 0 for frame in frames for place in range(len(frame) + 1)]], bool)
    ends = np.cumsum(lengths)
    levels = marks[np.searchsorted(ends, np.arange(0, ends[-1], us), side="right")] != (rng.random() < 0.6)
    row = "".join(map(str, levels.astype(int)))
    head = one_of([f"# sampled every {us} us\n", f"poll interval: {us} us\n", f"rate={1_000_000 // us}\n"])
    pieces = [row[start : start + 64] for start in range(0, len(row), 64)]
    counted = "n,level\n" + "\n".join(f"{at},{level}" for at, level in enumerate(row))
    return str(head + one_of(["\n".join(row), row, "\n".join(pieces), counted]))


def of_falling_edges(rng: np.random.Generator, frames: list[list[int]]) -> str:
    times, now = [], 4_000_000
    for frame in frames:
        times += (now + np.concatenate(([0], np.cumsum(frame)))[0:-1:2]).tolist()
        now += sum(frame) + int(rng.integers(60_000, 900_000))
    return "falling edges only (us)\n" + "\n".join(map(str, times))


def a_log(rng: np.random.Generator) -> tuple[str, list[Sent]]:
    """A log's text, and what was sent."""
    if rng.random() < 0.1:
        frames, sent = presses(rng, ("nec", "jvc", "kaseikyo", "rca"))  # whose spaces tell the bits
        return of_falling_edges(rng, frames), sent
    frames, sent = presses(rng)
    kind = rng.random()
    text = of_polls(rng, frames) if kind < 0.15 else (of_edges if kind < 0.45 else of_durations)(rng, frames)
    if kind >= 0.15:
        text = str(rng.choice(BOOTS)) + text + str(rng.choice(["", "\n", "\n>>> \n", "\ndone.\n"]))
    return text, sent
