"""Benchmarks, run on demand with ``make bench``: every figure is a ratio to a bare pass in the same run."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest

pytest_plugins = ["tests.conftest", "tests.desk.conftest"]  # windows and the demo casebook

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
ENVIRONMENT = {**os.environ, "PYTHONPATH": os.pathsep.join(filter(None, sys.path))}
ENVIRONMENT.pop("PYTHONDONTWRITEBYTECODE", None)  # whoever uses it has its modules compiled


def in_turn(one: Callable[[], object], other: Callable[[], object], rounds: int = 5) -> tuple[float, float, float]:
    """Median seconds of each, run in turn, and the median of the ratios."""
    times = []
    for work in (one, other):
        work()
    for _ in range(rounds):
        pair = []
        for work in (one, other):
            start = time.perf_counter()
            work()
            pair.append(time.perf_counter() - start)
        times.append(pair)
    return (
        statistics.median(a for a, _ in times),
        statistics.median(b for _, b in times),
        statistics.median(a / b for a, b in times),
    )


def process(*command: object) -> Callable[[], str]:
    """A whole process, as something to time."""

    def run() -> str:
        arguments = [sys.executable, *map(str, command)]
        return subprocess.run(arguments, env=ENVIRONMENT, capture_output=True, text=True, check=True).stdout

    return run


@pytest.fixture
def script(tmp_path: Path) -> Callable[[str, str], Path]:
    """A Python script of its own."""

    def write(name: str, text: str) -> Path:
        path = tmp_path / name
        path.write_text(text)
        return path

    return write
