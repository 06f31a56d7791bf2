"""What is taken home: a gadget of a casebook with its keys and its sheet, or a sheet alone."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from contextlib import closing
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from eager_tern.casebook.asked import gadget_named, is_casebook
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import Caught, Gadget, KeyPlace
from eager_tern.errors import InputError
from eager_tern.export.found_out import found_out
from eager_tern.export.keys import ExportedKey, exported_keys
from eager_tern.export.names import spelled
from eager_tern.linecode.values import Bits, bits_of_text
from eager_tern.protocol.fields import Value
from eager_tern.protocol.loading import library_sheet, sheet_named, sheet_text
from eager_tern.protocol.schema import Sheet
from eager_tern.sending.saying import Handset
from eager_tern.signal.values import Pulses
from eager_tern.text_file import read_text

SURE = 0.9  # a captured frame that is to prove something was read at least so surely
MOST_CAPTURED = 12  # frames that prove the generated code


class CapturedFrame(Struct, frozen=True):
    """A frame as it was recorded, and its bits as meant."""

    name: str
    pulses: Pulses
    bits: Bits


class Recording(Struct, frozen=True):
    """A take with all its pulses, and what its presses are called, by the time that each begins (µs)."""

    pulses: Pulses
    labels: tuple[tuple[float, float, str], ...]


class Subject(Struct, frozen=True):
    """``name`` is an identifier. ``made`` are the keys that the sheet makes, by their names: their bits as meant.

    ``common`` are the values of fields that all keys share. ``sheet_texts`` are the gadget's own sheets by their ids,
    or the sheet that was asked for; ``recordings`` all its takes with labels.
    """

    name: str
    title: str
    gadget: str = ""
    about: str = ""
    sheet: Sheet | None = None
    keys: tuple[ExportedKey, ...] = ()
    made: Mapping[str, Bits] = field(default_factory=dict)
    common: Mapping[str, Value] = field(default_factory=dict)
    captured: tuple[CapturedFrame, ...] = ()
    sheet_texts: Mapping[str, str] = field(default_factory=dict)
    places: tuple[KeyPlace, ...] = ()
    recordings: tuple[Recording, ...] = ()


def subject_of(what: str, gadget: str = "") -> Subject:
    """A casebook's gadget, or the sheet that a path or an id names. Raises InputError."""
    path = Path(what)
    sheet = sheet_named(what)
    if sheet is not None:
        if gadget:
            raise InputError(what, "is a sheet; --gadget picks one of a casebook")
        return of_sheet(sheet, read_text(path) if library_sheet(what) is None else sheet_text(what) or "")
    if not is_casebook(path):
        raise InputError(path, "is neither a casebook nor a sheet")
    with closing(Casebook.open(path, read_only=True)) as casebook:
        return of_gadget(casebook, gadget_named(casebook, gadget, path))


def of_sheet(sheet: Sheet, text: str = "") -> Subject:
    """A sheet and what it says as TOML."""
    texts = {sheet.id: text} if text else {}
    return Subject(spelled(sheet.id), sheet.name, about=sheet.about, sheet=sheet, sheet_texts=texts)


def of_gadget(casebook: Casebook, gadget: Gadget) -> Subject:
    """Raises InputError where one of the gadget's own sheets cannot be used."""
    handset = Handset.of_casebook(casebook, gadget)
    keys = exported_keys(casebook, list(handset.keys.values()))
    made = {key.name: sheet for key in handset.keys.values() if (sheet := _maker(handset, key.best)) is not None}
    usual = Counter(sheet.id for sheet in made.values()).most_common(1)
    sheet = handset.sheet
    if usual and (sheet is None or sheet.id not in handset.own_sheets):
        sheet = next(one for one in made.values() if one.id == usual[0][0])
    texts = casebook.sheets(gadget.id)
    if sheet is None and (draft := found_out(casebook, gadget)) is not None:
        sheet, texts = draft.sheet, {draft.sheet.id: draft.text}
    common: Mapping[str, Value] = {}
    bits: dict[str, Bits] = {}
    captured: list[CapturedFrame] = []
    if sheet is not None:
        sheet, common = handset.in_common(sheet)
        for key in handset.keys.values():
            if key.best is not None and key.name in made and made[key.name].id == sheet.id:
                bits[key.name] = _meant(sheet, key.best)
        captured = _captured(casebook, gadget, sheet)
    keys = [replace(key, carrier_hz=key.carrier_hz or _carrier(made.get(key.name))) for key in keys]
    return Subject(
        spelled(gadget.name), gadget.name, gadget.name, gadget.about, sheet, tuple(keys), bits, common,
        tuple(captured), texts, tuple(casebook.key_places(gadget.id)),
        tuple(_recordings(casebook, gadget)),
    )  # fmt: skip


def _recordings(casebook: Casebook, gadget: Gadget) -> list[Recording]:
    """The gadget's takes, with the labels of the presses that have one."""
    labels: dict[int, list[tuple[float, float, str]]] = {}
    for press in casebook.presses(gadget.id):
        if press.label and not press.deleted:
            reading = press.reading
            labels.setdefault(press.take_id, []).append(
                (reading.start_us, reading.start_us + reading.held_us, press.label)
            )
    takes = [take for take in casebook.takes() if take.gadget_id == gadget.id and not take.hidden]
    return [Recording(casebook.take_pulses(take.id), tuple(labels.get(take.id, ()))) for take in takes]


def _maker(handset: Handset, caught: Caught | None) -> Sheet | None:
    """The sheet that makes a key, if it does so whenever it is asked: no number in it is new with each press."""
    sheet = handset.sheet_that_reproduces(caught) if caught is not None else None
    return sheet if sheet is not None and all(f.role != "rolling" for f in sheet.fields) else None


def _carrier(sheet: Sheet | None) -> float | None:
    return sheet.carrier_hz if sheet is not None else None


def _meant(sheet: Sheet, caught: Caught) -> Bits:
    kind = sheet.frame(caught.reading.kind) if caught.reading.kind else sheet.leads[0]
    return kind.turned(bits_of_text(caught.reading.bits))


def _captured(casebook: Casebook, gadget: Gadget, sheet: Sheet) -> list[CapturedFrame]:
    """Frames read by the sheet without doubt, no two with the same bits."""
    found: dict[str, CapturedFrame] = {}
    for press in casebook.presses(gadget.id):
        reading = press.reading
        doubted = reading.first_missed or reading.mended or reading.confidence < SURE or not reading.checks_hold
        if press.stray or press.deleted or doubted or reading.protocol != sheet.id or reading.bits in found:
            continue
        first, last = reading.frames[0]
        pulses = casebook.take_pulses(press.take_id).part(first, last)
        name = press.label or f"press {press.id}"
        found[reading.bits] = CapturedFrame(name, pulses, _meant(sheet, press))
        if len(found) == MOST_CAPTURED:
            break
    return list(found.values())
