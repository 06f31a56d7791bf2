"""Which bits carry each label."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations, pairwise
from math import comb, inf, log10

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.compare.checks import BYTE
from eager_tern.compare.evidence import SURE, arrangements, turns
from eager_tern.compare.number import NEXT_BYTE, Encoding, Number, decoded
from eager_tern.compare.numbers import Kinds, find_number
from eager_tern.compare.stack import BitRows, Label, Stack, numbers, raw_numbers, runs_of
from eager_tern.compare.windows import FAHRENHEIT
from eager_tern.compare.words import find_words

FEWEST_ROWS = 3
MOST_WRONG = 0.12  # of the rows, whose labels may be mistaken
MOST_CHANCE = -0.8  # log10; what would happen more often by accident is not claimed
MOST_CHANCE_ALONE = 0.0
MOST_CHANCE_IN_ORDER = -3.0  # of what only the order of the presses makes doubtful: it is offered as possible
LEFT_TO_ORDER = -3.0  # log10: of gadgets whose messages are told apart by the order in which they come, and by no bit
MOST_CHANCE_ELSEWHERE = -1.0  # of a label's second field, which few rows speak for
MOST_ALSO = 4  # descriptions beside the one that is taken; those behind them weigh nothing
MOST_WORDS = 8  # of a label that may be a condition
MOST_NUMBERS = 4
MOST_APART = 2  # of its values at a time
FEWEST_ABOVE = 2  # constant bits: one is there by accident too often
NEARLY_WHOLE = 1e-6  # scales and offsets are kept with nine digits
FEWEST_WORSE = 1  # rows that a line has to contradict more than a table does, before the table is believed
MUCH_SURER = 3.0  # log10; then a row fewer is enough: bits here and there say some line of a few values by accident
FEWEST_APART = 2  # rows that a condition sets apart
MOST_ALIKE = 0.4  # of the rows set apart at least do not say what they should without the condition
LESS_WRONG = 0.5  # of the contradictions are left at most under a condition that is believed


class Linear(Struct, frozen=True):
    """value = scale × number + offset, the number being read through ``encoding``; rounded, where ``decimals`` says."""

    scale: float
    offset: float
    encoding: Encoding = "binary"
    decimals: int | None = None


class Table(Struct, frozen=True):
    """A word, or a number that follows no line, for each raw number that was seen; of all numbers where they are
    ``ruled``, by a sign beside a magnitude or a part of a step sent apart.
    """

    words: dict[int, float | str]
    ruled: bool = False


class Field(Struct, frozen=True):
    """Bits that carry a label. ``positions`` run from the most significant to the least.

    ``looked_at`` are the rows with a known label in which the field means something (``when``), ``holds`` those of them
    in which its bits say the label. ``chance`` is log10 of the probability of an accident
    given what was tried, ``in_any_order`` the same were the presses in any order: what was set step by step, or in
    blocks, goes along with all else that changes so. ``others`` are fields that explain the label as well: copies of
    it, or what the data cannot tell apart. ``also`` are other descriptions of the same bits that say the same in every
    press: another width, offset or encoding; ``cost`` tells them apart (``Number``).
    """

    name: str
    positions: tuple[int, ...]
    map: Linear | Table
    looked_at: NDArray[np.intp]
    holds: NDArray[np.bool_]
    chance: float
    in_any_order: float
    when: Mapping[str, tuple[float | str, ...]]
    others: tuple[Field, ...] = ()
    also: tuple[Field, ...] = ()
    cost: float = 0.0

    @property
    def explained(self) -> int:
        return int(np.sum(self.holds))

    @property
    def contradicting(self) -> NDArray[np.intp]:
        """The rows whose labels their bits contradict."""
        return self.looked_at[~self.holds]

    @property
    def odds(self) -> list[float]:
        """How probable this description is, and each of those in ``also``, as makers lay numbers."""
        weights = [10.0 ** (self.cost - each.cost) for each in (self, *self.also)]
        return [weight / sum(weights) for weight in weights]

    def apart(self, stack: Stack) -> dict[str, list[Label]]:
        """The values of other labels with which it means nothing, as far as they were pressed."""
        return {
            other: [v for v in dict.fromkeys(stack.labels[other]) if v is not None and v not in allowed]
            for other, allowed in self.when.items()
        }

    def told_apart_by(self, other: Field) -> set[str]:
        """The labels by which no frame has both: they mean something in different kinds of messages."""
        both = self.when.keys() & other.when.keys()
        return {name for name in both if not set(self.when[name]) & set(other.when[name])}

    def shares_bits(self, other: Field) -> bool:
        return not set(self.positions).isdisjoint(other.positions)

    def says(self, bits: BitRows) -> list[Label]:
        """What the field says in each row; None for a number that stands for nothing."""
        raw = raw_numbers(bits, self.positions)
        if isinstance(self.map, Table):
            return [self.map.words.get(number) for number in raw.tolist()]
        number = decoded(raw, self.map.encoding, len(self.positions))
        digits = 9 if self.map.decimals is None else self.map.decimals
        return [round(value, digits) for value in (number * self.map.scale + self.map.offset).tolist()]


def find_fields(stack: Stack, taken: Sequence[int] = (), lowest_first: bool = True) -> list[Field]:
    """A field for each label that has one; ``taken`` are columns of checks. The surest are found first.

    ``lowest_first``: how the frame's numbers stand, where no number among the fields tells.
    """
    free = np.setdiff1d(stack.varying, np.asarray(taken, np.intp))
    found = [field for name in stack.labels for field in _fields(stack, name, free)]
    # What others leave has fewer ways to be an accident.
    sure = [field for field in found if field.chance <= SURE]
    left = np.setdiff1d(free, [column for field in sure for column in field.positions])
    fewer = 0 < left.size < free.size
    unsure = [name for name in stack.labels if name not in {field.name for field in sure}] if fewer else []
    again = {name: _over(stack, name, _known(stack, name), left, {}) for name in unsure}
    found = [_if_the_same(again.get(field.name), field) for field in found]
    silent = again.keys() - {field.name for field in found}
    found += [field for name in unsure if name in silent and (field := again[name]) is not None]
    claimed: set[int] = set()
    out = []
    for field in sorted(found, key=lambda f: (not f.holds.all(), f.chance)):
        choice = next((f for f in (field, *field.others) if not claimed & set(f.positions)), field)
        claimed |= set(choice.positions)
        rest = tuple(f for f in (field, *field.others) if f.positions != choice.positions)
        out.append(replace(choice, others=rest))
    out = [_beside(field, [f for f in out if f.name != field.name and not f.told_apart_by(field)]) for field in out]
    order = list(stack.labels)
    out = [_in_order(_where_known(field, stack), _steps_down(out, lowest_first)) for field in out]
    return sorted(_as_needed(_completed(out, stack, claimed)), key=lambda f: order.index(f.name))


def _beside(field: Field, others: Sequence[Field]) -> Field:
    """A field as it is best described beside those of other labels: with none of their bits, if there is a way."""
    free = [each for each in (field, *field.also) if not any(map(each.shares_bits, others))]
    return replace(free[0], others=field.others, also=tuple(free[1:])) if free else replace(field, also=())


def _as_needed(fields: Sequence[Field]) -> list[Field]:
    """The fields; a word that tells what other bits mean is surer than its own presses make it. Kinds of messages that
    take turns say no more than a toggle would, but the frame has to say somewhere which kind it is.
    """
    sure = [field for field in fields if field.chance <= SURE]
    tellers = {name for a, b in combinations(sure, 2) if a.shares_bits(b) for name in a.told_apart_by(b)}
    return [
        replace(field, chance=min(field.chance, LEFT_TO_ORDER))
        if field.name in tellers and field.holds.all() and not field.others
        else field
        for field in fields
    ]


def _if_the_same(again: Field | None, field: Field) -> Field:
    """A field as it was found once more, where that is the same one."""
    same = again is not None and (again.positions, again.map, dict(field.when)) == (field.positions, field.map, {})
    return again if again is not None and same else field


def _where_known(field: Field, stack: Stack) -> Field:
    """A field under the condition that another label's words say of it: its own label is known with them and unknown
    with all others, as where a gadget sends several kinds of messages.
    """
    labels = stack.labels[field.name]
    for other, values in stack.labels.items() if not field.when else ():
        rows = [row for row, value in enumerate(values) if isinstance(value, str)]
        if other == field.name or len(rows) < len(_known(stack, other)) or not rows:
            continue
        kinds, known = np.array([values[row] for row in rows]), np.array([labels[row] is not None for row in rows])
        words = [str(word) for word in np.unique(kinds) if 2 * known[kinds == word].sum() > np.sum(kinds == word)]
        wrong = int(np.sum(np.isin(kinds, words) != known))
        told = arrangements([int(known.sum()), int(np.sum(~known))]) - log10(comb(len(rows), wrong))
        if wrong <= MOST_WRONG * len(rows) and told >= -SURE:
            return replace(field, when={other: tuple(words)})
    return field


def _steps_down(fields: Sequence[Field], lowest_first: bool) -> int:
    """By how much a position is above the next lower bit's in most numbers: 1 where the lowest bit is sent first."""
    steps = [f.positions[0] - f.positions[1] for f in fields if len(f.positions) > 2 and isinstance(f.map, Linear)]
    up, down = sum(step > 0 for step in steps), sum(step < 0 for step in steps)
    return 1 if (lowest_first if up == down else up > down) else -1


def _in_order(field: Field, step: int) -> Field:
    """A field of words whose bits stand in a row, read in the order in which the frame's numbers are."""
    run, table = field.positions, field.map
    if not isinstance(table, Table) or table.ruled or len(run) < 2 or {a - b for a, b in pairwise(run)} != {-step}:
        return field
    words = {int(f"{raw:0{len(run)}b}"[::-1], 2): word for raw, word in table.words.items()}
    return replace(field, positions=run[::-1], map=Table(words))


def _completed(fields: Sequence[Field], stack: Stack, claimed: set[int]) -> list[Field]:
    """The fields with low bits that never changed: where only every second value was set, the bit below stayed.

    Of a field of one bit, which side is below is as in the others.
    """
    steps = [f.positions[0] - f.positions[1] for f in fields if len(f.positions) > 1]
    usual = -1 if sum(step < 0 for step in steps) > sum(step > 0 for step in steps) else 1
    steady = stack.bits.min(axis=0) == stack.bits.max(axis=0)
    out = []
    for field in fields:
        line, positions = field.map, field.positions
        while isinstance(line, Linear) and line.encoding == "binary" and line.scale % 2 == 0:
            step = positions[0] - positions[1] if len(positions) > 1 else usual
            below = positions[-1] - step
            if not 0 <= below < stack.columns or not steady[below] or below in claimed:
                break
            positions = (*positions, below)
            half = line.scale / 2
            line = replace(line, scale=half, offset=line.offset - half * int(stack.bits[0, below]))
            claimed.add(below)
        out.append(_with_bits_above(replace(field, map=line, positions=positions), stack, claimed))
    return out


def _with_bits_above(field: Field, stack: Stack, claimed: set[int]) -> Field:
    """The field with the constant bits above it, where they say what its offset adds: then it is a part of a number."""
    line, positions = field.map, field.positions
    if not isinstance(line, Linear) or line.encoding != "binary" or line.scale <= 0 or len(positions) < 2:
        return field
    freezing = _freezing_at(line.scale)
    fewest = FEWEST_ABOVE if freezing is None else 1  # where it is cold is no accident
    origin = freezing or 0.0
    added = (line.offset - origin) / line.scale
    above, rest = divmod(round(added), 1 << len(positions))
    step, width = positions[-2] - positions[-1], above.bit_length()
    if abs(added - round(added)) > NEARLY_WHOLE or rest or above < 0 or width < fewest or abs(step) != 1:
        return field
    # Behind a byte's highest bit comes its neighbour, or the lowest bit of the next byte.
    for jump in (step, -NEXT_BYTE * step):
        columns = _above(positions[0], step, jump, width)
        inside = all(0 <= c < stack.columns and c not in claimed for c in columns)
        if inside and all((stack.bits[:, c] == (above >> n & 1)).all() for n, c in enumerate(columns)):
            return replace(field, map=replace(line, offset=origin), positions=(*columns[::-1], *positions))
    return field


def _freezing_at(scale: float) -> float | None:
    """What a number of 0 stands for in degrees Celsius, where it counts degrees Fahrenheit or parts of ten of them."""
    parts = FAHRENHEIT[0] / scale
    return -32 * FAHRENHEIT[0] if any(abs(parts - ten) < NEARLY_WHOLE * ten for ten in (1, 10)) else None


def _above(highest: int, step: int, jump: int, width: int) -> list[int]:
    """The next higher bits of a number, lowest first; ``jump`` leads from one of its bytes to the next."""
    columns, at = [], highest
    for _ in range(width):
        at += jump if at % BYTE == (0 if step < 0 else BYTE - 1) else step
        columns.append(at)
    return columns


def _known(stack: Stack, name: str) -> NDArray[np.intp]:
    """The rows in which a label is known."""
    return np.array([i for i, value in enumerate(stack.labels[name]) if value is not None], dtype=np.intp)


def _fields(stack: Stack, name: str, columns: NDArray[np.intp]) -> list[Field]:
    """The field of a label; two, if it is said otherwise where a condition does not hold."""
    field = _field(stack, name, columns)
    if field is None or not field.when:
        return [field] if field is not None else []
    known = _known(stack, name)
    rows = np.setdiff1d(known, field.looked_at)
    when = {other: tuple(dict.fromkeys(stack.labels[other][row] for row in rows)) for other in field.when}
    said = {other: tuple(value for value in values if value is not None) for other, values in when.items()}
    elsewhere = _over(stack, name, rows, columns, said)
    if elsewhere is None or not elsewhere.holds.all() or elsewhere.chance > MOST_CHANCE_ELSEWHERE:
        return [field]
    return [field, elsewhere]


def _field(stack: Stack, name: str, columns: NDArray[np.intp]) -> Field | None:
    """The field of a label: over all rows, or where that leaves some unexplained under a condition."""
    rows = _known(stack, name)
    best = _over(stack, name, rows, columns, {})
    if best is not None and len(best.contradicting) < FEWEST_APART:  # no condition could settle enough
        return _on_a_line(stack, best, columns)
    found = _under_a_condition(stack, name, columns, best)
    if found is None and numbers([stack.labels[name][row] for row in rows]) is not None:
        found = _under_a_condition(stack, name, columns, None, any_line=True)
    return _on_a_line(stack, found, columns) if found is not None else None


def _under_a_condition(
    stack: Stack, name: str, columns: NDArray[np.intp], best: Field | None, any_line: bool = False
) -> Field | None:
    """The field of a label under the condition that explains most; ``best`` is what is said without one.

    Any line is looked for where asked, then with one value at a time set apart, and where a condition could settle all
    that contradicts: it is costly.
    """
    rows = _known(stack, name)
    wrong, explained = (len(best.contradicting), best.explained) if best is not None else (len(rows), 0)
    conditions = list(_conditions(stack, name, rows, 1 if any_line else MOST_APART))
    doubted: Field | None = None
    for when, some in conditions:
        apart = np.setdiff1d(rows, some)
        settles_all = best is not None and set(best.contradicting) <= set(apart)
        under = _over(stack, name, some, columns, when, "lines" if any_line else "all" if settles_all else None)
        # A condition has to be worth the rows that it sets apart.
        if under is None or not _differs(stack, under, apart):
            continue
        under = _less_sure(under, log10(len(conditions)))
        if under.chance >= MOST_CHANCE and under.in_any_order >= MOST_CHANCE_IN_ORDER:
            continue
        if (by_accident := _of_strangers(under, stack, log10(len(conditions) * columns.size))) > SURE:
            doubted = doubted or _less_sure(under, by_accident - under.chance)
            continue
        settled, lost = wrong - len(under.contradicting), explained - under.explained
        surer = best is not None and under.chance < best.chance
        enough = min(wrong - FEWEST_APART + 1, LESS_WRONG * wrong)
        if len(under.contradicting) < enough and (lost <= settled or surer):
            best, wrong, explained = under, len(under.contradicting), under.explained
            if wrong < FEWEST_APART:
                break
    return doubted if doubted is not None and (best is None or best.chance > max(SURE, doubted.chance)) else best


def _less_sure(field: Field, more_tried: float) -> Field:
    """A field that was found among 10 ** ``more_tried`` times as many."""
    return replace(field, chance=field.chance + more_tried, in_any_order=field.in_any_order + more_tried)


def _on_a_line(stack: Stack, field: Field, columns: NDArray[np.intp]) -> Field:
    """A field of numbers as any line through them, which is looked for last: it is costly, and says more than it was
    told.
    """
    if not isinstance(field.map, Table) or field.map.ruled or any(isinstance(w, str) for w in field.map.words.values()):
        return field
    line = _over(stack, field.name, field.looked_at, columns, field.when, "lines")
    holds = line is not None and isinstance(line.map, Linear) and len(line.contradicting) <= len(field.contradicting)
    return line if line is not None and holds else field


def _of_strangers(field: Field, stack: Stack, tried: float) -> float:
    """log10 of how likely a bit apart from a number's others says the same by accident, of 10 ** ``tried`` tries."""
    pieces = runs_of(field.positions)
    if not isinstance(field.map, Linear) or len(pieces) == 1:
        return -inf
    apart = [int(piece[0]) for piece in pieces if piece.size == 1]
    return max((tried - turns(stack.bits[field.looked_at, c]) for c in apart), default=-inf)


def _differs(stack: Stack, field: Field, apart: NDArray[np.intp]) -> bool:
    """Whether the rows that a condition sets apart say something else, and not a mistaken label or two among them."""
    says = field.says(stack.bits[apart])
    labels = [stack.labels[field.name][row] for row in apart]
    different = sum(said != label for said, label in zip(says, labels, strict=True))
    return bool(different >= MOST_ALIKE * len(apart))


def _over(
    stack: Stack, name: str, rows: NDArray[np.intp], columns: NDArray[np.intp],
    when: Mapping[str, tuple[float | str, ...]], kinds: Kinds | None = None,
) -> Field | None:  # fmt: skip
    """The field of a label over some rows. Of numbers, ``kinds`` are looked for: all where there is no condition, exact
    ones elsewhere, unless it is said.
    """
    if len(rows) < FEWEST_ROWS:
        return None
    bits = stack.bits[rows]
    values = [stack.labels[name][i] for i in rows]
    errors = round(MOST_WRONG * len(rows))
    fields: list[Field] = []
    as_numbers = numbers(values)
    starts = [start for start, _ in stack.section_bounds]
    if as_numbers is not None:
        for number in find_number(bits, columns, as_numbers, errors, kinds or ("exact" if when else "all"), starts):
            fields.append(_of_number(name, number, rows, when))
    wrong = len(fields[0].contradicting) if fields else len(rows)
    if wrong:
        known = [value for value in values if value is not None]
        by_table = [
            Field(name, words.positions, Table(words.table), rows, words.holds, words.chance, words.in_any_order, when)
            for words in find_words(bits, columns, known, errors)
        ]
        if by_table and (not fields or _is_better(by_table[0], fields[0])):
            fields = by_table
    if not fields:
        return None
    first, *others = fields
    fewest = len(first.contradicting)
    apart = [f for f in others if len(f.contradicting) == fewest and not set(f.positions) & set(first.positions)]
    # What could well be an accident is claimed only where nothing else says the same.
    if first.chance >= (MOST_CHANCE if apart else MOST_CHANCE_ALONE) and first.in_any_order >= MOST_CHANCE_IN_ORDER:
        return None
    return replace(first, others=tuple(apart), also=_described_otherwise(first, others))


def _is_better(table: Field, line: Field) -> bool:
    """Whether a table is believed before a line, which says more of what was never set."""
    worse = len(line.contradicting) - len(table.contradicting)
    return worse > FEWEST_WORSE or (worse > 0 and table.chance < line.chance - MUCH_SURER)


def _described_otherwise(field: Field, others: Sequence[Field]) -> tuple[Field, ...]:
    """Other descriptions of the same bits that fit the same presses."""
    said = {(field.positions, str(field.map))}
    also = []
    for each in others:
        shared = set(each.positions) & set(field.positions) and np.array_equal(each.holds, field.holds)
        if isinstance(each.map, Linear) and shared and (each.positions, str(each.map)) not in said:
            said.add((each.positions, str(each.map)))
            also.append(each)
    return tuple(also[:MOST_ALSO])


def _of_number(name: str, number: Number, rows: NDArray[np.intp], when: Mapping[str, tuple[float | str, ...]]) -> Field:
    line = Linear(number.scale, number.offset, number.encoding, number.decimals)
    found = line if number.table is None else Table(dict(number.table), True)
    return Field(
        name, number.positions, found, rows, number.holds, number.chance, number.in_any_order, when, cost=number.cost
    )


def _conditions(
    stack: Stack, name: str, rows: NDArray[np.intp], most_apart: int
) -> Iterator[tuple[dict[str, tuple[float | str, ...]], NDArray[np.intp]]]:
    """Other labels' values under which a label may mean something, and the rows in which they stand; widest first."""
    found = []
    for other, values in stack.labels.items():
        known = {values[i] for i in rows if values[i] is not None}
        most = MOST_WORDS if any(isinstance(value, str) for value in known) else MOST_NUMBERS
        if other == name or not 2 <= len(known) <= most:
            continue
        ordered = sorted(known, key=str)
        for count in range(1, min(most_apart, len(known) - 1) + 1):
            for apart in combinations(ordered, count):
                left = tuple(value for value in ordered if value not in apart)
                some = np.array([i for i in rows if values[i] in left], dtype=np.intp)
                if len(rows) - len(some) >= FEWEST_APART and len(some) >= FEWEST_ROWS:
                    found.append((count, {other: left}, some))
    for _, when, some in sorted(found, key=lambda each: (each[0], -len(each[2]))):
        yield when, some
