"""A protocol sheet that the application makes: a value, written as TOML by one serializer."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import Any

import tomlkit
from msgspec import Struct, field
from tomlkit.items import AoT, Array, InlineTable

from eager_tern.protocol.loading import sheet_of_keys
from eager_tern.protocol.schema import Sheet

SHORT = 100  # characters of an array that stays on its line
SPACED = ("zero", "symbols", "serial")  # keys before which a line is left free


class Draft(Struct, frozen=True, dict=True):
    """``document`` holds what the sheet says, by the keys of a sheet; ``comments`` stand behind keys of its top."""

    document: Mapping[str, Any]
    comments: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def sheet(self) -> Sheet:
        """The sheet that it says. Raises InputError where it hangs together in no way."""
        return sheet_of_keys(dict(self.document), "the sheet that was made")

    @cached_property
    def text(self) -> str:
        """The same as TOML text."""
        document = tomlkit.document()
        keys = [k for k, v in self.document.items() if not isinstance(v, Mapping) and not _is_tables(v)]
        for number, key in enumerate(keys):
            if (number and key in SPACED[1:]) or (key == "zero" or (key == "one" and "zero" not in keys[:number])):
                document.add(tomlkit.nl())
            item = _item(self.document[key])
            if key in self.comments:
                item.comment(self.comments[key])
            document.add(key, item)
        for key, value in self.document.items():
            if key in keys:
                continue
            document.add(tomlkit.nl())
            if isinstance(value, Mapping):
                document.add(key, _table(value))
            else:
                document.add(key, AoT([_table(each) for each in value]))
        return tomlkit.dumps(document).rstrip("\n") + "\n"


def _is_tables(value: object) -> bool:
    return isinstance(value, list | tuple) and bool(value) and all(isinstance(each, Mapping) for each in value)


def _table(keys: Mapping[str, Any]) -> Any:
    table = tomlkit.table()
    for key, value in keys.items():
        table.add(key, _item(value, lines=key == "parts"))
    return table


def _item(value: Any, lines: bool = False) -> Any:
    """A value as TOML has it: whole numbers without a point, tables in a line."""
    if isinstance(value, Mapping):
        inline: InlineTable = tomlkit.inline_table()
        for key, each in value.items():
            inline.append(str(key), _item(each))
        return inline
    if isinstance(value, list | tuple):
        array: Array = tomlkit.array()
        for each in value:
            array.append(_item(each))
        return array.multiline(lines or len(array.as_string()) > SHORT)
    if isinstance(value, float) and value == int(value):
        return tomlkit.item(int(value))
    return tomlkit.item(value)
