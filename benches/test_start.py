"""How soon the command and the window are there: held against what was measured before.

A window's process ends with its first picture: how long it takes to take everything down again is no part of a start.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from tests.files import write_text
from tests.handsets import nec

from benches.baseline import held_ratio
from benches.conftest import in_turn, process
from eager_tern.demo.recipe import make_demo_casebook

BARE_WINDOW = """
import os
import numpy
from PyQt6.QtWidgets import QApplication, QMainWindow
app = QApplication([])
window = QMainWindow()
window.show()
app.processEvents()
window.grab()
os._exit(0)
"""
OURS = """
import os
import sys
from pathlib import Path
from eager_tern.desk.app import application
from eager_tern.desk.window import Window
app = application()
window = Window()
window.show()
for path in sys.argv[1:]:
    window.open_casebook(Path(path))
app.processEvents()
window.grab()
os._exit(0)
"""


@pytest.mark.parametrize("more", [(), ("--json",)], ids=["words", "json"])
def test_a_small_file_is_read(tmp_path: Path, more: tuple[str, ...]) -> None:
    """Aim: within twice a bare ``import numpy``."""
    path = tmp_path / "press.txt"
    write_text(path, np.array(nec(0x5B, 0x16, 1)), "signed")
    ours, bare, ratio = in_turn(process("-m", "eager_tern", "read", path, *more), process("-c", "import numpy"), 9)
    print(f"\nread {' '.join(more)}: {ours:.2f} s, import numpy {bare:.2f} s")
    held_ratio(f"read of a small file {' '.join(more)}".strip(), ratio)


@pytest.mark.parametrize("name", ["empty", "demo casebook"])
def test_window_on_screen(tmp_path: Path, script: Callable[[str, str], Path], name: str) -> None:
    """Aim: within 1.3 times an empty window with NumPy."""
    opened = [] if name == "empty" else [tmp_path / "d.tern"]
    for path in opened:
        make_demo_casebook(path)
    ours, bare, ratio = in_turn(process(script("ours.py", OURS), *opened), process(script("bare.py", BARE_WINDOW)))
    print(f"\nwindow, {name}: {ours:.2f} s, a bare one {bare:.2f} s")
    held_ratio(f"window on screen, {name}", ratio)
