"""The comparison of the open gadget's frames: what is stacked, what was found about it, how well that predicts.

It looks at presses and labels by itself: where they change, what was found is stale, and is searched anew.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from eager_tern.casebook.changes import Dismiss, KeepSheet
from eager_tern.casebook.shots import Shot
from eager_tern.casebook.stacks import KEY, Cut, cuts_of, stack_of
from eager_tern.casebook.values import Caught
from eager_tern.child import Child
from eager_tern.compare.asking import Wanted, next_shots, said_in_full
from eager_tern.compare.comparison import Comparison, accepting, left_open, settled, without
from eager_tern.compare.field import Field
from eager_tern.compare.proof import Part, Proof, prove, unproved
from eager_tern.compare.search_process import Stage, serve
from eager_tern.compare.stack import Stack, label_word
from eager_tern.compare.trial import on_trial
from eager_tern.compare.writing import LINE_FRAMES, drafted
from eager_tern.protocol.draft import Draft
from eager_tern.session.events import Event
from eager_tern.session.session import Session
from eager_tern.texts import tr

FEWEST = 4  # frames of which something can be found out
NO_LINE = tr("The frames do not show a line code that a sheet could describe.")


class ComparisonModel:
    """``stack`` are the frames compared, ``rows`` the presses that they belong to, ``apart`` those set apart."""

    def __init__(self, session: Session) -> None:
        self.changed: Event[[]] = Event()  # other frames, labels or findings
        self.progressed: Event[[]] = Event()  # a search looks for something else now
        self.stack = Stack(np.zeros((0, 0), np.uint8))
        self.rows: list[Caught] = []
        self.apart: list[Caught] = []
        self.cuts: list[Cut] = []
        self.cut: Cut | None = None
        self.comparison: Comparison | None = None
        self.proof: Proof | None = None
        self.stage: Stage | None = None  # of the search that is going on
        self.verdicts: frozenset[str] = frozenset()
        self._found: Comparison | None = None  # before anything was dismissed
        self._parts: tuple[Part, ...] | None = None
        self._kept: tuple[Comparison, str, str] | None = None  # what was made a sheet last, its id and its text
        self._session = session
        self._child: Child | None = None
        self._of_gadget: int | None = None
        self._watched = False
        self._wanted = False  # whether somebody has asked for a search of this gadget's frames
        session.opened.connect(self._look_again)
        session.presses_changed.connect(self._look_again)
        session.press_changed.when(self._look_again)
        session.presses_added.when(self._look_again)
        session.changed.connect(self._after)

    @property
    def searching(self) -> bool:
        return self._child is not None

    @property
    def whole(self) -> bool:
        """Whether whole frames are stacked, which a sheet can describe."""
        return self.cut is None or self.cut.section is None

    def watch(self, on: bool) -> None:
        """Somebody looks at the frames, or no longer: then only what a search was asked for is looked at anew."""
        self._watched = on
        if on:
            self.refresh()

    def _look_again(self) -> None:
        if self._watched or self._wanted:
            self.refresh()

    def refresh(self) -> None:
        """Look at the gadget's presses anew; what was found about others, or under other labels, is searched anew."""
        presses = self._session.shown_presses()
        self.cuts = cuts_of(presses)
        self.cut = self.cut if self.cut in self.cuts else next(iter(self.cuts), None)
        stack, self.rows, self.apart = stack_of(presses, self.cut)
        gadget = self._session.gadget.id if self._session.gadget is not None else None
        verdicts = self._session.dismissed()
        stale = gadget != self._of_gadget or not _same(self.stack, stack)
        judged = verdicts != self.verdicts and not stale
        if gadget != self._of_gadget:
            self._wanted = False
        self.stack, self.verdicts, self._of_gadget = stack, verdicts, gadget
        if judged and self._found is not None:
            self._weigh()
        elif stale and self._wanted and self.comparison is not None and _alike(self.comparison.stack, stack):
            self.search(keep=True)
        elif stale:
            self._drop()
            if self._wanted:
                self.search()
        self.changed.emit()

    def take_cut(self, cut: Cut) -> None:
        """Stack other frames, or another section of them."""
        self.cut = cut
        self.refresh()

    def search(self, keep: bool = False) -> None:
        """Begin the search; what is found comes by itself. ``keep``: what was found before stays until then."""
        self.stop()
        self.proof = self._found = self._parts = None
        self.comparison = self.comparison if keep else None
        self._wanted = True
        if self.stack.rows < FEWEST:
            return
        child = self._child = Child(serve)
        child.connection.send(self.stack)
        self._receive(child, self._heard)
        self.changed.emit()

    def stop(self) -> None:
        """Give a search up."""
        if self._child is not None:
            child, self._child = self._child, None
            self._session.inbox.in_thread(child.end, lambda _: None)

    def give_up(self) -> None:
        """End a search that somebody does not want to wait for; what was found stays."""
        self.stop()
        self._wanted = False
        self.changed.emit()

    def _receive(self, child: Child, then: Callable[[object], None]) -> None:
        def receive() -> object:
            try:
                return child.connection.recv()
            except (EOFError, OSError):
                return None

        self._session.inbox.in_thread(receive, lambda got: then(got) if child is self._child else None)

    def _heard(self, said: object) -> None:
        """What the searching process says, one thing after the other."""
        assert self._child is not None
        if isinstance(said, Stage):
            self.stage = said
            self._receive(self._child, self._heard)
            self.progressed.emit()
        elif isinstance(said, Comparison):
            self.stage, self._found, self._parts = None, said, None
            self._receive(self._child, self._heard)
            self._weigh()
            self.changed.emit()
        elif isinstance(said, tuple):
            self.stage, self._parts = None, said
            self.stop()
            self._weigh()
        else:
            self._failed()

    def _weigh(self) -> None:
        """What was found, without what is dismissed, and how well that predicts; no search is needed for that."""
        found, parts, verdicts = self._found, self._parts, self.verdicts
        assert found is not None
        self.comparison, self.proof = without(found, verdicts), None
        if parts is None:
            return
        comparison = self.comparison

        def take(proof: Proof | Exception) -> None:
            if comparison is not self.comparison:
                return
            if isinstance(proof, Exception):
                self._failed()
                return
            self.proof = proof
            self.changed.emit()

        self._session.inbox.in_thread(lambda: prove(comparison, parts, verdicts), take)

    def _failed(self) -> None:
        self.stop()
        self._session.troubled.emit(tr("The search has ended before it found anything; begin it again."))
        self.changed.emit()

    def _drop(self) -> None:
        self.stop()
        self.comparison = self.proof = self._found = self._parts = None

    def _after(self, change: object) -> None:
        if isinstance(change, Dismiss):
            self.refresh()

    # What is done with what was found

    def dismiss(self, finding: str) -> None:
        """Leave a finding out, and look what follows without it."""
        self._judge((self.verdicts - {accepting(finding)}) | {finding})

    def accept(self, finding: str) -> None:
        """Believe a finding that is only possible: it enters the sheet."""
        self._judge(self.verdicts | {accepting(finding)})

    def bring_back(self) -> None:
        """Believe again what was dismissed."""
        self._judge(self.verdicts - self.dismissed)

    @property
    def dismissed(self) -> frozenset[str]:
        """The findings that are not believed."""
        return frozenset(verdict for verdict in self.verdicts if not verdict.startswith(accepting("")))

    def _judge(self, verdicts: frozenset[str]) -> None:
        if self._session.gadget is not None:
            self._session.change(Dismiss(self._session.gadget.id, verdicts))

    @property
    def left_out(self) -> list[str]:
        """The labels whose fields are possible and were not accepted: no frame is made of them."""
        if self.comparison is None:
            return []
        left = left_open(self.comparison, settled(self.comparison, self.verdicts))
        return [each.name for each in left if isinstance(each, Field)]

    @property
    def wanted_shots(self) -> list[Wanted]:
        """The presses that would settle the most."""
        return next_shots(self.comparison) if self.comparison is not None else []

    def planned_shots(self) -> list[Shot]:
        """The same as shots of a list, each with all its labels."""
        if self.comparison is None:
            return []
        said = said_in_full(self.wanted_shots, self.comparison.stack)
        pairs = [((name, label_word(value)) for name, value in labels.items()) for labels in said]
        return [Shot(tuple(("" if name == KEY else name, word) for name, word in labels)) for labels in pairs]

    def keep_sheet(self) -> None:
        """What was found becomes the gadget's sheet; everything is read again with it."""
        gadget, draft = self._session.gadget, self.draft()
        if draft is not None and gadget is not None and self.comparison is not None:
            frames = [self._session.frame(press) for press in self.rows]
            names = [press.label or tr("press {number}", number=row + 1) for row, press in enumerate(self.rows)]
            reasons = on_trial(draft.sheet, settled(self.comparison, self.verdicts), frames, names)
            if reasons:
                words = ". ".join(reasons)
                self._session.troubled.emit(
                    tr("The sheet is kept, but it fails frames it came from. {words}.", words=words)
                )
            self._kept = self.comparison, draft.sheet.id, draft.text
            self._session.change(KeepSheet(gadget.id, draft.sheet.id, draft.text))

    @property
    def is_kept(self) -> bool:
        """Whether the gadget's sheet says what is found now."""
        if self._kept is None:
            return False
        comparison, sheet_id, text = self._kept
        return comparison is self.comparison and self._session.own_sheets().get(sheet_id) == text

    @property
    def unproved(self) -> list[str]:
        """What no press has shown yet."""
        return unproved(self.comparison) if self.comparison is not None else []

    def draft(self) -> Draft | None:
        """What was found, as a sheet; None, and told, where no line code is clear."""
        gadget = self._session.gadget
        if self.comparison is None or gadget is None:
            return None
        frames = [self._session.frame(press) for press in self.rows[:LINE_FRAMES]]
        draft = drafted(settled(self.comparison, self.verdicts), frames, gadget.name)
        if draft is None:
            self._session.troubled.emit(NO_LINE)
        return draft


def _alike(stack: Stack, other: Stack) -> bool:
    """Whether findings about one can be shown beside the other until it is searched: the same frames."""
    return np.array_equal(stack.bits, other.bits)


def _same(stack: Stack, other: Stack) -> bool:
    return np.array_equal(stack.bits, other.bits) and dict(stack.labels) == dict(other.labels)
