"""Where and why a document was refused, told from what msgspec says of it."""

from __future__ import annotations

import re

from msgspec import ValidationError

from eager_tern.errors import InputError

Path = tuple[str | int, ...]
WORDS = {
    "int": "a whole number",
    "float": "a number",
    "str": "a text",
    "bool": "true or false",
    "array": "a list",
    "object": "keys and values",
    "null": "nothing",
}
COMPARED = ((">=", "of at least"), ("<=", "of at most"), (">", "above"), ("<", "below"))
ENDING = re.compile(r" - at (?:`(?P<key>key)` in )?`\$(?P<path>[^`]*)`$")
STEP = re.compile(r"\.([^.\[]+)|\[(\d+)\]")


def path_and_reason(error: Exception) -> tuple[Path, str]:
    """Keys and indices that lead to what was refused, and the reason in a person's words."""
    said = str(error)
    ending = ENDING.search(said)
    path: Path = ()
    if ending is not None:
        said = said[: ending.start()]
        path = tuple(name or int(index) for name, index in STEP.findall(ending["path"]))
    if unknown := re.fullmatch(r"Object contains unknown field `(.*)`", said):
        return (*path, unknown[1]), "is no key that is known here"
    if missing := re.fullmatch(r"Object missing required field `(.*)`", said):
        return path, f'"{missing[1]}" is missing'
    if not isinstance(error, ValidationError):
        return path, f"is no JSON document ({said})"
    said = re.sub(r"`([a-z |]+)`", lambda kinds: " or ".join(WORDS.get(k, k) for k in kinds[1].split(" | ")), said)
    said = said.replace("matching regex", "of the form")
    for sign, words in COMPARED:
        said = re.sub(rf" {sign} (\S+?)(?:\.0)?$", rf" {words} \1", said)
    return path, said[:1].lower() + said[1:] + (" as a key" if ending is not None and ending["key"] else "")


def refused(source: object, error: Exception, what: str = "") -> InputError:
    """The error to be raised for a JSON document; ``what`` stands before the reason."""
    path, reason = path_and_reason(error)
    return InputError(source, what + reason, ".".join(map(str, path)))
