"""Change each constant of the reading by a third, more and less, and see whether the panel or a test notices.

The panel's takes are read anew for each change (benches/panel.py), up to the first whose score moves; only what moves
none goes on to the tests. Says for each constant what noticed it. One that nothing notices is either not needed, or
nothing shows what it is for.
"""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from collections.abc import Iterator
from itertools import zip_longest
from math import nan
from pathlib import Path

FOLDERS = ("linecode", "protocol")
ALSO = (Path("src/eager_tern/signal/assumed.py"),)
PYTEST = (sys.executable, "-m", "pytest", "-q", "-x", "--no-header", "-p", "no:cacheprovider")
TESTS = ("tests/linecode", "tests/protocol", "tests/signal/test_assumed.py")
PANEL = (
    "from benches.panel import each_missed\nfor kind, nats in each_missed(): print(kind, nats, sep='\\t', flush=True)"
)
FACTORS = (4 / 3, 3 / 4)
SEEN = 0.02  # nats: less is the rounding of a confidence


def constants(path: Path) -> Iterator[tuple[int, str, float]]:
    """Line, name and value of a module's plain numbers."""
    for node in ast.parse(path.read_text()).body:
        if isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name):
            value = node.value
            negative = isinstance(value, ast.UnaryOp) and isinstance(value.op, ast.USub)
            number = value.operand if isinstance(value, ast.UnaryOp) else value
            if (
                isinstance(number, ast.Constant)
                and isinstance(number.value, int | float)
                and number.value not in (0, 1)
            ):
                yield node.lineno, node.targets[0].id, float(number.value) * (-1 if negative else 1)


def scores() -> Iterator[tuple[str, float]]:
    """Kind and score of each take of the panel, as it is read; ends early where the reading fails."""
    with subprocess.Popen(
        [sys.executable, "-c", PANEL], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
    ) as run:
        try:
            for line in run.stdout or ():
                kind, nats = line.split("\t")
                yield kind, float(nats)
        finally:
            run.terminate()


def noticed(path: Path, line: int, value: float, before: list[tuple[str, float]]) -> str:
    """What notices a number changed, "" if nothing does. The file is put back whatever happens."""
    text = path.read_text()
    lines = text.split("\n")
    whole = "." not in lines[line - 1].split("#")[0]
    lines[line - 1] = re.sub(r"= -?[\d._e-]+", f"= {round(value) if whole else repr(value)}", lines[line - 1], count=1)
    try:
        path.write_text("\n".join(lines))
        for (kind, nats), (_, then) in zip_longest(scores(), before, fillvalue=("", nan)):
            if not abs(nats - then) <= SEEN:  # nan, too: the reading failed
                return f"{kind} {nats - then:+.2f}" if kind else "fails"
        failed = subprocess.run([*PYTEST, *tests_of(path)], capture_output=True, check=False).returncode != 0
        return "tests" if failed else ""
    finally:
        path.write_text(text)


def tests_of(path: Path) -> list[str]:
    """The tests, those of the module itself first."""
    own = [str(each) for each in Path("tests").glob(f"*/test_{path.stem}.py")]
    return [*own, *TESTS]


def main() -> None:
    chosen = sys.argv[1:]
    before = list(scores())
    paths = [*(path for folder in FOLDERS for path in sorted(Path("src/eager_tern", folder).glob("*.py"))), *ALSO]
    for path in paths:
        for line, name, value in constants(path):
            if chosen and name not in chosen and path.stem not in chosen:
                continue
            said = [noticed(path, line, value * factor, before) or "nothing" for factor in FACTORS]
            print(f"{path.stem}.{name} = {value:g}: more {said[0]}, less {said[1]}", flush=True)


if __name__ == "__main__":
    main()
