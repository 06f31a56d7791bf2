"""What a panel of takes at their worst is read as, held against what was measured before."""

from __future__ import annotations

import pytest

from benches.baseline import held_score
from benches.panel import missed


@pytest.fixture(scope="module")
def scores() -> dict[str, float]:
    return missed()


@pytest.mark.parametrize(
    "kind",
    ["known", "strangers", "characters", "chatter", "nothing sent", "damaged", "bad days", "levels", "states", "many"],
)
def test_the_panel(scores: dict[str, float], kind: str) -> None:
    held_score(f"panel, {kind}", scores[kind])
