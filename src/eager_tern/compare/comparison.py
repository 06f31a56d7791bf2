"""The comparison of a stack: what its bits mean, with the evidence, and what nothing accounts for."""

from __future__ import annotations

from collections.abc import Callable, Sequence, Set

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.compare.checks import NIBBLE, Found
from eager_tern.compare.copies import find_copies, twins
from eager_tern.compare.counters import Counter, find_counters, find_ids, find_rolling
from eager_tern.compare.crcs import find_crcs
from eager_tern.compare.digests import find_digests
from eager_tern.compare.evidence import SURE
from eager_tern.compare.field import Field, Linear, Table
from eager_tern.compare.fields import find_fields
from eager_tern.compare.following import with_what_follows
from eager_tern.compare.parities import find_parities
from eager_tern.compare.running import find_running
from eager_tern.compare.scattered import find_over_fields, find_scattered
from eager_tern.compare.seeded import find_seeded
from eager_tern.compare.stack import Stack
from eager_tern.compare.sums import by_modulus, find_sums
from eager_tern.compare.twins import bytes_alone, check_of_frame, counter_of_frame, field_of_frame

Finding = Field | Found | Counter


class Comparison(Struct, frozen=True):
    """``unexplained`` are varying columns that no field, check or counter accounts for; ``possible`` those of them that
    a finding does for which too little speaks yet.
    """

    stack: Stack
    fields: tuple[Field, ...]
    checks: tuple[Found, ...]
    counters: tuple[Counter, ...]
    unexplained: tuple[int, ...]
    possible: tuple[int, ...] = ()

    @property
    def explained(self) -> int:
        """How many varying columns are accounted for."""
        return len(self.stack.varying) - len(self.unexplained)


def column_signs(found: Comparison) -> list[str]:
    """What each column is, in one character: · constant, a letter its field, ✓ a check, # a counter, ? unexplained."""
    signs = ["·"] * found.stack.columns
    for column in found.unexplained:
        signs[column] = "?"
    accounted = [(chr(ord("a") + n % 26), f.positions) for n, f in enumerate(found.fields)]
    accounted += [("✓", check.positions) for check in found.checks]
    accounted += [("#", counter.positions) for counter in found.counters]
    for sign, positions in accounted:
        for column in positions:
            signs[column] = sign
    return signs


def named(finding: Finding) -> str:
    """What tells a finding from all others, whatever rows it was found in."""
    kind = finding.name if isinstance(finding, Field) else finding.kind
    return f"{kind} {' '.join(map(str, finding.positions))}"


def accepting(finding: str) -> str:
    """The verdict that a possible finding (``named``) is believed; a finding's bare name is one that it is not."""
    return f"+{finding}"


def is_possible(finding: Finding) -> bool:
    """Whether a finding rests on less than it needs: an accident would do as much more than once in a hundred."""
    return finding.chance > SURE


def stands(finding: Finding, verdicts: Set[str]) -> bool:
    """Whether a finding is proven, or was accepted."""
    return not is_possible(finding) or accepting(named(finding)) in verdicts


def settled(found: Comparison, verdicts: Set[str] = frozenset()) -> Comparison:
    """The comparison with only what stands: what a sheet may say."""
    fields, checks = [f for f in found.fields if stands(f, verdicts)], [c for c in found.checks if stands(c, verdicts)]
    fields = [field for field in fields if not _is_ambiguous(field, fields)]
    kept = _comparison(found.stack, fields, checks, [c for c in found.counters if stands(c, verdicts)])
    return replace(kept, possible=tuple(column for column in kept.unexplained if column not in found.unexplained))


def _is_ambiguous(field: Field, fields: Sequence[Field]) -> bool:
    """Whether a field shares bits with another, and nothing among them tells which of the two these are."""
    told = {each.name for each in fields}
    apart = [field.told_apart_by(each) for each in fields if each is not field and field.shares_bits(each)]
    return any(names and told.isdisjoint(names) for names in apart)


def left_open(found: Comparison, kept: Comparison) -> list[Field | Counter]:
    """The fields and counters of a comparison that are not among what is kept of it."""
    taken = {*map(named, kept.fields), *map(named, kept.counters)}
    each: list[Field | Counter] = [*found.fields, *found.counters]
    return [finding for finding in each if named(finding) not in taken]


def without(found: Comparison, dismissed: Set[str]) -> Comparison:
    """The comparison without findings (``named``) that nobody believes; of a field, the next best is taken."""
    fields = [field for each in found.fields if (field := _believed(each, dismissed)) is not None]
    checks = [check for check in found.checks if named(check) not in dismissed]
    counters = [counter for counter in found.counters if named(counter) not in dismissed]
    return _comparison(found.stack, fields, checks, counters)


def _comparison(
    stack: Stack, fields: Sequence[Field], checks: Sequence[Found], counters: Sequence[Counter]
) -> Comparison:
    """What is left of the findings, and what they leave unexplained."""
    accounted = set(_columns([*fields, *checks, *counters]))
    unexplained = tuple(column for column in stack.varying.tolist() if column not in accounted)
    return Comparison(stack, tuple(fields), tuple(checks), tuple(counters), unexplained)


def _believed(field: Field, dismissed: Set[str]) -> Field | None:
    left = [each for each in (field, *field.others) if named(each) not in dismissed]
    return replace(left[0], others=tuple(left[1:])) if left else None


SURELY_SET = -4.0  # log10 of the chance that columns of a check say a label by accident

# What is looked for, one after the other.
STAGES = (
    "copies", "sums", "CRCs", "running checks", "checks over selections", "what labels say", "counters", "digests",
)  # fmt: skip


def compare(stack: Stack, tell: Callable[[str], None] = lambda _: None) -> Comparison:
    """Find fields, checks and counters. ``tell`` hears which of the stages begins."""
    copies = find_copies(stack)
    if said_again := twins(copies):
        alone, columns = bytes_alone(_undamaged(stack, said_again), said_again)
        return _of_frame(compare(alone, tell), stack, said_again, columns)
    set_by_hand = np.zeros(stack.columns, np.bool_)
    found = _search(stack, copies, tell, set_by_hand)
    while (labelled := _labelled_checks(found) & ~set_by_hand).any():
        set_by_hand |= labelled
        found = _search(stack, copies, tell, set_by_hand)
    return found


def _of_frame(found: Comparison, stack: Stack, said_again: Sequence[Found], columns: NDArray[np.intp]) -> Comparison:
    """What was found in the bytes alone, among all those of the frame."""
    return Comparison(
        stack,
        tuple(field_of_frame(field, columns) for field in found.fields),
        (*said_again, *(check_of_frame(check, columns) for check in found.checks)),
        tuple(counter_of_frame(counter, columns) for counter in found.counters),
        tuple(columns[list(found.unexplained)].tolist()),
    )


def _labelled_checks(found: Comparison) -> NDArray[np.bool_]:
    """The columns of checks that are what somebody set: a check is an equation, and was solved for the wrong number,
    or what is only set in steps has an arithmetic of its own, as the digits of multiples of 15 have.
    """
    at = np.zeros(found.stack.columns, np.bool_)
    plain = {f.name for f in found.fields if _is_plain(f.map) and _says_all(f, found.stack)}
    silent = {name: found.stack.labels[name] for name in found.stack.labels.keys() - plain}
    if silent and found.checks:
        stack = Stack(found.stack.bits, silent, found.stack.sections)
        in_checks = {column for check in found.checks if check.kind != "copy" for column in check.positions}
        own = _columns([field for field in found.fields if field.name in silent])
        others = np.setdiff1d(np.arange(stack.columns), [*in_checks, *own, *found.unexplained]).tolist()
        for field in find_fields(stack, others):
            set_by_hand = field.chance < SURELY_SET and not in_checks.isdisjoint(field.positions)
            at[list(field.positions)] |= set_by_hand and not field.when
    if at.any():  # the equation is not to be solved for the next label's number
        at[_columns([f for f in found.fields if f.name in plain and f.chance < SURELY_SET and f.holds.all()])] = True
    return at


def _says_all(field: Field, stack: Stack) -> bool:
    """Whether a field says its label wherever that is known, be it in messages of one kind only."""
    return not field.when or field.looked_at.size == sum(value is not None for value in stack.labels[field.name])


def _is_plain(found: Linear | Table) -> bool:
    """Whether a label is a number said exactly, or a word."""
    if isinstance(found, Linear):
        return found.decimals is None
    return any(isinstance(word, str) for word in found.words.values())


def _search(
    stack: Stack, copies: Sequence[Found], tell: Callable[[str], None], no_checks: NDArray[np.bool_]
) -> Comparison:
    """One search beside the ``copies`` that there are; no check stands in the columns of ``no_checks``."""
    stages = iter(STAGES)
    tell(next(stages))
    free = stack.varies & ~no_checks
    # A nibble may be another's copy only because a byte's check comes out so beside what never changed.
    nibbles = [each for each in copies if len(each.positions) == NIBBLE]
    checks = [each for each in copies if len(each.positions) > NIBBLE]
    _take(free, checks)
    tell(next(stages))
    sums = [
        by_modulus(each, stack.bits)
        for each in find_sums(stack, free, checks)
        if len(each.positions) > NIBBLE or not _within(each, nibbles)
    ]
    _take(free, sums)
    tell(next(stages))
    crcs = find_crcs(stack, free, (*checks, *sums))
    _take(free, crcs)
    tell(next(stages))
    running = find_running(stack, free, (*checks, *sums, *crcs))
    _take(free, running)
    whole = [each for each in (*checks, *sums, *crcs, *running) if len(each.positions) > NIBBLE]
    open_still = stack.varies & ~no_checks
    _take(open_still, whole)
    seeded = find_seeded(stack, open_still, whole)
    _take(free, seeded)
    sums, running = ([each for each in some if not _within(each, seeded)] for some in (sums, running))
    crcs += running + seeded
    checks += [each for each in nibbles if not _within(each, [*sums, *crcs])]
    _take(free, checks)
    told = {column for crc in crcs for column in crc.positions}
    checks += [each for each in sums if not told.issuperset(each.positions)] + crcs
    tell(next(stages))
    scattered = find_scattered(stack, free, checks)
    _take(free, scattered)
    checks += scattered
    tell(next(stages))
    free |= stack.varies & no_checks
    fields = find_fields(_undamaged(stack, checks), np.flatnonzero(~free).tolist(), _lowest_first(checks))
    _take(free, fields)
    of_fields = find_over_fields(stack, free, fields, checks)
    _take(free, of_fields)
    checks += of_fields
    tell(next(stages))
    counters = find_counters(stack, free)
    _take(free, counters)
    parities = [found for found in find_parities(stack, free) if not _follows(found, checks)]
    checks += parities
    _take(free, parities)
    tell(next(stages))
    apart = np.zeros(stack.columns, np.bool_)
    apart[_columns(checks)] = True
    digests = find_digests(stack, free, apart)
    checks += digests
    _take(free, digests)
    fields = with_what_follows(fields, stack, free, _failing(stack, checks) if checks else None)
    _take(free, fields)
    rolling = find_rolling(stack, free, _columns([*checks, *counters]))
    _take(free, rolling)
    ids = find_ids(stack, free)
    _take(free, ids)
    counters += rolling + ids
    return Comparison(stack, tuple(fields), tuple(checks), tuple(counters), tuple(np.flatnonzero(free).tolist()))


def _undamaged(stack: Stack, checks: Sequence[Found]) -> Stack:
    """The stack without the labels of frames that fail a check: their bits bear no witness of what was set."""
    failing = _failing(stack, checks).tolist()
    labels = {
        name: tuple(None if bad else value for value, bad in zip(values, failing, strict=True))
        for name, values in stack.labels.items()
    }
    return Stack(stack.bits, labels, stack.sections)


def _failing(stack: Stack, checks: Sequence[Found]) -> NDArray[np.bool_]:
    """The rows that fail a check."""
    failing = np.zeros(stack.rows, np.bool_)
    for check in checks:
        failing |= ~check.holds
    return failing


def _columns(findings: Sequence[Finding]) -> list[int]:
    return [column for finding in findings for column in finding.positions]


def _within(finding: Finding, others: Sequence[Finding]) -> bool:
    """Whether a finding's bits are among another's."""
    return any(set(finding.positions) <= set(other.positions) for other in others)


def _lowest_first(checks: Sequence[Found]) -> bool:
    """Which bit of a number the checks say is sent first, where their order matters."""
    said = [
        check.check.reflect_in if check.kind == "crc" else check.check.order == "lsb"
        for check in checks
        if check.kind == "crc" or (check.kind == "sum" and not check.check.carry)
    ]
    return not said or sum(said) * 2 >= len(said)


def _follows(parity: Found, checks: Sequence[Found]) -> bool:
    """Whether a parity is only what a known check says: it goes over the check's bits, and the check over its own."""
    covered, at = covers(parity), parity.positions[0]
    return any(at in covers(check) and covered & set(check.positions) for check in checks)


def covers(check: Found) -> set[int]:
    """The columns that a check is taken over."""
    return {column for first, last in check.covers for column in range(first, last + 1)}


def _take(free: NDArray[np.bool_], findings: Sequence[Finding]) -> None:
    free[_columns(findings)] = False
