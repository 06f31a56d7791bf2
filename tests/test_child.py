"""Processes of our own are isolated, and gone with their parent."""

from __future__ import annotations

import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from eager_tern.child import ENDS_IN_S, Child
from eager_tern.devices.simulated.process import StandInProcess
from eager_tern.intake.reading_process import FileEnd, ReadFile, serve
from eager_tern.protocol.loading import library
from tests.casebook.test_store import child_env


@pytest.mark.parametrize("name", ["json.py", "socket.py", "numpy.py", "eager_tern.py"])
def test_files_in_the_working_directory_are_not_run(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, name: str) -> None:
    (tmp_path / name).write_text(f"open({str(tmp_path / 'run')!r}, 'w')\nraise SystemExit\n")
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("PYTHONPATH", str(tmp_path))
    (tmp_path / "t.txt").write_text("500\n500\n500\n")
    with Child(serve) as child:
        child.connection.send(ReadFile(tmp_path / "t.txt", library()))
        while not isinstance(child.connection.recv(), FileEnd):
            pass
    stand_in = StandInProcess()
    assert stand_in.device.startswith("/dev/")
    stand_in.stop()
    assert not (tmp_path / "run").exists()


def test_no_child_outlives_a_parent_that_is_killed(tmp_path: Path) -> None:
    program = (
        "import sys, time\nfrom eager_tern.child import Child\n"
        "from eager_tern.devices.simulated.process import StandInProcess\n"
        "from eager_tern.intake.reading_process import serve\n"
        "reader, stand_in = Child(serve), StandInProcess()\nstand_in.device\n"
        "stand_in.down([9000.0, -4500.0] * 40, [500.0, -500.0] * 40)\n"  # a key held for ever
        "print(reader._process.pid, stand_in._child._process.pid, flush=True)\ntime.sleep(60)\n"
    )
    parent = subprocess.Popen([sys.executable, "-c", program], stdout=subprocess.PIPE, text=True, env=child_env())
    assert parent.stdout is not None
    children = [int(word) for word in parent.stdout.readline().split()]
    assert len(children) == 2
    parent.send_signal(signal.SIGKILL)
    parent.wait()
    parent.stdout.close()
    end = time.monotonic() + 10
    while any(map(is_running, children)) and time.monotonic() < end:
        time.sleep(0.05)
    assert not any(map(is_running, children))


def is_running(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().split(") ")[1][0] not in "ZX"
    except (FileNotFoundError, ProcessLookupError):
        return False


def test_a_child_is_ended_at_once() -> None:
    child = Child(serve)
    began = time.monotonic()
    child.end()
    assert time.monotonic() - began < ENDS_IN_S
    with pytest.raises(OSError, match="closed"):
        child.connection.send("anything")
    assert not is_running(child._process.pid)
