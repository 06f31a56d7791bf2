"""A casebook that is written while a take comes in: its disk may refuse for a while, and nothing is lost by it."""

from __future__ import annotations

import time
from collections.abc import Callable

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import PassageRead
from eager_tern.errors import InputError
from eager_tern.intake.news import News, PressesRead, Trouble

RETRY_S = 1.0  # how often a disk that refused is asked again
TOLD_TOGETHER = 200  # presses in one piece of news: a window takes them in within some ten milliseconds


class ToDisk:
    """Writes into ``book``; ``tell`` hears what was written, and what could not be. With ``closing`` nothing is put
    off any more.
    """

    def __init__(self, book: Casebook, tell: Callable[[News], None]) -> None:
        self.book = book
        self.tell = tell
        self.closing = False
        self._refused_at: float | None = None

    def takes(self, write: Callable[[], object]) -> bool:
        """Whether the disk takes something. Where it does not, that is said once, and it is tried again later."""
        now = time.monotonic()
        if self._refused_at is not None and now - self._refused_at < RETRY_S and not self.closing:
            return False
        try:
            write()
        except InputError as error:
            if self._refused_at is None:
                self.tell(Trouble(f"{error}; what is recorded meanwhile is kept in memory and written when it can be"))
            self._refused_at = now
            return False
        if self._refused_at is not None:
            self._refused_at = None
            self.tell(Trouble(f"{self.book.path.name} can be written again; nothing was lost."))
        return True

    def keep_passage(self, take_id: int, gadget_id: int, passage: PassageRead, live: bool) -> int:
        """Keep what was read, and tell it a few hundred presses at a time. Gives how many presses are in it."""
        changed = self.book.put_passage(take_id, passage)
        for at in range(0, len(changed), TOLD_TOGETHER):
            self.tell(PressesRead(take_id, gadget_id, tuple(changed[at : at + TOLD_TOGETHER]), live))
        return len(passage.presses)
