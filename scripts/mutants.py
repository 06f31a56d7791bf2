"""Change each constant of the reading by a third, more and less, and see whether the panel or a test notices.

The panel's takes are read anew for each change (benches/panel.py); only what leaves their score as it is goes on to the
tests. Says for each constant what it does to the score, and names those that nothing holds: they are either not needed,
or nothing shows what they are for.
"""

from __future__ import annotations

import ast
import json
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

FOLDERS = ("linecode", "protocol")
ALSO = (Path("src/eager_tern/signal/assumed.py"),)
PYTEST = (sys.executable, "-m", "pytest", "-q", "-x", "--no-header", "-p", "no:cacheprovider")
TESTS = ("tests/linecode", "tests/protocol", "tests/signal/test_assumed.py")
PANEL = "import json; from benches.panel import missed; print(json.dumps(missed()))"
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


def score() -> dict[str, float] | None:
    """The panel's score by kind of take; None where it could not be read at all."""
    done = subprocess.run([sys.executable, "-c", PANEL], capture_output=True, text=True, check=False)
    return json.loads(done.stdout) if done.returncode == 0 else None


def noticed(path: Path, line: int, value: float, before: dict[str, float]) -> str:
    """What notices a number changed, "" if nothing does. The file is put back whatever happens."""
    text = path.read_text()
    lines = text.split("\n")
    whole = "." not in lines[line - 1].split("#")[0]
    lines[line - 1] = re.sub(r"= -?[\d._e-]+", f"= {round(value) if whole else repr(value)}", lines[line - 1], count=1)
    try:
        path.write_text("\n".join(lines))
        after = score()
        if after is None:
            return "fails"
        change = sum(after.values()) - sum(before.values())
        if any(abs(after[kind] - before[kind]) > SEEN for kind in before):
            return f"{change:+.2f}"
        failed = subprocess.run([*PYTEST, *TESTS], capture_output=True, check=False).returncode != 0
        return "tests" if failed else ""
    finally:
        path.write_text(text)


def main() -> None:
    chosen = sys.argv[1:]
    before = score()
    if before is None:
        sys.exit("the panel cannot be read")
    paths = [*(path for folder in FOLDERS for path in sorted(Path("src/eager_tern", folder).glob("*.py"))), *ALSO]
    for path in paths:
        for line, name, value in constants(path):
            if chosen and name not in chosen and path.stem not in chosen:
                continue
            said = [noticed(path, line, value * factor, before) or "nothing" for factor in FACTORS]
            print(f"{path.stem}.{name} = {value:g}: more {said[0]}, less {said[1]}", flush=True)


if __name__ == "__main__":
    main()
