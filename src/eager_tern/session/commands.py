"""What can be done, as data: menus, shortcuts, the tour and the page of keys all come from it."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from msgspec import Struct

from eager_tern.session.events import Event


def _always() -> bool:
    return True


class Command(Struct, frozen=True):
    """``words`` are those of a menu, with ``&`` before the letter that chooses it; ``key`` is a shortcut in Qt's
    portable spelling. ``checked`` is there for what is on or off; ``told`` gives other words while the program runs.
    """

    id: str
    words: str
    act: Callable[[], object]
    key: str = ""
    enabled: Callable[[], bool] = _always
    checked: Callable[[], bool] | None = None
    told: Callable[[], str] | None = None

    @property
    def text(self) -> str:
        """Its words as they are now."""
        return self.told() if self.told is not None else self.words

    @property
    def plain(self) -> str:
        """Its words without what belongs to a menu."""
        return self.words.replace("&", "").removesuffix(" …")


class Commands:
    """All commands by their ids, in the order in which they were added."""

    def __init__(self) -> None:
        self.done: Event[[str]] = Event()  # by its id: also where nothing but its state has changed
        self._all: dict[str, Command] = {}

    def add(self, *commands: Command) -> None:
        for command in commands:
            assert command.id not in self._all, command.id
            self._all[command.id] = command

    def __getitem__(self, command_id: str) -> Command:
        return self._all[command_id]

    def __iter__(self) -> Iterator[Command]:
        return iter(self._all.values())

    def do(self, command_id: str) -> None:
        """Do it, if it can be done now."""
        command = self._all[command_id]
        if command.enabled():
            command.act()
        self.done.emit(command_id)
