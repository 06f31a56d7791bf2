"""A sheet from a comparison: what was found, as a value that reads frames and makes them."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eager_tern.compare.checks import BYTE, Found, nearly_steady
from eager_tern.compare.comparison import Comparison, covers
from eager_tern.compare.contiguous import MOST_FALLS
from eager_tern.compare.counters import Counter as FoundCounter
from eager_tern.compare.field import Field, Table
from eager_tern.compare.stack import Stack, label_word, raw_numbers
from eager_tern.linecode.values import Bits
from eager_tern.protocol.describing import describe_line
from eager_tern.protocol.draft import Draft
from eager_tern.protocol.positions import positions_text
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.schema import Check

Keys = dict[str, Any]
LATEST = 5  # rows that tell what is so now, one of which may be damaged
LINE_FRAMES = 8  # from which the line is described
WIDE = 4  # bits; of a narrower number all there is has been seen soon, and the rest is no surprise
MOSTLY = 0.85  # of the rows: a label or two may be mistaken, and a frame damaged
PLACED = ("name", "kind", "at", "of", "covers", "by", "seeds")  # keys of a check that are written first
FEWEST_HEADER = 8  # constant bits at the beginning that are worth a check
# Where only bits are read and made, any line will do.
ANY_LINE: Mapping[str, Any] = {
    "id": "stack",
    "name": "Stack",
    "unit_us": 500,
    "zero": [1, -1],
    "one": [1, -3],
    "press": {"first": "full", "held": "full", "gap_us": 40_000},
}


def sheet_of(comparison: Comparison, line: Draft | None = None) -> Draft:
    """A sheet that says what was found; ``line`` says what the line is like, where that matters."""
    stack = comparison.stack
    any_frame = {"name": "full", "parts": [{"bits": stack.columns}, {"pulses": [1]}]}
    base = line if line is not None else Draft({**ANY_LINE, "frames": [any_frame]})
    names = field_names(comparison)
    fields = [_field(field, names, stack) for field in comparison.fields]
    for (name, positions), counter in zip(by_itself(comparison).items(), comparison.counters, strict=True):
        now = int(raw_numbers(_lately(stack)[None], positions)[0])
        more = {"default": now} if counter.kind == "id" else {"role": counter.kind, "default": 0}
        fields.append({"name": name, "bits": positions_text(positions), **more})
    header = _header(comparison)
    checks = [] if header is None else [header]
    seen: Counter[str] = Counter()
    for found in _computed_in_turn(comparison.checks):
        seen[found.check.name] += 1
        name = f"{found.check.name} {seen[found.check.name]}" if seen[found.check.name] > 1 else found.check.name
        checks.append(_check(found.check, name))
    blank = "".join(map(str, _lately(stack).tolist()))
    about = f"{stack.columns} bits, found by comparing frames."
    document = {**base.document, "about": about, "blank": blank, **({"fields": fields} if fields else {})}
    return Draft({**document, **({"checks": checks} if checks else {})}, base.comments)


def _computed_in_turn(checks: Sequence[Found]) -> list[Found]:
    """The checks in an order in which they can be computed: one that goes over another's bits comes behind it."""
    left, ordered = list(range(len(checks))), list[int]()
    over = [covers(check) for check in checks]
    while left:
        free = [at for at in left if not any(over[at] & set(checks[b].positions) for b in left if b != at)]
        ordered += free or left  # where they go in a circle, none is first
        left = [at for at in left if at not in ordered]
    return [checks[at] for at in ordered]


def drafted(comparison: Comparison, frames: Sequence[Frame], name: str) -> Draft | None:
    """The sheet of a gadget, its line described from some of its frames; None where they show no clear line code."""
    line = describe_line(frames, name)
    return None if line is None else sheet_of(comparison, line)


def field_names(comparison: Comparison) -> dict[str, str]:
    """The name in a sheet of each label: small letters, digits and _."""
    names: dict[str, str] = {}
    for field in comparison.fields:
        if field.name in names:  # it is said in two places, by what a mode is
            continue
        name = re.sub(r"[^a-z0-9]+", "_", field.name.lower()).strip("_")
        name = name if name[:1].isalpha() else f"label_{name}".rstrip("_")
        names[field.name] = _free_name(name, 1, set(names.values()))
    return names


def by_itself(comparison: Comparison) -> dict[str, tuple[int, ...]]:
    """The name in a sheet of each counter, toggle and id, which no label says, and where it stands."""
    taken = set(field_names(comparison).values())
    found: dict[str, tuple[int, ...]] = {}
    for number, counter in enumerate(comparison.counters, 1):
        found[_free_name(counter.kind, number, taken | set(found))] = counter.positions
    return found


def _free_name(name: str, number: int, taken: set[str]) -> str:
    wanted = name if number == 1 else f"{name}_{number}"
    while wanted in taken:
        number += 1
        wanted = f"{name}_{number}"
    return wanted


def _lately(stack: Stack) -> Bits:
    """What each column said in most of the last rows: an id that a new battery changed is what it is now."""
    rows = stack.bits[-LATEST:]
    lately: Bits = (2 * rows.sum(axis=0) > len(rows)).astype(np.uint8)
    return lately


def _usual(stack: Stack) -> Bits:
    """What each column says in most rows."""
    usual: Bits = (2 * stack.bits.sum(axis=0) > stack.rows).astype(np.uint8)
    return usual


def _field(field: Field, names: dict[str, str], stack: Stack) -> Keys:
    keys: dict[str, object] = {"name": names[field.name], "bits": positions_text(field.positions)}
    if isinstance(field.map, Table):
        keys["table"] = {str(raw): word for raw, word in sorted(field.map.words.items())}
    else:
        if field.map.encoding != "binary":
            keys["encoding"] = field.map.encoding
        if field.map.scale != 1:
            keys["scale"] = field.map.scale
        if field.map.offset != 0:
            keys["offset"] = field.map.offset
        if field.map.decimals is not None:
            keys["decimals"] = field.map.decimals
        said = [value for value in field.says(stack.bits[field.looked_at]) if isinstance(value, float)]
        if len(field.positions) >= WIDE:
            keys["seen"] = [min(said), max(said)]
        keys["base"] = 10
    when = {names[name]: list(values) for name, values in field.when.items() if name in names}
    if when:
        keys["when"] = when
        apart = _apart(stack, field)
        raw = raw_numbers(stack.bits[apart], field.positions)
        labelled = [row for row in apart.tolist() if stack.labels[field.name][row] is not None]
        if len(labelled) > (1 - MOSTLY) * apart.size:
            keys["otherwise"] = _otherwise(stack, field, np.array(labelled))
        elif apart.size and np.unique(raw, return_counts=True)[1].max() >= MOSTLY * apart.size:
            keys["otherwise"] = _otherwise(stack, field, apart)  # else another field has these bits there
    return keys


def _apart(stack: Stack, field: Field) -> NDArray[np.intp]:
    """The rows in which the conditions of a field do not hold."""
    apart = field.apart(stack).items()
    return np.flatnonzero([any(stack.labels[n][row] in values for n, values in apart) for row in range(stack.rows)])


def _otherwise(stack: Stack, field: Field, apart: NDArray[np.intp]) -> object:
    """What a field's bits are where it means nothing, if need be by what the condition's label says there."""
    raw = raw_numbers(stack.bits[apart], field.positions)
    by_label: dict[str, list[int]] = {}
    for row, number in zip(apart.tolist(), raw.tolist(), strict=True):
        for name in list(field.when)[:1]:
            by_label.setdefault(label_word(stack.labels[name][row]), []).append(number)
    usual = {word: Counter(numbers).most_common(1)[0][0] for word, numbers in by_label.items()}
    if len(set(usual.values())) > 1:
        return usual
    return Counter(raw.tolist()).most_common(1)[0][0]


def _header(comparison: Comparison) -> Keys | None:
    """The bits that a frame begins with and that nothing but damage changed, as a check."""
    stack = comparison.stack
    found: list[Field | Found | FoundCounter] = [*comparison.fields, *comparison.checks, *comparison.counters]
    used = [each.positions for each in found]
    changed = ~nearly_steady(stack) | _changed_by_intent(comparison)
    open_to_change = [*np.flatnonzero(changed).tolist(), *comparison.possible, *(c for row in used for c in row)]
    # What counts may have a byte above it that will turn some day.
    above = [row[0] - BYTE for row in used if row[0] < row[-1] and _only_grows(raw_numbers(stack.bits, row))]
    count = min([stack.columns, 32, *open_to_change]) // 8 * 8
    sure = min([count, *above]) // 8 * 8
    count = sure if sure >= FEWEST_HEADER else count
    if count < FEWEST_HEADER:
        return None
    positions = tuple(range(count - 1, -1, -1))
    value = int(raw_numbers(_usual(stack)[None], positions)[0])
    return {"name": "header", "kind": "constant", "at": positions_text(positions), "value": value}


def _changed_by_intent(comparison: Comparison) -> NDArray[np.bool_]:
    """Which columns change among frames whose checks go over them and hold: damage is no reason then."""
    changed = np.zeros(comparison.stack.columns, np.bool_)
    for check in comparison.checks:
        over = list(covers(check))
        changed[over] |= np.ptp(comparison.stack.bits[check.holds][:, over], axis=0) > 0
    return changed


def _only_grows(raw: NDArray[np.int64]) -> bool:
    return bool(np.ptp(raw)) and float(np.mean(np.diff(raw) < 0)) <= MOST_FALLS


def _check(check: Check, name: str) -> Keys:
    keys: dict[str, object] = {"name": name, "kind": check.kind, "at": str(check.at)}
    if check.of is not None:
        keys["of"] = str(check.of)
    if check.covers:
        keys["covers"] = [list(span) for span in check.covers]
    if check.by is not None:
        keys |= {"by": str(check.by), "seeds": {str(raw): seed for raw, seed in check.seeds.items()}}
    plain = {name: value for name, value in check.said().items() if name not in PLACED}
    if check.kind in ("sum", "xor", "crc"):
        plain = {"unit": check.unit, "order": check.order, **plain}
    return {**keys, **plain}
