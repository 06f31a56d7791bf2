"""The firmware's core with one of the programs that run it on this machine."""

from __future__ import annotations

import subprocess
from pathlib import Path

FIRMWARE = Path(__file__).parents[2] / "firmware"
STRICT = ["-std=c++11", "-Wall", "-Wextra", "-Werror"]


def built(folder: Path, name: str) -> Path:
    """A program of ``firmware/host``, compiled with the core."""
    program = folder / name
    sources = [str(FIRMWARE / f"host/{name}.cpp"), str(FIRMWARE / "tern_recorder/core.cpp")]
    subprocess.run(["g++", *STRICT, "-fsanitize=undefined", *sources, "-o", str(program)], check=True)
    return program
