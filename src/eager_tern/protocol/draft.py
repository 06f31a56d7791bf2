"""A protocol sheet that the application makes: a value."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import Any

from msgspec import Struct, field

from eager_tern.protocol.loading import sheet_of_keys
from eager_tern.protocol.schema import Sheet


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
        from eager_tern.protocol.toml_text import toml_text  # whoever only reads writes none

        return toml_text(self.document, self.comments)
