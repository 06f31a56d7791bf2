"""Logs as other people's sketches and programs print them: whatever stands round the numbers, the same two presses."""

from __future__ import annotations

import json
from collections.abc import Callable
from itertools import groupby
from pathlib import Path

import numpy as np
import pytest

from eager_tern.errors import InputError
from eager_tern.formats.registry import read_captures
from eager_tern.formats.timing_text import parse_noted
from eager_tern.intake.files import read_file
from eager_tern.protocol.loading import library
from tests.handsets import Sent, nec, record
from tests.logs import a_log

Press = list[int]  # durations, a mark first and last
BOOT = "ets Jun  8 2016 00:22:57\nrst:0x1 (POWERON_RESET),boot:0x13\nload:0x3fff0030,len:1344\nready on pin 14\n"
POLL_US = 50


def pairs(press: Press) -> list[tuple[int, int | None]]:
    return list(zip(press[0::2], [*press[1::2], None], strict=True))


def rows(presses: list[Press], row: Callable[[int, int, int | None], str], between: str = "\n") -> str:
    """A line for each mark and space: their number in the press, and both."""
    return between.join("".join(row(n, *pair) + "\n" for n, pair in enumerate(pairs(press))) for press in presses)


def each(presses: list[Press], piece: Callable[[int, int], str], glue: str = "\n", between: str = "\n\n") -> str:
    """A piece for each duration, of its number in the press and itself."""
    return between.join(glue.join(piece(n, us) for n, us in enumerate(press)) for press in presses)


def edges(presses: list[Press]) -> list[tuple[int, int]]:
    """Times (µs) and the level behind each edge, of a receiver that rests high and gives a mark low."""
    now, out = 71_204_312, []
    for press in presses:
        for at, us in enumerate(press):
            out.append((now, at % 2))
            now += us
        out.append((now, 1))
        now += 47_000  # a counter of 16 bits can tell
    return out


def of_edges(presses: list[Press], line: Callable[[int, int], str]) -> str:
    return "\n".join(line(time, level) for time, level in edges(presses))


def of_levels(presses: list[Press], line: Callable[[int, int, int | None], str]) -> str:
    """A line an edge, with the level behind it and how long it lasts."""
    log = edges(presses)
    ends = [time for time, _ in log[1:]]
    lines = [line(time, level, end - time) for (time, level), end in zip(log, ends, strict=False)]
    return "\n".join([*lines, line(*log[-1], None)])


def of_pulses(presses: list[Press], line: Callable[[int, int], str]) -> str:
    times = [time for time, _ in edges(presses)]
    return "\n".join(map(line, times[0::2], times[1::2]))


def polls(presses: list[Press]) -> list[int]:
    times, levels = zip(*edges(presses), strict=True)
    at = np.arange(times[0] - 3000, times[-1] + 200_000, POLL_US)
    return [1 if i < 0 else levels[i] for i in (np.searchsorted(times, at, side="right") - 1).tolist()]


def joined(presses: list[Press], glue: str = " ", line: str = "{}") -> str:
    return "\n".join(line.format(glue.join(map(str, press))) for press in presses)


def wrapped(presses: list[Press], line: Callable[[int, int, str], str], between: str = "\n") -> str:
    """Eleven durations a line, each with its number and that of its press; one is left for the last."""
    return between.join(
        "\n".join(line(n, at // 11, ", ".join(map(str, press[at : at + 11]))) for at in range(0, len(press), 11))
        for n, press in enumerate(presses)
    )


def signed(press: Press) -> str:
    return " ".join(f"{us if at % 2 == 0 else -us:+d}" for at, us in enumerate(press))


HL, MS = ("high", "low"), ("mark", "space")
STYLES: dict[str, Callable[[list[Press]], str | bytes]] = {
    "a line a press": joined,
    "behind words": lambda p: joined(p, line="Raw data (67): {}"),
    "tuples": lambda p: joined(p, ", ", "press: ({})"),
    "arrays of a shell": lambda p: joined(p, ", ", ">>> array([{}])"),
    "a prompt": lambda p: "pi@hut:~ $ cat lamp.log\n" + joined(p) + "\npi@hut:~ $ ",
    "a fence in prose": lambda p: "here is what I get:\n```\n" + joined(p) + "\n```\nany idea?",
    "semicolons behind a name": lambda p: joined(p, ";", "power;{}"),
    "a table, a row a press": lambda p: "key,d0,d1\n" + joined(p, ",", "K,{}"),
    "hexadecimal": lambda p: each(p, lambda _, us: f"0x{us:04X}", " ", "\n"),
    "thousands": lambda p: each(p, lambda _, us: f"{us:,}", " ", "\n"),
    "milliseconds": lambda p: each(p, lambda _, us: f"{us / 1000:.3f}ms", ", ", "\n"),
    "fractions of a second": lambda p: each(p, lambda _, us: f"{us / 1e6:.6f}", " ", "\n"),
    "ticks": lambda p: "# 1 tick = 10 us\n" + each(p, lambda _, us: str(round(us / 10)), " ", "\n"),
    "letters": lambda p: each(p, lambda n, us: f"{'MS'[n % 2]}{us}", " ", "\n"),
    "spaced letters": lambda p: each(p, lambda n, us: f"{'HL'[n % 2]} {us}", " ", "\n"),
    "levels in numbers": lambda p: each(p, lambda n, us: f"{1 - n % 2}:{us}", " ", "\n"),
    "words behind": lambda p: each(p, lambda n, us: f"{us} us {HL[n % 2]}", ", ", "\n"),
    "words at both ends": lambda p: each(p, lambda n, us: f"{us} us {('on', 'off')[n % 2]} ", "", "\n").replace(
        "\n", "\npulse "
    ),
    "indices in a row": lambda p: each(p, lambda n, us: f"d[{n}]={us}", " ", "\n"),
    "slashes": lambda p: "\n".join(" ".join(f"{a}/{b}" if b else f"{a}" for a, b in pairs(q)) for q in p),
    "brackets": lambda p: "\n".join(" ".join(f"({a},{b or 0})" for a, b in pairs(q)) for q in p),
    "structs": lambda p: "\n".join("{ " + each([q], lambda n, us: f"{{{us}, {1 - n % 2}}}", ", ") + " };" for q in p),
    "level and length": lambda p: each(p, lambda n, us: f"{HL[n % 2]}: {us}us"),
    "a driver's log": lambda p: each(p, lambda n, us: f"I (3{n:03d}) rmt: {n}: level {1 - n % 2} duration {us}"),
    "numbered pulses": lambda p: each(p, lambda n, us: f"Pulse #{n}: {us} us {HL[n % 2].upper()}"),
    "a list in its own language": lambda p: each(p, lambda _, us: f"  - {us}", between="\npress:\n"),
    "a coarse clock beside": lambda p: BOOT + each(p, lambda n, us: f"{5000 + n // 2}: {MS[n % 2]} {us}"),
    "levels and lengths in columns": lambda p: "level,duration_us\n"
    + each(p, lambda n, us: f"{1 - n % 2},{us}", between="\n0,120000\n"),
    "mark and space": lambda p: rows(p, lambda _, a, b: f"mark={a}us space={b}us" if b else f"mark={a}us"),
    "with a slash": lambda p: rows(p, lambda _, a, b: f"mark {a} / space {b}" if b else f"mark {a}"),
    "marks, then spaces": lambda p: "\n\n".join(
        f"marks:  {joined([q[0::2]], ', ')}\nspaces: {joined([q[1::2]], ', ')}" for q in p
    ),
    "marks and spaces of a dictionary": lambda p: "\n".join(json.dumps({"on": q[0::2], "off": q[1::2]}) for q in p),
    "bars between pairs": lambda p: "\n".join("|".join(f"{a},{b or 100_000}" for a, b in pairs(q)) for q in p),
    "entries of a mapping": lambda p: "\n".join(
        "press:\n" + rows([q], lambda _, a, b: f"  - mark: {a}\n    space: {b or 100_000}") for q in p
    ),
    "typed numbers": lambda p: "\n".join(f"const K: [u16; 67] = [{', '.join(f'{us}u16' for us in q)}];" for q in p),
    "thousands as in programs": lambda p: "\n".join(f"let k = vec![{', '.join(f'{us:_}' for us in q)}];" for q in p),
    "hexadecimal with an h": lambda p: "\n".join(f"key: dw {', '.join(f'0{us:04X}h' for us in q)}" for q in p),
    "decimal commas before a unit": lambda p: each(
        p, lambda _, us: f"{us / 1000:.3f} ms".replace(".", ","), "; ", "\n"
    ),
    "a time of day in brackets": lambda p: of_edges(p, lambda t, v: f"[2026-11-30 12:01:{t / 1e6 - 60:09.6f}] pin={v}"),
    "rows counted in hexadecimal": lambda p: "\n\n".join(
        "\n".join(f"{at:04x}: {joined([q[at : at + 8]])}" for at in range(0, len(q), 8)) for q in p
    ),
    "multiples of a letter": lambda p: "T = 560 us: " + each(p, lambda _, us: f"{round(us / 560)}T", " ", "\n"),
    "counts of a timer": lambda p: "timer 2 us per count\n" + each(p, lambda _, us: str(round(us / 2)), ", ", "\n"),
    "runs of polls": lambda p: f"sampled every {POLL_US} us\n"
    + "\n".join(f"{level} x{len(list(alike))}" for level, alike in groupby(polls(p))),
    "how many before each": lambda p: "\n".join(f"{len(q)}\n{joined([q])}" for q in p),
    "how many, in one column": lambda p: "\n".join(f"{len(q)}\n{joined([q], chr(10))}" for q in p),
    "exponents": lambda p: each(p, lambda _, us: f"{us:.3e}", ", ", "\n"),
    "ticks of a document": lambda p: json.dumps({"tick_us": 8, "frames": [[round(us / 8) for us in q] for q in p]}),
    "hexadecimal ticks": lambda p: "ticks of 10 us, hex: " + each(p, lambda _, us: f"{round(us / 10):03x}", " ", "\n"),
    "truths": lambda p: "\n".join(str([(n % 2 == 0, us) for n, us in enumerate(q)]) for q in p),
    "records of a document": lambda p: json.dumps(
        [{"type": MS[n % 2], "len": us} for q in p for n, us in enumerate([*q, 150_000])][:-1]
    ),
    "letters and milliseconds": lambda p: each(p, lambda n, us: f"{'HL'[n % 2]} {us / 1000:.3f}"),
    "samples that could be polls": lambda p: "# adc, 20 kHz\n" + "\n".join(("12", "1010")[v] for v in polls(p)),
    "hexadecimal times with a prefix": lambda p: of_edges(p, lambda t, level: f"0x{t:08x} {level}"),
    "times of edges alone": lambda p: "edges, us\n" + of_edges(p, lambda t, _: str(t)),
    "times of edges in a document": lambda p: json.dumps({"edges_us": [t for t, _ in edges(p)]}),
    "milliseconds of edges alone": lambda p: "edges, ms\n" + of_edges(p, lambda t, _: f"{t / 1000:.3f}"),
    "times and levels in one list": lambda p: f">>> log\n{[n for edge in edges(p) for n in edge]}\n>>> ",
    "begins and ends": lambda p: "fall_us,rise_us\n" + of_pulses(p, lambda begin, end: f"{begin},{end}"),
    "begins and lengths": lambda p: "start_us,width_us\n" + of_pulses(p, lambda begin, end: f"{begin},{end - begin}"),
    "pulses in words": lambda p: of_pulses(p, lambda begin, end: f"pulse at {begin} us, {end - begin} us long"),
    "first letters of rise and fall": lambda p: of_edges(p, lambda t, level: f"{'FR'[level]} {t}"),
    "the same on one line": lambda p: of_edges(p, lambda t, level: f"{'FR'[level]}{t}").replace("\n", " "),
    "nanoseconds without a word": lambda p: of_edges(p, lambda t, level: f"{t * 1000}\t{level}"),
    "times with commas": lambda p: of_edges(p, lambda t, level: f"{t:,} us  {level}"),
    "polled truths": lambda p: "20 kHz\n" + "\n".join(str(bool(level)) for level in polls(p)),
    "times, states and lengths": lambda p: "time_us,state,duration_us\n" + of_levels(
        p, lambda t, level, us: f"{t},{HL[1 - level]},{us or ''}"
    ),
    "times and volts": lambda p: of_edges(p, lambda t, level: f"{t / 1e6:.6f} {(0.02, 0.98)[level]:.2f}"),
    "numbers in quotes": lambda p: "\n".join(json.dumps([str(us) for us in q]) for q in p),
    "a table of a page": lambda p: "\n".join(
        f"<table>{''.join(f'<tr><td>{a}</td><td>{b or str()}</td></tr>' for a, b in pairs(q))}</table>" for q in p
    ),
    "stamps of whole seconds": lambda p: "\n".join(
        f"2026-11-30 12:00:0{n},123 DEBUG ir.rx: {MS[at % 2]} {us}" for n, q in enumerate(p) for at, us in enumerate(q)
    ),
    "fields with numbers": lambda p: rows(p, lambda _, a, b: f"d0={a} l0=1 d1={b or 0} l1=0"),
    "fields in braces": lambda p: "\n".join(
        "{" + ", ".join(f"{{.us0={a}, .level0=1, .us1={b or 0}, .level1=0}}" for a, b in pairs(q)) + "}" for q in p
    ),
    "cycles of a carrier": lambda p: "cycles of 38 kHz\n" + each(p, lambda _, us: str(round(us * 0.038)), " ", "\n"),
    "hexadecimal times": lambda p: of_edges(p, lambda t, level: f"{t:08x} {level}"),
    "columns with a head": lambda p: "index,mark_us,space_us\n"
    + rows(p, lambda n, a, b: f"{n},{a},{b or 120_000}", between=""),
    "decimal commas": lambda p: "mark;space\n" + rows(p, lambda _, a, b: f"{a},0;{b or 120_000},0", between=""),
    "set by hand": lambda p: rows(p, lambda n, a, b: f"{n + 1:5d} {a:7d} {b or 0:7d}"),
    "a page's table": lambda p: "| n | mark | space |\n|---|---|---|\n"
    + rows(p, lambda n, a, b: f"| {n} | {a} | {b or ''} |"),
    "objects": lambda p: json.dumps({"p": [[{"mark": a, "space": b or 0} for a, b in pairs(q)] for q in p]}),
    "levels as objects": lambda p: json.dumps([[{"level": n % 2, "us": us} for n, us in enumerate(q)] for q in p]),
    "times": lambda p: of_edges(p, lambda t, v: f"[{t}] {v}"),
    "level, then time": lambda p: "level,micros\n" + of_edges(p, lambda t, v: f"{v},{t}"),
    "words and times": lambda p: of_edges(p, lambda t, v: f"GPIO4 -> {v} @ {t}"),
    "counted times": lambda p: "n\tus\tpin\n"
    + "\n".join(f"{n}\t{t}\t{v}" for n, (t, v) in enumerate(edges(p))),
    "seconds": lambda p: of_edges(p, lambda t, v: f"T+{t / 1e6:.6f} {('LOW', 'HIGH')[v]}"),
    "a clock on the wall": lambda p: of_edges(p, lambda t, v: f"2026-05-01T12:01:{t / 1e6 - 60:09.6f} {v}"),
    "nanoseconds": lambda p: "ns;state\n" + of_edges(p, lambda t, v: f"{1000 * t};{v}"),
    "a line an object": lambda p: of_edges(p, lambda t, v: json.dumps({"t": t, "v": v})),
    "time, level and how long": lambda p: BOOT
    + "\n".join(
        f"ISR {t} -> {v} (dt {t - s})" for (s, _), (t, v) in zip(edges(p)[:1] + edges(p), edges(p), strict=False)
    ),
    "16 bits": lambda p: "us level\n" + of_edges(p, lambda t, v: f"{t % 65_536} {v}"),
    "falling edges": lambda p: "\n".join(f"FALL {t}" for t, v in edges(p) if not v),
    "levels in one row": lambda p: "# sample rate 20 kHz\n" + ",".join(map(str, polls(p))),
    "levels in a document": lambda p: json.dumps({"rate_hz": 20_000, "pin": 4, "samples": polls(p)}),
    "levels in a document, each so long": lambda p: json.dumps({"interval_us": POLL_US, "levels": polls(p)}),
    "levels in an array": lambda p: f"int s[] = {{{','.join(map(str, polls(p)))}}}; // {POLL_US} us each",
    "levels as letters": lambda p: "# 20 kHz\n" + "".join("LH"[v] for v in polls(p)),
    "levels behind a count": lambda p: "# sampled every 50 us\n"
    + "\n".join(f"{i:05d}: " + " ".join(map(str, polls(p)[i : i + 32])) for i in range(0, len(polls(p)), 32)),
    "counted levels": lambda p: "# sample rate: 20 kHz\nsample,ch0\n"
    + "\n".join(f"{n},{v}" for n, v in enumerate(polls(p))),
    "milliseconds with commas": lambda p: "Zeit (ms)\tKanal\n"
    + of_edges(p, lambda t, v: f"{t / 1000:.3f}\t{v}".replace(".", ",")),
    "what another shell writes": lambda p: "\n".join(map(signed, p)).encode("utf-16"),
    "a word processor's": lambda p: "\n\n".join(map(signed, p)).replace("-", "\u2212").replace(" ", "\u00a0"),
    "quoted in a mail": lambda p: "\n>\n".join(
        "\n".join("> " + " ".join(signed(q).split()[i : i + 12]) for i in range(0, len(q), 12)) for q in p
    ),
    "letters and colons": lambda p: each(p, lambda n, us: f"{'MS'[n % 2]}:{us}", " ", "\n"),
    "between bars": lambda p: joined(p, "|"),
    "between slashes": lambda p: joined(p, " / "),
    "eight a line, counted": lambda p: "\n\n".join(
        "\n".join(f"{at:04d}: " + " ".join(f"{us:6d}" for us in press[at : at + 8]) for at in range(0, len(press), 8))
        for press in p
    ),
    "a column of presses": lambda p: "frame,n,mark,space\n" + "".join(
        f"{k},{n},{us},{press[2 * n + 1] if n < len(press) // 2 else 700_000}\n"
        for k, press in enumerate(p)
        for n, us in enumerate(press[0::2])
    ),
    "milliseconds by their header": lambda p: "mark_ms,space_ms\n" + rows(
        p, lambda _, mark, space: f"{mark / 1e3},{space / 1e3 if space else ''}"
    ),
    "decimal commas without a unit": lambda p: "zeit;pegel\n" + of_edges(
        p, lambda us, level: f"{us / 1e3:.4f};{level}".replace(".", ",")
    ),
    "a monitor's time before each": lambda p: "\n".join(
        f"12:00:{10 + k:02d}.{n:03d} -> {us}" for k, press in enumerate(p) for n, us in enumerate(press)
    ),
    "periods in a row": lambda p: "periods between falling edges, us: \n" + " ".join(
        map(str, np.diff([t for t, v in edges(p) if not v]).tolist())
    ),
    "ticks of a timer": lambda p: "# timer runs at 16 MHz\n" + of_edges(p, lambda t, v: f"{t * 16} {v}"),
    "units behind both": lambda p: rows(p, lambda _, a, b: f"{a} us mark, {b} us space" if b else f"{a} us mark"),
    "a leader on a line of its own": lambda p: "\n\n".join(f"Leader: {q[0]} {q[1]}\nData: {signed(q[2:])}" for q in p),
    "a leader in two lines": lambda p: "\n\n".join(
        f"Header mark: {q[0]}\nHeader space: {q[1]}\nBits: " + ", ".join(map(str, q[2:])) for q in p
    ),
    "a leader before the rest": lambda p: "\n".join(
        f"hdr {q[0]}/{q[1]} data " + " ".join(map(str, q[2:])) for q in p
    ),
    "thousands between semicolons": lambda p: each(p, lambda _, us: f"{us:,}", "; ", "\n"),
    "ticks of half": lambda p: "// 0.5us ticks\n" + each(p, lambda _, us: str(2 * us), " ", "\n"),
    "units of two": lambda p: "durations in units of 2 us\n" + each(p, lambda _, us: str(us // 2), " ", "\n"),
    "arrows": lambda p: each(p, lambda n, us: f"{'^v'[n % 2]} {us}"),
    "arrows of another kind": lambda p: each(p, lambda n, us: f"{us}us {'↑↓'[n % 2]}"),
    "lists as texts": lambda p: json.dumps([{"key": f"k{n}", "data": ",".join(map(str, q))} for n, q in enumerate(p)]),
    "tags": lambda p: "\n".join(
        "<press>" + "".join(f"<{MS[n % 2]}>{us}</{MS[n % 2]}>" for n, us in enumerate(q)) + "</press>" for q in p
    ),
    "hyphens": lambda p: joined(p, "-"),
    "levels in a table": lambda p: "| # | level | us |\n|---|---|---|\n"
    + each(p, lambda n, us: f"| {n} | {('hi', 'lo')[n % 2]} | {us} |", between="\n\n"),
    "level and length in a row": lambda p: each(p, lambda n, us: f"{1 - n % 2},{us}", ";", "\n"),
    "their count first": lambda p: "\n".join(f"{len(q)} " + " ".join(map(str, q)) for q in p),
    "a nought behind": lambda p: joined(p, line="{} 0"),
    "a full counter behind": lambda p: joined(p, line="{} 4294967295"),
    "marks below nought": lambda p: "\n".join(" ".join(str(us if n % 2 else -us) for n, us in enumerate(q)) for q in p),
    "a press a column": lambda p: "up,down\n" + "\n".join(f"{a},{b}" for a, b in zip(*p, strict=True)),
    "ticks in a name": lambda p: "tick_us=4\n" + each(p, lambda _, us: str(round(us / 4)), " ", "\n"),
    "a unit": lambda p: "unit: 10us\n" + each(p, lambda _, us: str(round(us / 10)), ",", "\n"),
    "words before each line": lambda p: wrapped(p, lambda n, k, us: f"    .word {us}", "\nkey:\n"),
    "a language of numbered lines": lambda p: wrapped(p, lambda n, k, us: f"{100 + 100 * n + 10 * k} DATA {us}"),
    "a chat": lambda p: wrapped(p, lambda n, k, us: f"[12:0{n}] nest: {us}"),
    "a listing of changes": lambda p: wrapped(p, lambda n, k, us: f"+    {us},", "\n@@ -9,0 +9,7 @@\n"),
    "lines counted before a bar": lambda p: wrapped(p, lambda n, k, us: f"{k + 1:3d}| {us}", "\n\n"),
    "apostrophes": lambda p: each(p, lambda _, us: f"{us:,}".replace(",", "'"), " ", "\n"),
    "thousands apart": lambda p: each(p, lambda _, us: f"{us:,}".replace(",", " "), "; ", "\n"),
    "just before each edge, too": lambda p: of_edges(p, lambda us, level: f"{us - 1},{1 - level}\n{us},{level}"),
    "pairs in braces": lambda p: "\n".join(
        "{" + ",".join(f"{{{a},{b or 0}}}" for a, b in pairs(q)) + "}" for q in p
    ),
}  # fmt: skip


@pytest.fixture
def presses(rng: np.random.Generator) -> list[Press]:
    frames = (nec(0, 0x45)[:-1], nec(0, 0x12)[:-1])
    return [[abs(round(us)) for us in record(frame, rng, jitter_us=15, excess_us=40)] for frame in frames]


@pytest.mark.parametrize("style", STYLES)
def test_both_presses_are_read(tmp_path: Path, presses: list[Press], style: str) -> None:
    content = STYLES[style](presses)
    (tmp_path / "log.txt").write_bytes(content if isinstance(content, bytes) else content.encode())
    found = [press.lead.reading for take in read_file(tmp_path / "log.txt", library()) for press in take.take.presses]
    assert [reading.fields["command"] for reading in found] == [0x45, 0x12]
    assert {reading.protocol for reading in found} == {"nec"}


@pytest.mark.parametrize("style", sorted(STYLES.keys() - {"falling edges", "periods in a row", "marks below nought"}))
def test_presses_without_a_leader_are_read(tmp_path: Path, rng: np.random.Generator, style: str) -> None:
    """A socket's begin with a short mark or a long one, and no pulse lasts a millisecond. (Three styles say too little:
    only a leader shows that marks are below nought, and only pulse distance is read from edges of one kind.)
    """
    sent = [[0, *rng.integers(0, 2, 22).tolist(), bit] for bit in (0, 1)]
    sent[1][0] = 1
    frames = [[us for bit in bits for us in ((900, 300) if bit else (300, 900))] + [300] for bits in sent]
    content = STYLES[style]([(np.array(frame) + rng.integers(-12, 13, 49)).tolist() for frame in frames])
    (tmp_path / "log.txt").write_bytes(content if isinstance(content, bytes) else content.encode())
    found = [press.lead.reading for take in read_file(tmp_path / "log.txt", library()) for press in take.take.presses]
    assert [reading.bits.tolist() for reading in found] == sent


@pytest.mark.parametrize(
    ("before", "named"),
    [
        (("power: ", "vol+: "), ["power", "vol+"]), (("# power\n", "# volume up\n"), ["power", "volume up"]),
        (("Power:\n", "\nMute key:\n"), ["Power", "Mute key"]),
        (("raw up[67] = ", "raw down[67] = "), ["raw up", "raw down"]),
        (("temp 20: ", "temp 21: "), ["temp 20", "temp 21"]), (("len=67 data=", "len=69 data="), []),
        (("Press 1: ", "Press 2: "), []), (("[INFO] ", "[INFO] "), []),
        (("Decoded: 0xA0BC73FE\n", "Decoded: 0x1FD08295\n"), []),
        (("here is what I get when I press power on my old handset: ", "and this is mute: "), []),
    ],
)  # fmt: skip
def test_what_stands_before_a_list_is_its_name_where_it_tells_them_apart(
    presses: list[Press], before: tuple[str, str], named: list[str]
) -> None:
    text = "\n".join(begin + ", ".join(map(str, press)) for begin, press in zip(before, presses, strict=True))
    pulses, notes, _ = parse_noted(text, "log.txt")
    assert [note.text for note in notes] == named
    assert sum(pulses.durations_us > 100_000) == 1


def test_keys_called_on_and_off_are_frames_of_their_own(presses: list[Press]) -> None:
    text = "\n".join(
        f"{name}: " + ", ".join(map(str, press)) for name, press in zip(("on", "off"), presses, strict=True)
    )
    pulses, notes, _ = parse_noted(text, "log.txt")
    assert [note.text for note in notes] == ["on", "off"]
    assert pulses.durations_us.size == 2 * 67 + 1


def test_a_log_of_when_a_line_rested_begins_and_ends_within_a_press(tmp_path: Path, presses: list[Press]) -> None:
    times = [time for time, _ in edges([presses[0], *presses, presses[0]])]
    log = "rise_us,fall_us\n" + "\n".join(f"{a},{b}" for a, b in zip(times[1::2], times[2::2], strict=False))
    (tmp_path / "log.txt").write_text(log)
    (take,) = read_file(tmp_path / "log.txt", library())
    leads = [press.lead.reading for press in take.take.presses if press.lead.readings]
    assert [lead.fields["command"] for lead in leads if lead.protocol == "nec"] == [0x45, 0x12]


@pytest.mark.parametrize(
    "text",
    [
        lambda press: ",".join(map(str, press)),
        lambda press: rows([press], lambda n, a, b: f"{n},{a},{b or 0}"),
        lambda press: " ".join(f"{a},{b}" if b else f"{a}" for a, b in pairs(press)),
    ],
    ids=["a list", "counted rows", "pairs"],
)
def test_commas_between_numbers_below_a_thousand_part_no_thousands(
    rng: np.random.Generator, text: Callable[[Press], str]
) -> None:
    """As many a socket's are, of 300 and 900 µs."""
    press = (rng.choice([300, 900], 49) + rng.integers(-15, 16, 49)).tolist()
    pulses, _, _ = parse_noted("\n\n".join([text(press)] * 2), "log.txt")
    assert pulses.durations_us[[*range(49), *range(50, 99)]].tolist() == press * 2


def test_lengths_that_begin_with_noughts_and_ones_alone_are_no_levels(presses: list[Press], tmp_path: Path) -> None:
    """As in "0,885 ms; 1,763 ms"."""
    (tmp_path / "log.txt").write_text("; ".join(f"{us / 1000:.3f} ms".replace(".", ",") for us in presses[0][2:]))
    (capture,) = read_captures(tmp_path / "log.txt")
    assert capture.marks()[0].durations_us.tolist() == presses[0][2:]


def test_polls_within_a_list_are_no_durations(presses: list[Press]) -> None:
    with pytest.raises(InputError, match="line 1: holds levels"):
        parse_noted(f"int levels[] = {{{joined([polls(presses)], ',')}}};", "log.txt")


def test_a_unit_that_is_a_protocols_scales_nothing(presses: list[Press]) -> None:
    """Nor does the grid of a clock whose times are in microseconds."""
    for words, row in (("# unit: 562us", presses[0]), ("# steps of 4 us", [us // 4 * 4 for us in presses[0]])):
        pulses, _, _ = parse_noted(f"{words}\n" + " ".join(map(str, row)), "log.txt")
        assert pulses.durations_us.tolist() == row


def test_leaders_that_happen_to_rise_by_one_are_no_counters(presses: list[Press]) -> None:
    rows = [[8999 + at, *(presses * 2)[at][1:]] for at in range(3)]
    pulses, _, _ = parse_noted("\n".join("key " + " ".join(map(str, row)) for row in rows), "log.txt")
    assert pulses.durations_us[[0, 68, 136]].tolist() == [8999, 9000, 9001]


def test_numbers_too_small_for_microseconds_are_said(tmp_path: Path, presses: list[Press]) -> None:
    (tmp_path / "log.txt").write_text(each(presses, lambda _, us: str(round(us / 50)), " "))
    (take,) = read_file(tmp_path / "log.txt", library())
    assert any('"# tick = 50 us"' in words for words in take.capture.warnings)


def test_a_clock_too_coarse_is_all_that_is_said(tmp_path: Path, presses: list[Press]) -> None:
    (tmp_path / "log.txt").write_text("ms level\n" + of_edges(presses, lambda t, v: f"{t // 1000} {v}"))
    (take,) = read_file(tmp_path / "log.txt", library())
    assert take.capture.resolution_us == 1000
    assert take.advice(0) == ()


def test_a_level_table_in_another_encoding(tmp_path: Path, presses: list[Press]) -> None:
    table = "time_us,level\n" + of_edges(presses, lambda t, v: f"{t}.5,{v}")
    (tmp_path / "table.csv").write_bytes(table.encode("utf-16"))
    (take,) = read_file(tmp_path / "table.csv", library())
    assert take.capture.format == "level-csv"
    assert [press.lead.reading.fields["command"] for press in take.take.presses] == [0x45, 0x12]


def read_right(path: Path, text: str, sent: list[Sent]) -> bool:
    """Whether a log is read as what was sent."""
    path.write_text(text)
    found = [press.lead.best for take in read_file(path, library()) for press in take.take.presses]
    said = [(best.protocol, {**best.fields}) for best in found if best is not None]
    return said == [(one.protocol, {**one.fields}) for one in sent]


@pytest.mark.parametrize("seed", range(60))
def test_logs_made_by_chance(tmp_path: Path, seed: int) -> None:
    text, sent = a_log(np.random.default_rng(seed))
    assert read_right(tmp_path / "log.txt", text, sent), text[:600]
