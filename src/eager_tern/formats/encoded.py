"""Text out of bytes: UTF-8, or UTF-16 as some shells write what a device prints."""

from __future__ import annotations

import codecs
import re
from pathlib import Path

from eager_tern.errors import InputError

UTF_16 = (codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)
# As word processors set numbers; names keep theirs.
MINUS = re.compile("\u2212(?=\\d)")
SPACE = re.compile("(?<=[\\d,;])[\u00a0\u202f\u2009]|[\u00a0\u202f\u2009](?=[-+\\d])")


def decoded(head: bytes) -> str | None:
    """The text that a file begins with, as far as it can be told; None where it is none."""
    if head.startswith(UTF_16):
        return _plain(head[: len(head) // 2 * 2].decode("utf-16", "replace"))
    return None if b"\0" in head else _plain(head.decode("utf-8-sig", "replace"))


def text_of(path: Path, old_until: int = 0) -> str:
    """The whole text of a file. Raises InputError with the byte.

    Where a byte below ``old_until`` is no UTF-8, a program of the old days wrote it, in Latin-1.
    """
    data = path.read_bytes()
    try:
        return _plain(data.decode("utf-16" if data.startswith(UTF_16) else "utf-8-sig"))
    except UnicodeDecodeError as error:
        if error.start < old_until:
            return _plain(data.decode("latin-1"))
        raise InputError(path, "is neither text nor a binary format known here", f"byte {error.start}") from None


def _plain(text: str) -> str:
    text = text.replace("\r\n", "\n").replace("\r", "\n")
    return text if text.isascii() else SPACE.sub(" ", MINUS.sub("-", text))
