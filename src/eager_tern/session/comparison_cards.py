"""What a comparison found, as cards."""

from __future__ import annotations

from collections.abc import Set

from eager_tern.compare.comparison import Comparison, accepting
from eager_tern.compare.wording import Sentences, all_findings
from eager_tern.session.cards import Card, Status
from eager_tern.texts import tr


def cards_for_comparison(found: Comparison, names: list[str], verdicts: Set[str] = frozenset()) -> list[Card]:
    """A card for each finding, and one for what is left: what is proven or accepted first, then what is possible.

    ``names`` are what rows are called.
    """
    cards = [_card(each, verdicts) for each in all_findings(found, names)]
    return sorted(cards, key=lambda card: bool(card.accept))


def _card(told: Sentences, verdicts: Set[str]) -> Card:
    accepted = accepting(told.finding) in verdicts
    status: Status = "proven" if told.sure else "uncertain"
    aside = tr("accepted by you") if accepted else tr("possible: not in the sheet") if told.possible else ""
    accept = told.finding if told.possible and not accepted else ""
    return Card(told.title, told.text, status, aside, told.chance, finding=told.finding, accept=accept)
