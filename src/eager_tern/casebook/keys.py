"""The table of keys: what each key of a gadget sends, and which are missing."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property

from eager_tern.casebook.values import Caught, KeyPlace, PressReading
from eager_tern.protocol.fields import in_words

PLATE_COLUMNS = 3
FEWEST_FOR_GHOSTS = 4  # keys that make a pattern


@dataclass(frozen=True)
class Key:
    """A key on the plate. ``presses`` are those that bear its name; ``same_as`` names other keys with its code."""

    place: KeyPlace
    presses: tuple[Caught, ...]
    same_as: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        return self.place.name

    @cached_property
    def best(self) -> Caught | None:
        """The press to take the code from: the surest one that has a code."""
        coded = [press for press in self.presses if press.code is not None]
        return max(coded, key=lambda press: press.reading.confidence) if coded else None

    @property
    def contradicts(self) -> bool:
        """Whether presses of this name sent different codes."""
        return len({press.code for press in self.presses if press.code is not None}) > 1


def table_of_keys(presses: Iterable[Caught], places: Iterable[KeyPlace]) -> list[Key]:
    """Keys with a place on the plate, then those that only a label knows, set on free places; all in reading order."""
    by_name: dict[str, list[Caught]] = {}
    for press in presses:
        if press.label and not press.deleted and not press.stray:
            by_name.setdefault(press.label, []).append(press)
    placed = {place.name: place for place in places}
    taken = {(place.row, place.col) for place in placed.values()}
    columns = max([PLATE_COLUMNS, *(col + 1 for _, col in taken)])
    free = ((n // columns, n % columns) for n in range(10_000) if (n // columns, n % columns) not in taken)
    for name in by_name:
        if name not in placed:
            placed[name] = KeyPlace(name, *next(free))
    keys = [Key(place, tuple(by_name.get(name, ()))) for name, place in placed.items()]
    names_of: dict[object, list[str]] = {}
    for key in keys:
        if key.best is not None:
            names_of.setdefault(key.best.code, []).append(key.name)
    shared = [
        Key(key.place, key.presses, tuple(n for n in names_of[key.best.code] if n != key.name)) if key.best else key
        for key in keys
    ]
    return sorted(shared, key=lambda key: (key.place.row, key.place.col))


def summary(keys: Iterable[Key]) -> list[str]:
    """What the table says as a whole, in sentences: what all keys share, then what is odd, then guesses."""
    coded = [(key, key.best.reading) for key in keys if key.best is not None]
    if not coded:
        return []
    protocols = Counter(reading.protocol for _, reading in coded)
    usual = protocols.most_common(1)[0][0]
    of_usual = [(key, reading) for key, reading in coded if reading.protocol == usual]
    shared = {
        name: value
        for name, value in of_usual[0][1].fields.items()
        if len(of_usual) > 1 and all(reading.fields.get(name) == value for _, reading in of_usual)
    }
    constant = "".join(f", {name} {in_words(value)}" for name, value in shared.items())
    sentences = [f"{len(of_usual)} of {len(coded)} keys send {usual}{constant}."]
    for key, reading in coded:
        if reading.protocol != usual:
            sentences.append(f"“{key.name}” sends {reading.protocol}.")
        if key.contradicts:
            sentences.append(f"“{key.name}” was caught with different codes.")
        if key.same_as and key.name < min(key.same_as):
            others = " and ".join(f"“{name}”" for name in key.same_as)
            sentences.append(f"“{key.name}” and {others} send the same.")
    unused = _between(of_usual)
    if unused:
        sentences.append(f"No key sends {unused} yet: codes between those caught, worth a try.")
    return sentences


def _between(coded: list[tuple[Key, PressReading]]) -> str:
    """The commands that stand between those of the keys, where only the command tells keys apart and most are taken."""
    commands = {reading.fields.get("command") for _, reading in coded}
    numbers = sorted(value for value in commands if isinstance(value, int))
    if len(numbers) < FEWEST_FOR_GHOSTS or len(numbers) != len(commands):
        return ""
    free = sorted(set(range(numbers[0], numbers[-1])) - set(numbers))
    return ", ".join(in_words(value) for value in free) if 0 < len(free) <= len(numbers) / 2 else ""
