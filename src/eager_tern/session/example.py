"""The example casebook, made in a process of its own at the first call: that takes some seconds."""

from __future__ import annotations

from collections.abc import Callable
from multiprocessing.connection import Connection
from pathlib import Path

from eager_tern.child import Child
from eager_tern.errors import InputError
from eager_tern.session.inbox import Inbox

ENDED = "could not be made: the process at work on it has ended; try again"


def serve(connection: Connection) -> None:
    """The process's work: the casebook's path, or what went wrong."""
    from eager_tern.demo.place import demo_casebook_path, tour_casebook_path

    for_tour: bool = connection.recv()
    try:
        connection.send(tour_casebook_path() if for_tour else demo_casebook_path())
    except InputError as error:
        connection.send((error.source, error.reason, error.place))


def make_example(inbox: Inbox, for_tour: bool, then: Callable[[Path | InputError], None]) -> None:
    """Have the example made, or a new copy of it for the tour; ``then`` gets its path, or what went wrong."""
    child = Child(serve)
    child.connection.send(for_tour)

    def receive() -> Path | InputError:
        try:
            made = child.connection.recv()
        except (EOFError, OSError):
            return InputError("the example", ENDED)
        finally:
            child.end()
        return made if isinstance(made, Path) else InputError(*made)

    inbox.in_thread(
        receive, lambda made: then(made if not isinstance(made, Exception) else InputError("the example", ENDED))
    )
