"""Generated C, compiled and called."""

from __future__ import annotations

import ctypes
import subprocess
from collections.abc import Sequence
from pathlib import Path

from eager_tern.export.c_code import c_library
from eager_tern.export.layout import Layout
from eager_tern.protocol.schema import Sheet

STRICT = ["-std=c99", "-Wall", "-Wextra", "-Werror", "-pedantic"]
TRAPS = ["-fsanitize=undefined", "-fsanitize-undefined-trap-on-error"]
SIZES = {8: ctypes.c_uint8, 16: ctypes.c_uint16, 32: ctypes.c_uint32, 64: ctypes.c_uint64}


class Compiled:
    """A sheet's C library, whose two functions speak of the raw numbers of members; what is undefined ends the run."""

    def __init__(self, sheet: Sheet, folder: Path, name: str = "gadget") -> None:
        header, source = c_library(sheet, name, sheet.name)
        (folder / f"{name}.h").write_text(header)
        (folder / f"{name}.c").write_text(source)
        program = folder / f"{name}.so"
        command = ["gcc", *STRICT, *TRAPS, "-shared", "-fPIC", str(folder / f"{name}.c"), "-o", str(program)]
        subprocess.run(command, check=True)
        self.layout = Layout(sheet)
        library = ctypes.CDLL(str(program))
        self._make, self._read = library[f"{name}_make_nth"], library[f"{name}_read"]
        self._make.restype, self._read.restype = ctypes.c_size_t, ctypes.c_bool
        self._make.argtypes = [ctypes.c_void_p, ctypes.c_uint8, ctypes.c_void_p, ctypes.c_size_t]
        self._read.argtypes = [ctypes.c_void_p, ctypes.c_size_t, ctypes.c_void_p]
        self.longest = max(kind.pulses for kind in self.layout.kinds)

        class Fields(ctypes.Structure):
            _fields_ = [(f"_{each.name}", _type(each.width)) for each in self.layout.members] or [
                ("none", ctypes.c_uint8)
            ]

        self._fields = Fields

    def make(self, raw: dict[str, int], nth: int = 0, room: int | None = None) -> list[int]:
        """Durations in µs; empty where it refuses."""
        fields = self._fields()
        for each in self.layout.members:
            value = raw[each.name]
            setattr(fields, f"_{each.name}", _as_bytes(value, each.width) if each.width > 64 else value)
        us = (ctypes.c_uint16 * self.longest)()
        count = self._make(ctypes.byref(fields), nth, us, self.longest if room is None else room)
        return list(us[:count])

    def read(self, us: Sequence[float]) -> dict[str, int] | None:
        whole = [min(max(round(each), 0), 65535) for each in us]
        fields = self._fields()
        ok = self._read((ctypes.c_uint16 * max(len(whole), 1))(*whole), len(whole), ctypes.byref(fields))
        if not ok:
            return None
        found = {each.name: getattr(fields, f"_{each.name}") for each in self.layout.members}
        return {n: v if isinstance(v, int) else int.from_bytes(bytes(v), "big") for n, v in found.items()}


def _type(width: int) -> type:
    if width > 64:
        return ctypes.c_uint8 * -(-width // 8)
    return SIZES[next(size for size in SIZES if width <= size)]


def _as_bytes(value: int, width: int) -> ctypes.Array[ctypes.c_uint8]:
    size = -(-width // 8)
    return (ctypes.c_uint8 * size)(*value.to_bytes(size, "big"))
