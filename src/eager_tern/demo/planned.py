"""Gadgets of the observatory that nobody knows yet: what they send for each shot of a plan. All of it is made up."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from importlib.resources import files
from itertools import product

import numpy as np
from msgspec import Struct

from eager_tern.casebook.shots import Labels, Shot, Shots
from eager_tern.protocol.fields import value_of
from eager_tern.protocol.loading import parse_sheet
from eager_tern.protocol.making import press_frames
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.values import Floats

DISPLAYED_EVERY = 5  # readings of the tide gauge, after which somebody looks at its display
READINGS = 80
PASSAGES = 36


class Planned(Struct, frozen=True):
    """What is sent once, and what somebody says of it: nothing where nobody looked."""

    values: Labels
    labels: Labels


class PlannedGadget(Struct, frozen=True, dict=True):
    """``sheet_file`` is what the gadget understands; nobody at the observatory has seen it. ``plan`` makes its presses.

    The demo casebook begins with the first ``taken`` presses, ``between_s`` apart, of which ``mistaken`` is labelled
    with what had been meant, not what was pressed.
    """

    name: str
    about: str
    sheet_file: str
    plan: Callable[[], tuple[Planned, ...]]
    taken: int
    between_s: float = 2.4
    mistaken: int | None = None

    @cached_property
    def presses(self) -> tuple[Planned, ...]:
        return self.plan()

    @cached_property
    def sheet(self) -> Sheet:
        text = (files("eager_tern.demo") / self.sheet_file).read_text("utf-8")
        return parse_sheet(text, self.sheet_file)

    @property
    def shots(self) -> Shots:
        """The shot list: every press of which something is to be said."""
        return tuple(Shot(press.labels) for press in self.presses if press.labels)

    def sent(self, values: Labels) -> list[Floats]:
        """The frames of a press: signed durations, µs, each with the silence behind it. Raises InputError."""
        return press_frames(self.sheet, {name: value_of(value) for name, value in values})

    def sent_for(self, shot: Shot) -> list[Floats]:
        """The frames of the press that a shot plans. Raises InputError where the gadget has no such thing."""
        planned = next((press.values for press in self.presses if press.labels == shot.labels), shot.labels)
        return self.sent(planned)


def _cabinet_presses() -> tuple[Planned, ...]:
    """One thing after the other, as one would plan it; then a few states that combine them."""
    start = {"power": "on", "temperature": "20", "mode": "cool", "humidity": "50", "blower": "1", "sleep": "0"}
    states = [start, {**start, "power": "off"}]
    states += [{**start, "temperature": f"{16 + n / 2:g}"} for n in range(0, 29, 2)]
    states += [{**start, "temperature": f"{degrees:g}"} for degrees in (18.5, 21.5, 25.5)]
    states += [
        {**start, "mode": mode, "blower": blower} for mode in ("dry", "fan", "heat") for blower in ("1", "2", "3")
    ]
    states += [{**start, "humidity": f"{humidity}"} for humidity in range(40, 71, 5)]
    states += [{**start, "sleep": f"{hours:g}"} for hours in (0.5, 1, 2, 3.5, 5, 8, 12)]
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
    return tuple(Planned(tuple(state.items()), tuple(state.items())) for state in states)


def _shutter_presses() -> tuple[Planned, ...]:
    """Every shutter up, stopped and down, twice."""
    moves = [(("shutter", s), ("move", m)) for s, m in product(("north", "east", "west"), ("up", "stop", "down"))]
    return tuple(Planned(labels, labels) for labels in moves * 2)


def _gauge_readings() -> tuple[Planned, ...]:
    """A reading every quarter of an hour; now and then somebody writes down what the display shows, which rounds."""
    rng = np.random.default_rng(12)
    readings = []
    for number in range(READINGS):
        hours = number / 4
        level = round(2 * (165 + 85 * np.sin(2 * np.pi * hours / 12.42) + rng.normal(0, 0.6))) / 2
        water = round(7.2 + 1.1 * np.sin(2 * np.pi * (hours - 9) / 24) + rng.normal(0, 0.05), 1)
        battery = round((3.1 - 0.002 * number) * 50) / 50
        values = {"count": number % 8, "level": level, "water": water, "battery": battery}
        shown = (("level", f"{int(level + 0.5)}"), ("water", f"{water:g}"), ("battery", f"{battery:.2f}"))
        labels = shown if number % DISPLAYED_EVERY == 0 else ()
        readings.append(Planned(tuple((name, f"{value:g}") for name, value in values.items()), labels))
    return tuple(readings)


def _turnstile_passages() -> tuple[Planned, ...]:
    """Visitors one after the other, in and out; the display shows how many there were on the way in."""
    rng = np.random.default_rng(21)
    passages, visitors = [], 238
    for _ in range(PASSAGES):
        way = str(rng.choice(["in", "in", "out"]))
        visitors += int(rng.integers(1, 9)) if way == "in" else 0  # a family at a time
        labels = (("visitors", str(visitors)), ("way", way))
        passages.append(Planned(labels, labels))
    return tuple(passages)


CABINET = PlannedGadget(
    "Climate cabinet",
    "Keeps the specimen store dry and cool. Its handset sends the whole state with every press.",
    "climate-cabinet.toml",
    _cabinet_presses,
    taken=44,
    mistaken=31,
)
SHUTTERS = PlannedGadget(
    "Window shutters",
    "The hide's three shutters and their radio handset.",
    "window-shutters.toml",
    _shutter_presses,
    taken=12,
)
TIDE_GAUGE = PlannedGadget(
    "Tide gauge",
    "Hangs under the jetty and sends level and water temperature by radio, every quarter of an hour.",
    "tide-gauge.toml",
    _gauge_readings,
    taken=66,
    between_s=900.0,
)
TURNSTILE = PlannedGadget(
    "Turnstile",
    "Counts the visitors at the path to the cliffs and sends bytes over a light beam.",
    "turnstile.toml",
    _turnstile_passages,
    taken=30,
    between_s=40.0,
)
PLANNED = (CABINET, SHUTTERS, TIDE_GAUGE, TURNSTILE)
