"""Bits that follow a word: what a check makes of it, where too few words were pressed to tell which check."""

from __future__ import annotations

from collections.abc import Sequence
from math import comb, log10

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.compare.checks import damaged
from eager_tern.compare.evidence import SURE, turns
from eager_tern.compare.field import Field, Table
from eager_tern.compare.stack import Stack, raw_numbers, runs_of


def with_what_follows(
    fields: Sequence[Field], stack: Stack, free: NDArray[np.bool_], damaged_rows: NDArray[np.bool_] | None
) -> list[Field]:
    """The fields, those of words with the columns that follow the word in every row but ``damaged_rows``: those that
    fail a check, or a few where no check tells (None). ``free`` are the columns that nothing accounts for.
    """
    whole = stack if damaged_rows is None else stack.of_rows(np.flatnonzero(~damaged_rows).tolist())
    spared = damaged(stack.rows) if damaged_rows is None else 0
    out, left = [], free.copy()
    for field in fields:
        more = _following(field, whole, np.flatnonzero(left), spared)
        left[list(more)] = False
        out.append(_widened(field, stack, more) if more else field)
    return out


def _following(field: Field, stack: Stack, columns: NDArray[np.intp], spared: int) -> tuple[int, ...]:
    """The columns that say the same with each word in all rows but ``spared``: surely no accident, they and those
    beside them.
    """
    if not isinstance(field.map, Table) or field.map.ruled or field.when or not columns.size:
        return ()
    raw = raw_numbers(stack.bits, field.positions)
    known = np.isin(raw, list(field.map.words))
    ones = np.array([stack.bits[raw == number][:, columns].sum(axis=0, dtype=np.intp) for number in field.map.words])
    counts = np.array([np.count_nonzero(raw == number) for number in field.map.words])[:, None]
    wrong = np.minimum(ones, counts - ones).sum(axis=0) + np.count_nonzero(~known)
    # Whatever it says with each of the words, it follows them: so many ways there are to do so.
    ways = len(field.map.words) * log10(2)
    found: list[int] = []
    slips = {c: log10(comb(stack.rows, n)) for c, n in zip(columns.tolist(), wrong.tolist(), strict=True)}
    for run in runs_of(columns[wrong <= spared].tolist()):
        said = sum(turns(stack.bits[:, column]) - ways - slips[column] for column in run.tolist())
        found += run.tolist() if log10(columns.size) - said <= SURE else []
    return tuple(found)


def _widened(field: Field, stack: Stack, more: tuple[int, ...]) -> Field:
    """A field of words over more columns, which become its highest bits."""
    assert isinstance(field.map, Table)
    wide, narrow = (raw_numbers(stack.bits, run) for run in ((*more, *field.positions), field.positions))
    usual = {int(np.bincount(wide[narrow == number]).argmax()): word for number, word in field.map.words.items()}
    return replace(field, positions=(*more, *field.positions), map=Table(usual))
