"""Bits that follow a word: what a check makes of it, where too few words were pressed to tell which check."""

from __future__ import annotations

from collections.abc import Sequence
from math import comb, log10

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.compare.checks import damaged
from eager_tern.compare.evidence import SURE, turns
from eager_tern.compare.fields import Field, Table
from eager_tern.compare.stack import Stack, raw_numbers


def with_what_follows(fields: Sequence[Field], stack: Stack, free: NDArray[np.bool_]) -> list[Field]:
    """The fields, those of words with the columns that follow the word in every row. ``free`` are the columns that
    nothing accounts for.
    """
    out, left = [], free.copy()
    for field in fields:
        more = _following(field, stack, np.flatnonzero(left))
        left[list(more)] = False
        out.append(_widened(field, stack, more) if more else field)
    return out


def _following(field: Field, stack: Stack, columns: NDArray[np.intp]) -> tuple[int, ...]:
    """The columns that say the same with each word, but where a frame is damaged: surely no accident."""
    if not isinstance(field.map, Table) or field.map.ruled or field.when or not columns.size:
        return ()
    raw = raw_numbers(stack.bits, field.positions)
    known = np.isin(raw, list(field.map.words))
    ones = np.array([stack.bits[raw == number][:, columns].sum(axis=0, dtype=np.intp) for number in field.map.words])
    counts = np.array([np.count_nonzero(raw == number) for number in field.map.words])[:, None]
    wrong = np.minimum(ones, counts - ones).sum(axis=0) + np.count_nonzero(~known)
    odds = [log10(columns.size * comb(stack.rows, n)) for n in wrong.tolist()]
    said = np.array([turns(stack.bits[:, c]) for c in columns.tolist()])
    return tuple(columns[(wrong <= damaged(stack.rows)) & (np.array(odds) - said <= SURE)].tolist())


def _widened(field: Field, stack: Stack, more: tuple[int, ...]) -> Field:
    """A field of words over more columns, which become its highest bits."""
    assert isinstance(field.map, Table)
    wide, narrow = (raw_numbers(stack.bits, run) for run in ((*more, *field.positions), field.positions))
    usual = {int(np.bincount(wide[narrow == number]).argmax()): word for number, word in field.map.words.items()}
    return replace(field, positions=(*more, *field.positions), map=Table(usual))
