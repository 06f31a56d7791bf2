"""What the desk remembers from one day to the next."""

from __future__ import annotations

import logging
from pathlib import Path
from typing import Literal

import msgspec
from msgspec import Struct

from eager_tern.places import config_folder

MOST_RECENT = 8
ThemeName = Literal["desktop", "day", "night"]
THEMES: tuple[ThemeName, ...] = ("desktop", "day", "night")
Lengths = Literal["fitting", "us"]
LENGTHS: tuple[Lengths, ...] = ("fitting", "us")
SIZES = (90, 100, 110, 125, 150, 175, 200)
log = logging.getLogger(__name__)


class Settings(Struct):
    recent: list[str] = []
    theme: ThemeName = "desktop"
    size: int = 100  # of everything, per cent
    lengths: Lengths = "fitting"
    loudspeaker: str = ""  # what a frame is heard through; the usual one
    casebooks: str = ""  # where those go that are not named yet; the usual place
    armed: bool = False
    ear: bool = False
    geometry: str = ""  # Qt's own form, in hex
    splitter: str = ""
    source: str = ""
    toured: bool = False
    log_beside_stack: bool = False
    broker: str = ""  # its address, without a password
    topics: str = ""

    def __post_init__(self) -> None:
        self.size = self.size if self.size in SIZES else 100

    def remember(self, path: Path) -> None:
        """Put a casebook first among the recent ones."""
        name = str(path.absolute())
        self.recent = [name, *(other for other in self.recent if other != name)][:MOST_RECENT]


def settings_path() -> Path:
    return config_folder() / "desk.json"


def load_settings() -> Settings:
    """The settings kept; the usual ones where there are none or they cannot be read."""
    try:
        return msgspec.json.decode(settings_path().read_bytes(), type=Settings)
    except FileNotFoundError:
        return Settings()
    except (OSError, msgspec.DecodeError, UnicodeDecodeError) as error:
        log.warning("settings are not readable, the usual ones are used: %s", error)
        return Settings()


def save_settings(settings: Settings) -> None:
    path = settings_path()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(msgspec.json.format(msgspec.json.encode(settings)))
    except OSError as error:
        log.warning("settings cannot be kept: %s", error)
