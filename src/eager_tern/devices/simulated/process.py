"""The stand-in recorder as a process of its own, as the application sees it: a serial port and someone at the keys."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Sequence
from dataclasses import dataclass

from eager_tern.errors import InputError


@dataclass
class StandInProcess:
    """A running stand-in. ``device`` is its serial port."""

    device: str
    _process: subprocess.Popen[str]

    @classmethod
    def start(cls, speed: float = 1.0, seed: int | None = None, baud: int = 115_200) -> StandInProcess:
        """Start one. Raises InputError where it does not come up."""
        command = [sys.executable, "-m", "eager_tern.devices.simulated.recorder", "--speed", str(speed)]
        command += ["--baud", str(baud)]
        if seed is not None:
            command += ["--seed", str(seed)]
        # The child finds this package wherever it was found here.
        environment = {**os.environ, "PYTHONPATH": os.pathsep.join(filter(None, sys.path))}
        process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env=environment)
        assert process.stdout is not None
        device = process.stdout.readline().strip()
        stand_in = cls(device, process)
        if not device:
            stand_in.stop()
            raise InputError("simulated recorder", "did not start")
        return stand_in

    def down(self, first: Sequence[float], held: Sequence[float], count: int = 1) -> None:
        """Press a key: signed durations of its frames, each with the silence behind it."""
        self._order({"down": {"first": list(first), "held": list(held), "count": count}})

    def up(self) -> None:
        self._order({"up": True})

    def stray(self) -> None:
        self._order({"stray": True})

    def stop(self) -> None:
        """End the process and with it the port."""
        self._process.terminate()
        self._process.wait(5)
        for pipe in (self._process.stdin, self._process.stdout):
            if pipe is not None:
                pipe.close()

    def _order(self, order: object) -> None:
        assert self._process.stdin is not None
        try:
            self._process.stdin.write(json.dumps(order) + "\n")
            self._process.stdin.flush()
        except (BrokenPipeError, ValueError):
            raise InputError("simulated recorder", "has stopped; start it again") from None
