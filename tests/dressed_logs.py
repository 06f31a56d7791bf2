"""Logs in any dress: how numbers are spelled, parted and wrapped, what stands before a row and between two presses are
drawn one by one, whether anybody would put them together or not.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from tests.handsets import Sent
from tests.logs import presses

INTROS = (
    "", "receiver on GPIO 14, timeout 15 ms, ready.\n", "# taken on 2026-11-30 at the nest cam\n",
    "rst:0x1 (POWERON_RESET),boot:0x13\nload:0x3fff0018,len:4\n", "Depth: 12000\nTrigger: falling, 1.65 V\n\n",
    "On Mon, 30 Nov 2026 at 18:22, warden wrote:\n", "wifi: connected to roof [192.168.4.17]\nntp ok 12:00:03\n",
)  # fmt: skip
HEADS = (
    "", "signal {i}:", "[{i}] received {n} values", "buffer fill {n}/512", "freq 38000 Hz, {n} entries", "{i}/3",
    "=====", "12:0{i}:07.{r} rx n={n}", "Rx {i}: rssi -{i}1 dBm, {n} pulses", "({n} edges, {total} us in all)",
    "k{i} =",
)  # fmt: skip
FEET = ("", "", "ok", "sum {total} us", "code 0x{r}F0A, 32 bits", "crc ok, {n} in {total} us", "retry 1/3")
ROWS = ("", "", "\t", "{k}: ", "{k:03d} ", "[{k}] ", "{k:02X}: ", "// ", "| ", "12:0{i}:01 -> ", "t={r} ", "cap{i}> ")
PARTED = (" ", ",", ", ", "; ", "\t", " | ", " / ", " : ", "  ")
SPELLED = (
    "{us}", "{us}", "{us}us", "{us} us", "{us:5d}", "{us}.0", "0x{us:x}", "({us})", "{sign}{us}", "{MS}{us}",
    "{HL}{us}", "{hi}={us}", "{level}:{us}",
)  # fmt: skip


def a_dressed_log(rng: np.random.Generator) -> tuple[str, list[Sent]]:
    frames, sent = presses(rng)

    def one_of(choices: Sequence[Any]) -> Any:
        return choices[int(rng.integers(len(choices)))]

    head, foot, before, parted, spelled = map(one_of, (HEADS, FEET, ROWS, PARTED, SPELLED))
    opens, closes = one_of((("", ""), ("", ""), ("[", "]"), ("{", "};"), ("(", ")")))
    wrap, silent, blank = one_of((0, 1, 2, 8, 10, 16)), one_of((None, None, 30_000, 65_535)), rng.random() < 0.5
    text = one_of(INTROS)
    for i, frame in enumerate(frames, 1):
        lengths = frame if silent is None else [*frame, silent]
        words = [
            spelled.format(
                us=us, sign="+-"[k % 2], MS="MS"[k % 2], HL="HL"[k % 2], hi=("hi", "lo")[k % 2], level=1 - k % 2
            )
            for k, us in enumerate(lengths)
        ]
        said = {"i": i, "n": len(lengths), "total": sum(frame), "r": int(rng.integers(100, 999))}
        rows = [words[at : at + wrap] for at in range(0, len(words), wrap)] if wrap else [words]
        lines = [before.format(k=k, **said) + opens * (k == 0) + parted.join(row) for k, row in enumerate(rows)]
        text += "\n".join([*filter(None, [head.format(**said)]), *lines]) + closes + "\n"
        text += foot.format(**said) + "\n" if foot else ""
        text += "\n" if blank or not (head or foot) else ""
    return text, sent
