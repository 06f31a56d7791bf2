"""What the window says, and where another language is found for it.

Catalogues are gettext's: ``LANGUAGE/LC_MESSAGES/eager-tern.mo`` in the user's data folder under ``locale``.
Where there is none, everything is said in English.
"""

from __future__ import annotations

import gettext
from functools import cache
from typing import TypeVar

from eager_tern.places import NAME, locale_folder

Name = TypeVar("Name", bound=str)


@cache
def _catalogue() -> gettext.NullTranslations:
    """That of the desktop's language."""
    return gettext.translation(NAME, locale_folder(), fallback=True)


def tr(text: str, /, **values: object) -> str:
    """A text in the desktop's language, its values in their places, written as for ``str.format``."""
    said = _catalogue().gettext(text)
    return said.format(**values) if values else said


def term(name: Name, /) -> Name:
    """A name that the code goes by, too: it stays what it is here, and is said with ``tr`` where it is shown."""
    return name


def plural(count: int, one: str, many: str) -> str:
    """How many there are of something."""
    return f"{count} {_catalogue().ngettext(one, many, count)}"
