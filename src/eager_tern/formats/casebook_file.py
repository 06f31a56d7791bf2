"""The application's own file, as an input: one capture a take."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from msgspec.structs import replace

from eager_tern.casebook.signature import MAGIC, SUFFIX
from eager_tern.errors import InputError
from eager_tern.formats.capture import AS_FOUND, Capture, Format, Note, ReadOptions
from eager_tern.signal.values import Pulses, signed_from_start


def claims(head: bytes, suffix: str) -> bool:
    return head.startswith(MAGIC)


def read(path: Path, options: ReadOptions = AS_FOUND) -> list[Capture]:
    """Every take that is not hidden; of a damaged casebook, those that can be had. Raises InputError."""
    from eager_tern.casebook.file import DamagedError
    from eager_tern.casebook.store import Casebook  # SQLite is loaded where there is a casebook

    try:
        casebook = Casebook.open(path, read_only=True)
    except DamagedError:
        return _read_rescued(path)
    try:
        captures = []
        for take in casebook.takes():
            if take.hidden:
                continue
            try:
                pulses = casebook.take_pulses(take.id)
            except InputError as error:
                casebook.lost.append(f"take {take.id} cannot be read ({error.reason})")
                continue
            captures.append(Capture(str(path), FORMAT.name, sample_rate_hz=take.sample_rate_hz, pulses=pulses))
        if not captures and casebook.lost:
            raise InputError(path, casebook.lost[0])
        return [_warned(capture, tuple(casebook.lost)) for capture in captures]
    finally:
        casebook.close()


def _read_rescued(path: Path) -> list[Capture]:
    """The takes that can be had of a damaged casebook, which stays as it is."""
    import tempfile

    from eager_tern.casebook.rescue import rescue

    with tempfile.TemporaryDirectory(prefix="eager-tern-") as folder:
        found = rescue(path, Path(folder) / "rescued.tern")
        warning = f"is damaged; {found.had}"
        return [replace(c, path=str(path), warnings=(*c.warnings, warning)) for c in read(found.path)]


def _warned(capture: Capture, warnings: tuple[str, ...]) -> Capture:
    return Capture(
        capture.path, capture.format, sample_rate_hz=capture.sample_rate_hz, pulses=capture.pulses, warnings=warnings
    )


def write(path: Path, pulses: Pulses, notes: Sequence[Note] = ()) -> None:
    """A new casebook with one gadget and one take."""
    from eager_tern.casebook.store import Casebook

    casebook = Casebook.create(path)
    try:
        take = casebook.add_take(casebook.add_gadget(path.stem), path.name, FORMAT.name, carrier_hz=pulses.carrier_hz)
        casebook.append_durations(take, signed_from_start(pulses))
    finally:
        casebook.close()


FORMAT = Format("casebook", (SUFFIX,), claims, read, write, overwrites=False)
