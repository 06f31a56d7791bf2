"""Where and why a document was refused, in a person's words."""

from __future__ import annotations

from typing import Annotated

import msgspec
import pytest
from msgspec import Meta, Struct

from eager_tern.refused import path_and_reason, refused


class Burrow(Struct, forbid_unknown_fields=True):
    depth: Annotated[float, Meta(ge=0.5, lt=3.0)]
    chicks: int | None = None
    rings: dict[int, str] = {}


class Colony(Struct):
    name: str
    burrows: tuple[Burrow, ...] = ()


@pytest.mark.parametrize(
    ("text", "path", "reason"),
    [
        ('{"name": 4}', ("name",), "expected a text, got a whole number"),
        ('{"burrows": []}', (), '"name" is missing'),
        ('{"name": "x", "burrows": [{"depth": 1}, {}]}', ("burrows", 1), '"depth" is missing'),
        ('{"name": "x", "burrows": [{"depth": 0.25}]}', ("burrows", 0, "depth"), "expected a number of at least 0.5"),
        ('{"name": "x", "burrows": [{"depth": 3}]}', ("burrows", 0, "depth"), "expected a number below 3"),
        (
            '{"name": "x", "burrows": [{"depth": 1, "chicks": "two"}]}', ("burrows", 0, "chicks"),
            "expected a whole number or nothing, got a text",
        ),
        (
            '{"name": "x", "burrows": [{"depth": 1, "eggs": 2}]}', ("burrows", 0, "eggs"),
            "is no key that is known here",
        ),
        (
            '{"name": "x", "burrows": [{"depth": 1, "rings": {"a": "b"}}]}', ("burrows", 0, "rings"),
            "expected a whole number, got a text as a key",
        ),
        ("[]", (), "expected keys and values, got a list"),
    ],
)  # fmt: skip
def test_place_and_reason(text: str, path: tuple[str | int, ...], reason: str) -> None:
    with pytest.raises(msgspec.ValidationError) as caught:
        msgspec.json.decode(text, type=Colony)
    assert path_and_reason(caught.value) == (path, reason)


def test_what_is_no_json_is_said_to_be_none() -> None:
    with pytest.raises(msgspec.DecodeError) as caught:
        msgspec.json.decode(b'{"name": ', type=Colony)
    told = str(refused("colony.json", caught.value, "cannot be used: "))
    assert told.startswith("colony.json: cannot be used: is no JSON document (")
