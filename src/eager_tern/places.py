"""Where the application keeps what belongs to the user."""

from __future__ import annotations

from pathlib import Path

import platformdirs

NAME = "eager-tern"


def data_folder() -> Path:
    return Path(platformdirs.user_data_dir(NAME, appauthor=False))


def config_folder() -> Path:
    return Path(platformdirs.user_config_dir(NAME, appauthor=False))


def sheets_folder() -> Path:
    """The user's own protocol sheets, for every gadget and every casebook."""
    return data_folder() / "sheets"
