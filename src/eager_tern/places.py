"""Where the application keeps what belongs to the user."""

from __future__ import annotations

from pathlib import Path

import platformdirs

NAME = "eager-tern"


def data_folder() -> Path:
    return Path(platformdirs.user_data_dir(NAME, appauthor=False))


def config_folder() -> Path:
    return Path(platformdirs.user_config_dir(NAME, appauthor=False))


def casebooks_folder() -> Path:
    """Casebooks that nobody has named yet, by the day."""
    return data_folder() / "casebooks"


def sheets_folder() -> Path:
    """The user's own protocol sheets, for every gadget and every casebook."""
    return data_folder() / "sheets"


def locale_folder() -> Path:
    """What the window says in other languages."""
    return data_folder() / "locale"


def rescued_folder() -> Path:
    """Where goes what could not be written where it belongs."""
    return data_folder() / "rescued"


def runtime_folder() -> Path:
    """For what lives as long as the user is logged in: sockets."""
    return Path(platformdirs.user_runtime_dir(NAME, appauthor=False))


def log_path() -> Path:
    """What happened inside, for whoever has to find out why."""
    return Path(platformdirs.user_state_dir(NAME, appauthor=False)) / "eager-tern.log"
