"""The best set of explanations that do not overlap."""

from __future__ import annotations

from itertools import combinations, pairwise

from hypothesis import given
from hypothesis import strategies as st

from eager_tern.protocol.arbiter import Candidate, best_set

SPANS = st.tuples(st.integers(0, 20), st.integers(0, 8), st.integers(-5, 30))


@given(st.lists(SPANS, max_size=9))
def test_no_other_set_explains_more(spans: list[tuple[int, int, int]]) -> None:
    candidates = [Candidate(2 * first, 2 * (first + length), (), float(worth)) for first, length, worth in spans]
    chosen = best_set(candidates)
    assert all(a.last < b.first for a, b in pairwise(chosen))
    sets = [
        some
        for count in range(len(candidates) + 1)
        for some in combinations(candidates, count)
        if all(a.last < b.first or b.last < a.first for a, b in combinations(some, 2))
    ]
    assert sum(c.evidence for c in chosen) == max(sum(c.evidence for c in some) for some in sets)
