"""Sheets of any kind that the language can say, drawn at random: not those that the generators were written with."""

from __future__ import annotations

from typing import Any

import numpy as np

from eager_tern.errors import InputError
from eager_tern.linecode.values import Bits
from eager_tern.protocol.checks import fill_in
from eager_tern.protocol.fields import DataField
from eager_tern.protocol.loading import reads_what_it_makes, sheet_of_keys
from eager_tern.protocol.reading import field_values
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.template import frame_pulses
from eager_tern.signal.values import Floats, Pulses

CODES = ("distance", "width", "duty", "biphase", "quad", "triple", "serial", "wide-mark")


def any_sheet(seed: int) -> Sheet:
    """A sheet that hangs together and reads what it makes."""
    for more in range(100):
        rng = np.random.default_rng((seed, more))
        try:
            sheet = sheet_of_keys(_keys(rng, CODES[seed % len(CODES)]), "any sheet")
        except InputError:
            continue
        if sheet.serial is not None or reads_what_it_makes(sheet):
            return sheet
    raise AssertionError("no sheet came of it")


def _keys(rng: np.random.Generator, code: str) -> dict[str, Any]:
    unit = float(rng.choice([200, 350, 444.4, 562.5, 889]))
    line: dict[str, Any] = {
        "distance": {"zero": [1, -1], "one": [1, -3]},
        "width": {"zero": [1, -1], "one": [2, -1]},
        "duty": {"zero": [1, -3], "one": [3, -1]},
        "biphase": {"zero": [1, -1], "one": [-1, 1]} if rng.random() < 0.5 else {"zero": [-1, 1], "one": [1, -1]},
        "quad": {"symbols": [[1, -2], [1, -3], [1, -4], [1, -5]]},
        "triple": {"symbols": [[1, -3], [2, -2], [3, -1]]},
        "serial": {
            "serial": {
                "data_bits": int(rng.choice([7, 8])),
                "parity": str(rng.choice(["none", "odd", "even"])),
                "stop_bits": int(rng.choice([1, 2])),
            }
        },
        "wide-mark": {"zero": [1, -1, 1, -3], "one": [1, -3, 1, -1]},
    }[code]
    group = line["serial"]["data_bits"] if code == "serial" else 2 if code in ("quad", "triple") else 1
    sections = int(rng.integers(1, 4))
    counts = [group * int(rng.integers(1, 5 if code == "serial" else 24 // group)) for _ in range(sections)]
    if sum(counts) < 12:
        counts[0] += -(-12 // group) * group
    parts: list[dict[str, Any]] = []
    for number, count in enumerate(counts):
        if number:
            parts.append({"gap_us": float(rng.integers(20, 60) * 1000 if rng.random() < 0.9 else 90_000)})
        if code != "serial":
            leader = [[8, -4], [4, -2, 4, -2], [3, -1], [16, -8], [6, -2]][rng.integers(5)]
            parts += [{"pulses": [float(each) for each in leader]}] if code != "biphase" or rng.random() < 0.7 else []
        parts.append({"bits": count})
        if code in ("distance", "quad", "wide-mark"):
            parts.append({"pulses": [1]})
    if code == "biphase" and rng.random() < 0.4 and counts[0] > 4:
        at = next(i for i, part in enumerate(parts) if "bits" in part)
        parts[at : at + 1] = [{"bits": 2}, {"bits": 1, "stretch": 2}, {"bits": counts[0] - 3}]
    total = sum(counts)
    free = list(rng.permutation(total)) if rng.random() < 0.4 else list(range(total))
    checks = [_check(rng, number, free, code == "triple") for number in range(int(rng.integers(0, 3)))]
    fields = _fields(rng, free)
    if code == "triple":  # only some bits stand for symbols
        checks, fields = [], fields[:1]
    frames = [{"name": "full", "parts": parts}]
    press = {"first": "full", "held": "full", "gap_us": 30_000}
    if code != "triple" and rng.random() < 0.3:
        some = sorted(int(at) for at in rng.permutation(total)[:4])
        frames.append({"name": "turned", "inverts": ", ".join(map(str, some)), "parts": parts})
        press["first"] = ["full", "turned"]
    return {
        "id": "any", "name": "Any", "unit_us": unit, **line, "frames": frames, "press": press,
        "fields": fields, "checks": [check for check in checks if check],
    }  # fmt: skip


def _places(rng: np.random.Generator, free: list[int], width: int) -> str:
    """Positions that are taken from those that are free."""
    taken = [free.pop(0) for _ in range(width)]
    if rng.random() < 0.5:
        taken = taken[::-1]
    return ", ".join(("!" if rng.random() < 0.1 else "") + str(at) for at in taken)


def _check(rng: np.random.Generator, number: int, free: list[int], alone: bool) -> dict[str, Any] | None:
    """A check of any kind at the last free bits, over what is left of them in whole stretches."""
    kind = str(rng.choice(["constant", "copy", "complement", "sum", "xor", "ones", "parity", "crc", "linear"]))
    width = {"parity": 1, "ones": 3}.get(kind, int(rng.choice([4, 8])))
    if len(free) < 2 * width + 4 or alone:
        return None
    at = [free.pop() for _ in range(width)]
    check: dict[str, Any] = {"name": f"check {number}", "kind": kind, "at": ", ".join(map(str, at))}
    if kind == "constant":
        return {**check, "value": int(rng.integers(1 << width))}
    if kind in ("copy", "complement"):
        return {**check, "of": ", ".join(str(each) for each in free[:width])}
    most = int(min(free)) + int(rng.integers(3, max(4, len(free))))
    taken = set(at)
    covers, run = [], []
    for each in range(most):
        if each in taken:
            covers += [[run[0], run[-1]]] if run else []
            run = []
        else:
            run.append(each)
    covers += [[run[0], run[-1]]] if run else []
    if not covers:
        return None
    check |= {"covers": covers, "unit": int(rng.choice([4, 8])), "order": str(rng.choice(["lsb", "msb"]))}
    if kind in ("sum", "xor"):
        check |= {"init": int(rng.integers(16)), "rotate": int(rng.choice([0, 0, 1, 3]))}
        if rng.random() < 0.3:  # what it begins with is chosen by the first bits that it covers
            check |= {"by": str(covers[0][0]), "seeds": {"1": int(rng.integers(16))}}
    if kind == "sum":
        check |= {"negate": bool(rng.random() < 0.3), "carry": bool(rng.random() < 0.3)}
        check |= {"modulus": int(rng.choice([0, 0, 15, 255]))} if not check["carry"] else {}
    if kind in ("sum", "xor", "crc") and width == 8:
        check |= {"swap": bool(rng.random() < 0.3), "xor_out": int(rng.integers(256))}
    if kind == "crc":
        check |= {"poly": int(rng.integers(1 << width)) | 1, "init": int(rng.integers(1 << width))}
        check |= {"reflect_in": bool(rng.random() < 0.5), "reflect_out": bool(rng.random() < 0.5)}
    if kind == "linear":
        size = sum(last - first + 1 for first, last in covers)
        check |= {"columns": [int(each) for each in rng.integers(0, 1 << width, size)]}
    return check


def _fields(rng: np.random.Generator, free: list[int]) -> list[dict[str, Any]]:
    fields: list[dict[str, Any]] = []
    names = ["mode", "temperature", "int", "class_", "level", "data", "counter", "more"]
    while free and len(fields) < len(names):
        width = min(int(rng.choice([1, 2, 3, 5, 8, 12, 40, 70])), len(free))
        field: dict[str, Any] = {"name": names[len(fields)], "bits": _places(rng, free, width)}
        choice = rng.random()
        if not fields and width > 1:
            field["table"] = {"0": "auto", "1": 'a "dry" \\ word */', "2": "fan"} | ({"3": "heat"} if width > 2 else {})
        elif choice < 0.2 and 4 < width <= 12:
            field["encoding"] = "bcd"
        elif choice < 0.3 and 1 < width <= 32:
            field["encoding"] = str(rng.choice(["signed", "magnitude", "gray"]))
        elif choice < 0.5 and width <= 12:
            field |= {"scale": float(rng.choice([0.1, 0.5, 2])), "offset": float(rng.choice([0, 16, -40]))}
            field |= {"scale": 0.392156863, "decimals": 1} if rng.random() < 0.3 else {}
        elif choice < 0.7 and fields and "table" in fields[0]:
            field["when"] = {"mode": ["auto", "fan"]}
            field |= {"otherwise": int(rng.integers(1 << min(width, 8)))} if rng.random() < 0.5 else {}
        fields.append(field)
    return fields


def any_bits(sheet: Sheet, rng: np.random.Generator) -> Bits:
    """Bits as meant of a frame whose fields have any values, its checks right."""
    bits: Bits = np.array(list(map(int, sheet.blank or "0" * sheet.bit_count)), np.uint8)
    for field in sheet.fields:
        field.bits.write(bits, _any_raw(field, rng))
    values = field_values(sheet, bits)
    for field in sheet.fields:  # what means nothing is sent as the sheet says
        otherwise = None if field.means_something(values) else field.raw_otherwise(values)
        if otherwise is not None:
            field.bits.write(bits, otherwise)
    return fill_in(sheet.checks, bits)


def _any_raw(field: DataField, rng: np.random.Generator) -> int:
    if field.table:
        return field.raw(list(field.table.values())[rng.integers(len(field.table))])
    if field.encoding == "bcd":
        return int("".join(str(rng.integers(10)) for _ in range(field.bits.width // 4)), 16)
    return int.from_bytes(rng.bytes(32), "big") & ((1 << field.bits.width) - 1)


def pulses_of(sheet: Sheet, bits: Bits) -> Pulses:
    """The first frame of a press."""
    return frame_pulses(sheet, sheet.frame(sheet.press.first[0]), bits)


def as_received(pulses: Pulses, sheet: Sheet, rng: np.random.Generator) -> Floats:
    """Durations as a receiver gives them: a clock of its own, marks too long or short, edges that jitter."""
    unit = sheet.unit_us
    most = 0.02 if sheet.serial is not None else 0.6 * sheet.tolerance  # characters need a crystal on either side
    clock = 1 + rng.uniform(-most, most)
    edges = np.concatenate(([0.0], np.cumsum(pulses.durations_us))) * clock
    edges += rng.normal(0, min(25.0, 0.08 * unit), edges.size)
    edges[1::2] += rng.uniform(-60, 80) if unit > 100 else 0.0
    return np.maximum(np.diff(edges), 1.0)
