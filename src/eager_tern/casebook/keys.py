"""The table of keys: what each key of a gadget sends, and which are missing."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from itertools import product

from msgspec import Struct
from msgspec.structs import replace

from eager_tern.casebook.values import Caught, KeyPlace, PressReading
from eager_tern.protocol.fields import Value, in_words

PLATE_COLUMNS = 3
FEWEST_FOR_GHOSTS = 4  # keys that make a pattern


class Key(Struct, frozen=True):
    """A key on the plate. ``presses`` are those that bear its name; ``same_as`` names other keys with its code.

    ``best`` is the press to take the code from: the surest one that has a code. ``contradicts``: presses of this name
    sent different codes.
    """

    place: KeyPlace
    presses: tuple[Caught, ...]
    best: Caught | None = None
    contradicts: bool = False
    same_as: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        return self.place.name


def table_of_keys(presses: Iterable[Caught], places: Iterable[KeyPlace]) -> list[Key]:
    """Keys with a place on the plate, then those that only a label knows, set on free places; all in reading order."""
    by_name: dict[str, list[Caught]] = {}
    surest: dict[str, Caught] = {}
    contradicting: set[str] = set()
    for press in presses:
        name = press.label
        if not name or press.deleted or press.stray:
            continue
        by_name.setdefault(name, []).append(press)
        if press.code is not None:
            best = surest.setdefault(name, press)
            if press.code != best.code:
                contradicting.add(name)
            if press.reading.confidence > best.reading.confidence:
                surest[name] = press
    placed = {place.name: place for place in places}
    taken = {(place.row, place.col) for place in placed.values()}
    columns = max([PLATE_COLUMNS, *(col + 1 for _, col in taken)])
    free = ((n // columns, n % columns) for n in range(10_000) if (n // columns, n % columns) not in taken)
    for name in by_name:
        if name not in placed:
            placed[name] = KeyPlace(name, *next(free))
    keys = [
        Key(place, tuple(by_name.get(name, ())), surest.get(name), name in contradicting)
        for name, place in placed.items()
    ]
    names_of: dict[object, list[str]] = {}
    for key in keys:
        if key.best is not None:
            names_of.setdefault(key.best.code, []).append(key.name)
    shared = [
        replace(key, same_as=tuple(n for n in names_of[key.best.code] if n != key.name)) if key.best else key
        for key in keys
    ]
    return sorted(shared, key=lambda key: (key.place.row, key.place.col))


def summary(keys: Sequence[Key]) -> list[str]:
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
    free = ghosts(keys)
    if free:
        sentences.append(f"No key sends {', '.join(free)} yet: codes that fit the pattern, worth a try.")
    return sentences


def ghosts(keys: Sequence[Key]) -> list[str]:
    """Codes that fit the pattern of a table's keys but belong to none of them, as they are written.

    Where one field tells the keys apart, the numbers between the lowest and the highest; where the keys have no fields,
    what the few bits that change could say as well.
    """
    alike, varying = _pattern(keys)
    if len(varying) == 1:
        return [in_words(value) for value in _between({reading.fields.get(varying[0]) for reading in alike})]
    return _other_combinations({reading.bits for reading in alike}) if not alike or not alike[0].fields else []


def ghost_values(keys: Sequence[Key], code: str) -> dict[str, Value] | None:
    """The fields of such a code; None where the keys have none, so that nothing could be made."""
    alike, varying = _pattern(keys)
    if len(varying) != 1:
        return None
    free = {in_words(value): value for value in _between({reading.fields.get(varying[0]) for reading in alike})}
    return {**alike[0].fields, varying[0]: free[code]} if code in free else None


def _pattern(keys: Sequence[Key]) -> tuple[list[PressReading], list[str]]:
    """The readings of the keys' usual protocol, and the fields in which they differ."""
    coded = [key.best.reading for key in keys if key.best is not None]
    usual = Counter(reading.protocol for reading in coded).most_common(1)
    alike = [reading for reading in coded if reading.protocol == usual[0][0]] if usual else []
    varying = {
        name
        for reading in alike
        for name, value in reading.fields.items()
        if name != "toggle" and value != alike[0].fields.get(name)
    }
    return alike, sorted(varying)


def _between(values: set[Value]) -> list[int]:
    """The numbers between those of the keys, where most of them are taken."""
    numbers = sorted(value for value in values if isinstance(value, int))
    if len(numbers) < FEWEST_FOR_GHOSTS or len(numbers) != len(values):
        return []
    free = sorted(set(range(numbers[0], numbers[-1])) - set(numbers))
    return free if len(free) <= len(numbers) / 2 else []


def _other_combinations(codes: set[str]) -> list[str]:
    """What the bits that differ among some codes of one length could be as well, where most of it is taken."""
    if len(codes) < FEWEST_FOR_GHOSTS or len({len(code) for code in codes}) > 1:
        return []
    first = min(codes)
    changing = [i for i in range(len(first)) if len({code[i] for code in codes}) > 1]
    if 2 ** len(changing) > 1.5 * len(codes):
        return []
    free = []
    for choice in product("01", repeat=len(changing)):
        bits = list(first)
        for i, bit in zip(changing, choice, strict=True):
            bits[i] = bit
        code = "".join(bits)
        if code not in codes:
            free.append(f"{int(code, 2):0{-(-len(code) // 4)}X}")
    return free
