"""The application's own file, as an input: one capture a take."""

from __future__ import annotations

from pathlib import Path

from eager_tern.casebook.store import MAGIC, SUFFIX, Casebook
from eager_tern.formats.capture import Capture
from eager_tern.signal.values import Pulses, signed_from_start

NAME = "casebook"
SUFFIXES = (SUFFIX,)


def recognises(head: bytes) -> bool:
    return head.startswith(MAGIC)


def read(path: Path) -> list[Capture]:
    """Every take. Raises InputError."""
    casebook = Casebook.open(path, read_only=True)
    try:
        return [
            Capture(str(path), NAME, sample_rate_hz=take.sample_rate_hz, pulses=casebook.take_pulses(take.id))
            for take in casebook.takes()
        ]
    finally:
        casebook.close()


def write(path: Path, pulses: Pulses) -> None:
    """A new casebook with one gadget and one take."""
    casebook = Casebook.create(path)
    try:
        take = casebook.add_take(casebook.add_gadget(path.stem), path.name, NAME, carrier_hz=pulses.carrier_hz)
        casebook.append_durations(take, signed_from_start(pulses))
    finally:
        casebook.close()
