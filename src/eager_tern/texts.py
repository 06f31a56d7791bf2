"""What the window says, and where another language is found for it.

Catalogues are gettext's: ``LANGUAGE/LC_MESSAGES/eager-tern.mo`` in the user's data folder under ``locale``.
Where there is none, everything is said in English.
"""

from __future__ import annotations

import gettext
import logging
import struct
from functools import cache
from typing import TypeVar

from eager_tern.places import NAME, locale_folder

Name = TypeVar("Name", bound=str)


@cache
def _catalogue() -> gettext.NullTranslations:
    """That of the desktop's language."""
    try:
        return gettext.translation(NAME, locale_folder(), fallback=True)
    except (OSError, ValueError, struct.error) as error:
        logging.getLogger(__name__).warning("a catalogue in %s cannot be read: %s", locale_folder(), error)
        return gettext.NullTranslations()


def tr(text: str, /, **values: object) -> str:
    """A text in the desktop's language, its values in their places, written as for ``str.format``.

    It is said in English where a translation names other values.
    """
    said = _catalogue().gettext(text)
    if not values:
        return said
    try:
        return said.format(**values)
    except (LookupError, ValueError):
        return text.format(**values)


def term(name: Name, /) -> Name:
    """A name that the code goes by, too: it stays what it is here, and is said with ``tr`` where it is shown."""
    return name


def plural(count: int, one: str, many: str) -> str:
    """How many there are of something."""
    return f"{count} {_catalogue().ngettext(one, many, count)}"
