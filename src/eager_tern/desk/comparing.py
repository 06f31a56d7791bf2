"""Comparing in a process of its own: the searches keep a processor busy, and the window stays quick."""

from __future__ import annotations

from contextlib import suppress
from multiprocessing.connection import Connection

from PyQt6.QtCore import QCoreApplication, QThread, pyqtSignal

from eager_tern.compare.comparison import compare, without
from eager_tern.compare.proof import prove
from eager_tern.compare.stack import Stack
from eager_tern.desk.child import child_process

LOOK_S = 0.05


def compare_into(answer: Connection, stack: Stack, dismissed: frozenset[str]) -> None:
    """The process's work: what is found, then how well it predicts."""
    found = without(compare(stack), dismissed)
    answer.send(found)
    answer.send(prove(found, dismissed=dismissed))


class Comparing(QThread):
    """Compares one stack, and leaves out what was dismissed."""

    found = pyqtSignal(object)  # Comparison
    proved = pyqtSignal(object)  # Proof

    def __init__(self, stack: Stack, dismissed: frozenset[str]) -> None:
        super().__init__()
        self._stack, self._dismissed = stack, dismissed
        self._stopping = False

    def run(self) -> None:
        with child_process(compare_into, self._stack, self._dismissed) as answers, suppress(EOFError):
            for signal in (self.found, self.proved):
                while not answers.poll(LOOK_S):
                    if self._stopping:
                        return
                signal.emit(answers.recv())

    def give_up(self) -> None:
        """Nothing more is wanted: it ends by itself, the application's own until then, and nobody waits for that."""
        self.found.disconnect()
        self.proved.disconnect()
        self.setParent(QCoreApplication.instance())
        self.finished.connect(self.deleteLater)
        self._stopping = True
        if self.isFinished():
            self.deleteLater()


def wait_for_ending() -> None:
    """Wait for what was given up and still runs."""
    app = QCoreApplication.instance()
    for each in app.findChildren(Comparing) if app is not None else ():
        each.wait()
