"""Text files as they are read."""

from __future__ import annotations

from pathlib import Path

from eager_tern.errors import InputError


def read_text(path: Path) -> str:
    """A file's text, UTF-8. Raises InputError."""
    try:
        return path.read_text("utf-8")
    except OSError as error:
        raise InputError(path, error.strerror or "cannot be read") from None
    except UnicodeDecodeError as error:
        raise InputError(path, "is not text", f"byte {error.start}") from None
