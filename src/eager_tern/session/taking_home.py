"""What the open gadget can become: made elsewhere, kept until the gadget changes."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path

from eager_tern.casebook.store import Casebook
from eager_tern.errors import InputError
from eager_tern.export.payloads import USUAL
from eager_tern.export.subject import Subject, of_gadget
from eager_tern.export.writing import KINDS, Files, Kind, cannot, files_of, write_out
from eager_tern.session.events import Event
from eager_tern.session.session import Session
from eager_tern.texts import tr


class TakingHome:
    """The files of each kind, made when they are first asked for."""

    def __init__(self, session: Session) -> None:
        self.changed: Event[[]] = Event()
        self.subject: Subject | None = None
        self.template = USUAL
        self._session = session
        self._files: dict[str, Files] = {}
        self._troubles: dict[str, str] = {}  # by kind; the gadget's own under ""
        self._asked: set[str] = set()
        self._round = 0

    def refresh(self) -> None:
        """Look at the gadget anew."""
        self._round += 1
        self.subject = None
        self._files.clear()
        self._troubles.clear()
        self._asked.clear()
        book, gadget = self._session.casebook, self._session.gadget
        if book is None or gadget is None:
            return
        path, this = book.path, self._round

        def look() -> Subject:
            with closing(Casebook.open(path, read_only=True)) as casebook:
                return of_gadget(casebook, gadget)

        def seen(found: Subject | Exception) -> None:
            if this != self._round:
                return
            if isinstance(found, Exception):
                self._troubles[""] = str(found)
            else:
                self.subject = found
            self.changed.emit()

        self._session.inbox.in_thread(look, seen)

    def reason(self, kind: Kind) -> str:
        """Why the gadget cannot become something; empty where it can, or where that is not known yet."""
        return cannot(self.subject, kind) if self.subject is not None else ""

    def trouble(self, kind: Kind) -> str:
        """What went wrong in making a kind's files, or in looking at the gadget."""
        return self._troubles.get(kind.id) or self._troubles.get("", "")

    def files(self, kind: Kind) -> Files | None:
        """What a kind's files would hold; None while they are being made."""
        if kind.id not in self._files and kind.id not in self._asked and self.subject is not None:
            self._make(kind, self.subject)
        return self._files.get(kind.id)

    def use_template(self, template: str) -> None:
        """Payloads by another template."""
        self.template = template
        self._troubles.pop("payloads", None)
        self._files.pop("payloads", None)
        self._asked.discard("payloads")
        self.changed.emit()

    def _make(self, kind: Kind, subject: Subject) -> None:
        self._asked.add(kind.id)
        this, template = self._round, self.template

        def made(found: Files | Exception) -> None:
            if this != self._round or template != self.template:
                return
            if isinstance(found, Exception):
                self._troubles[kind.id] = str(found)
            else:
                self._files[kind.id] = found
            self.changed.emit()

        self._session.inbox.in_thread(lambda: files_of(subject, kind, template), made)

    def write(self, kinds: list[Kind], folder: Path) -> list[str]:
        """Write kinds into a folder; the files' names. Raises InputError."""
        if self.subject is None:
            raise InputError(folder, tr("is not written to: the gadget is still being looked at"))
        return write_out(self.subject, kinds, folder, self.template)

    @property
    def possible(self) -> list[Kind]:
        """The kinds that the gadget can become."""
        return [kind for kind in KINDS.values() if self.subject is not None and not self.reason(kind)]
