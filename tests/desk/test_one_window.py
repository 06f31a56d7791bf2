"""What the file manager opens arrives in the window that is running."""

from __future__ import annotations

import os
import socket
from pathlib import Path
from queue import SimpleQueue

import pytest

from eager_tern.desk.one_window import Doorway, hand_over
from eager_tern.places import runtime_folder


@pytest.fixture(autouse=True)
def own_runtime(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))


def test_files_are_handed_over() -> None:
    assert not hand_over([Path("a.tern")])  # nobody is there
    came: SimpleQueue[list[Path]] = SimpleQueue()
    doorway = Doorway(came.put)
    place = runtime_folder() / "window.socket"
    assert place.stat().st_mode & 0o077 == 0
    assert hand_over([Path("ä b.tern")])
    assert came.get(timeout=5) == [Path("ä b.tern").absolute()]
    for rubbish in (b"\n", b"{}\n", b"[1]\n", b"\xff\n"):
        with socket.socket(socket.AF_UNIX) as line:
            line.connect(str(place))
            line.sendall(rubbish)
            assert line.recv(1) == b""
    assert hand_over([])
    assert came.get(timeout=5) == []
    doorway.close()
    assert not hand_over([])
    assert not place.exists()


def test_a_socket_that_was_left_behind_is_no_window() -> None:
    runtime_folder().mkdir(parents=True, exist_ok=True)
    left = socket.socket(socket.AF_UNIX)
    left.bind(str(runtime_folder() / "window.socket"))
    left.close()
    assert not hand_over([])
    doorway = Doorway(lambda _: None)
    assert hand_over([])
    doorway.close()
    assert os.listdir(runtime_folder()) == []
