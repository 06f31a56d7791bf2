"""A process of its own for work that keeps a processor busy: the window stays quick, and stopping stops at once."""

from __future__ import annotations

import multiprocessing
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from multiprocessing.connection import Connection


@contextmanager
def child_process(work: Callable[..., None], *given: object) -> Iterator[Connection]:
    """What a process answers that does ``work(answer, *given)``; behind the block it is ended, whatever it does."""
    spawn = multiprocessing.get_context("spawn")
    answers, answer = spawn.Pipe(duplex=False)
    process = spawn.Process(target=work, args=(answer, *given), daemon=True)
    process.start()
    answer.close()
    try:
        yield answers
    finally:
        process.terminate()
        process.join()
        answers.close()
