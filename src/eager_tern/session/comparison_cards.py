"""What a comparison found, as cards."""

from __future__ import annotations

from eager_tern.compare.comparison import Comparison
from eager_tern.compare.wording import Sentences, all_findings
from eager_tern.session.cards import Card, Status


def cards_for_comparison(found: Comparison, names: list[str]) -> list[Card]:
    """A card for each finding, and one for what is left; ``names`` are what rows are called."""
    return [_card(each) for each in all_findings(found, names)]


def _card(told: Sentences) -> Card:
    status: Status = "proven" if told.sure else "uncertain"
    return Card(told.title, told.text, status, why=told.chance, finding=told.finding)
