"""The climate cabinet of the specimen store: its shots, and what it is sent for each."""

from __future__ import annotations

from importlib.resources import files

import numpy as np

from eager_tern.casebook.shots import Shot
from eager_tern.protocol.fields import value_of
from eager_tern.protocol.loading import parse_sheet
from eager_tern.protocol.making import press_frames
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.values import Floats

NAME = "Climate cabinet"
ABOUT = "Keeps the specimen store dry and cool. Its handset sends the whole state with every press."
TAKEN = 44  # shots that the demo casebook begins with
MISTAKEN = 31  # of which one was labelled with what had been meant, not what was pressed

State = tuple[tuple[str, str], ...]
START = {"power": "on", "temperature": "20", "mode": "cool", "humidity": "50", "blower": "1", "sleep": "0"}


def cabinet_sheet() -> Sheet:
    """What the cabinet understands; nobody at the observatory has seen it."""
    text = (files("eager_tern.demo") / "climate-cabinet.toml").read_text("utf-8")
    return parse_sheet(text, "climate-cabinet.toml")


def cabinet_plan() -> tuple[Shot, ...]:
    """One thing after the other, as one would plan it; then a few states that combine them."""
    states = [START, {**START, "power": "off"}]
    states += [{**START, "temperature": f"{16 + n / 2:g}"} for n in range(0, 29, 2)]
    states += [{**START, "temperature": f"{degrees:g}"} for degrees in (18.5, 21.5, 25.5)]
    states += [
        {**START, "mode": mode, "blower": blower} for mode in ("dry", "fan", "heat") for blower in ("1", "2", "3")
    ]
    states += [{**START, "humidity": f"{humidity}"} for humidity in range(40, 71, 5)]
    states += [{**START, "sleep": f"{hours:g}"} for hours in (0.5, 1, 2, 3.5, 5, 8, 12)]
    rng = np.random.default_rng(7)
    for _ in range(10):
        states.append(
            {
                "power": str(rng.choice(["on", "on", "off"])),
                "temperature": f"{16 + int(rng.integers(0, 29)) / 2:g}",
                "mode": str(rng.choice(["cool", "dry", "fan", "heat"])),
                "humidity": f"{int(rng.integers(40, 71))}",
                "blower": str(rng.integers(1, 4)),
                "sleep": f"{int(rng.integers(0, 25)) / 2:g}",
            }
        )
    return tuple(Shot(tuple(state.items())) for state in states)


def sent_for(shot: Shot, sheet: Sheet) -> Floats:
    """The signed durations of the press that a shot plans, µs."""
    (frame,) = press_frames(sheet, {name: value_of(value) for name, value in shot.labels})
    return frame
