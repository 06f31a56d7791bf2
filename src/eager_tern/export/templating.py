"""Templates, and what everything generated says of how it was made."""

from __future__ import annotations

from datetime import date
from functools import cache
from typing import Any

from eager_tern import __version__


@cache
def _environment() -> Any:
    from jinja2 import Environment, PackageLoader, StrictUndefined  # a start without any export does without it

    return Environment(
        loader=PackageLoader("eager_tern.export"),
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        keep_trailing_newline=True,
        autoescape=False,  # code, not pages: whatever goes in is made harmless for its language before
    )


def provenance() -> str:
    """How something was made, and whose it is, in a line."""
    made = f"Made by Eager Tern {__version__} on {date.today().isoformat()}."
    return f"{made} This file is yours: do with it what you like, without any condition."


def rendered(template: str, **values: Any) -> str:
    """A template's text; the date and the application's version are known to all of them."""
    made = _environment().get_template(template)
    return str(made.render(date=date.today().isoformat(), version=__version__, **values))
