"""Whatever happens, nothing that was said to be kept is lost. `make soak` does the same for some minutes."""

from __future__ import annotations

import signal
import subprocess
import sys
import time
from pathlib import Path

from eager_tern.formats.registry import read_captures
from tests.casebook.test_store import child_env

ROOT = Path(__file__).parents[1]


def test_killed_at_random_moments(own_home: Path) -> None:
    command = [sys.executable, str(ROOT / "scripts" / "soak.py"), "--kills", "3", "--seconds", "24"]
    done = subprocess.run(command, capture_output=True, text=True, env=child_env(), check=False, timeout=120)
    assert done.returncode == 0, done.stdout
    assert " 0 faults" in done.stdout


def recording(target: Path, seconds: float) -> subprocess.Popen[str]:
    command = [sys.executable, "-m", "eager_tern", "record", "simulated:audio-guide", str(target)]
    command += ["--seconds", str(seconds)]
    return subprocess.Popen(command, stderr=subprocess.PIPE, text=True, env=child_env())


def wait_for_pulses(path: Path) -> None:
    end = time.monotonic() + 20
    while not (path.exists() and path.stat().st_size > 400):
        assert time.monotonic() < end
        time.sleep(0.05)


def test_a_recording_that_is_killed_leaves_what_it_heard(tmp_path: Path) -> None:
    for name, left in (("r.wav", "r.wav.partial.txt"), ("r.txt", "r.txt")):
        child = recording(tmp_path / name, 60)
        wait_for_pulses(tmp_path / left)
        child.kill()
        child.communicate()
        (capture,) = read_captures(tmp_path / left)
        assert capture.pulses.durations_us.size > 20


def test_a_recording_that_is_interrupted_is_kept(tmp_path: Path) -> None:
    for number, kind in ((signal.SIGINT, "r.wav"), (signal.SIGTERM, "s.txt")):
        child = recording(tmp_path / kind, 60)
        wait_for_pulses(tmp_path / (kind if kind.endswith("txt") else f"{kind}.partial.txt"))
        child.send_signal(number)
        words = child.communicate(timeout=20)[1]
        assert child.returncode == 0, words
        assert "pulses" in words
        assert read_captures(tmp_path / kind)[0].marks()[0].durations_us.size > 20
    assert sorted(path.name for path in tmp_path.iterdir()) == ["r.wav", "s.txt"]
