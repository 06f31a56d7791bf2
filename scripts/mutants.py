"""Change each constant of the reading by a third, more and less, and see whether a test or a bench notices.

Prints those that nothing noticed: they are either not needed, or not held by anything.
"""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

FOLDERS = ("linecode", "protocol")
PYTEST = (sys.executable, "-m", "pytest", "-q", "-x", "--no-header", "-p", "no:cacheprovider")
TESTS = ("tests/linecode", "tests/protocol", "benches/test_strangers.py")
FACTORS = (4 / 3, 3 / 4)


def constants(path: Path) -> Iterator[tuple[int, str, float]]:
    """Line, name and value of a module's plain numbers."""
    for node in ast.parse(path.read_text()).body:
        if isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name):
            value = node.value
            if isinstance(value, ast.Constant) and isinstance(value.value, int | float) and value.value not in (0, 1):
                yield node.lineno, node.targets[0].id, float(value.value)


def noticed(path: Path, line: int, value: float, whole: bool) -> bool:
    """Whether the tests fail with the number changed. The file is put back whatever happens."""
    text = path.read_text()
    lines = text.split("\n")
    changed = str(round(value)) if whole else repr(value)
    lines[line - 1] = re.sub(r"= [\d._e-]+", f"= {changed}", lines[line - 1], count=1)
    try:
        path.write_text("\n".join(lines))
        return subprocess.run([*PYTEST, *TESTS], capture_output=True, check=False).returncode != 0
    finally:
        path.write_text(text)


def main() -> None:
    chosen = sys.argv[1:]
    for folder in FOLDERS:
        for path in sorted(Path("src/eager_tern", folder).glob("*.py")):
            for line, name, value in constants(path):
                if chosen and name not in chosen and path.stem not in chosen:
                    continue
                whole = value == int(value) and "." not in path.read_text().split("\n")[line - 1].split("#")[0]
                left = [f"{factor:.2f}" for factor in FACTORS if not noticed(path, line, value * factor, whole)]
                print(f"{path.stem}.{name}: {'nothing notices ' + ' and '.join(left) if left else 'held'}", flush=True)


if __name__ == "__main__":
    main()
