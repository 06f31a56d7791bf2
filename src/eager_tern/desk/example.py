"""The example casebook, made in a process of its own at the first call: that takes some seconds."""

from __future__ import annotations

from multiprocessing.connection import Connection
from pathlib import Path

from eager_tern.desk.child import child_process
from eager_tern.desk.document import breathe
from eager_tern.errors import InputError

LOOK_S = 0.03


def example_into(answer: Connection, for_tour: bool) -> None:
    """The process's work: the casebook's path, or what went wrong."""
    from eager_tern.demo.place import demo_casebook_path, tour_casebook_path

    try:
        answer.send(tour_casebook_path() if for_tour else demo_casebook_path())
    except InputError as error:
        answer.send(error)


def example_casebook(for_tour: bool) -> Path:
    """The path of the example, or of a new copy for the tour; the window draws itself meanwhile. Raises InputError."""
    with child_process(example_into, for_tour) as answers:
        while not answers.poll(LOOK_S):
            breathe()
        try:
            made = answers.recv()
        except EOFError:
            made = InputError(Path("the example"), "could not be made: the process at work on it has ended; try again")
    if isinstance(made, InputError):
        raise made
    return Path(made)
