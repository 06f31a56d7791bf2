"""What generated C takes on an 8-bit board, measured where that board's compiler is at hand."""

from __future__ import annotations

import re
import shutil
import subprocess
import tempfile
from functools import lru_cache
from pathlib import Path

COMPILER, SIZE = "avr-gcc", "avr-size"
FLAGS = ("-Os", "-mmcu=atmega328p", "-std=c99", "-fstack-usage", "-ffunction-sections", "-c")
PATIENCE_S = 60.0
# Of the whole library of sheets, which a test holds: said where no compiler is at hand.
MOST_FLASH, MOST_RAM, MOST_STACK = 5_500, 70, 340


def measured(name: str, header: str, source: str) -> str:
    """The words for the header's comment."""
    found = sizes(name, header, source)
    if found is None:
        return f" at most {MOST_FLASH:,} bytes of flash, {MOST_RAM} of RAM and {MOST_STACK} of stack."
    flash, ram, stack = found
    return f" {flash:,} bytes of flash, {ram} of RAM and at most {stack} of stack."


@lru_cache(maxsize=4)  # the library and the sketch of one gadget have the same files
def sizes(name: str, header: str, source: str) -> tuple[int, int, int] | None:
    """Bytes of flash, of RAM that is always taken, and of stack at most; None where the compiler is not here.

    The stack is what all functions take together: more than any chain of calls.
    """
    if shutil.which(COMPILER) is None or shutil.which(SIZE) is None:
        return None
    with tempfile.TemporaryDirectory(prefix="eager-tern-") as place:
        folder = Path(place)
        (folder / f"{name}.h").write_text(header)
        (folder / f"{name}.c").write_text(source)
        try:
            _run(folder, COMPILER, *FLAGS, f"{name}.c")
            listed = _run(folder, SIZE, "-A", f"{name}.o")
        except (OSError, subprocess.SubprocessError):
            return None
        usage = (folder / f"{name}.su").read_text()
    parts = {part: int(size) for part, size in re.findall(r"^(\.\S+)\s+(\d+)", listed, re.MULTILINE)}
    code = sum(size for part, size in parts.items() if part.startswith((".text", ".progmem")))
    ram = sum(size for part, size in parts.items() if part.startswith((".data", ".rodata", ".bss")))
    stack = sum(int(line.split("\t")[1]) for line in usage.splitlines())
    return code + ram, ram, stack


def _run(folder: Path, *command: str) -> str:
    """What a command says."""
    done = subprocess.run(command, cwd=folder, check=True, capture_output=True, text=True, timeout=PATIENCE_S)
    return done.stdout
