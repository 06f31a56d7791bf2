"""A sheet as TOML text: a free line before its parts, small tables on one line."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import tomlkit
from tomlkit.items import AoT, Array, InlineTable

SHORT = 100  # characters of an array that stays on its line
SPACED = ("zero", "symbols", "serial")  # keys before which a line is left free


def toml_text(keys_said: Mapping[str, Any], comments: Mapping[str, str]) -> str:
    """The text of what a sheet says, by its keys; ``comments`` stand behind keys of its top."""
    document = tomlkit.document()
    keys = [k for k, v in keys_said.items() if not isinstance(v, Mapping) and not _is_tables(v)]
    for number, key in enumerate(keys):
        if (number and key in SPACED[1:]) or (key == "zero" or (key == "one" and "zero" not in keys[:number])):
            document.add(tomlkit.nl())
        item = _item(keys_said[key])
        if key in comments:
            item.comment(comments[key])
        document.add(key, item)
    for key, value in keys_said.items():
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
