"""Files written whole or not at all: beside their place first, then into it."""

from __future__ import annotations

import errno
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from eager_tern.errors import InputError

WORDS = {
    errno.ENOSPC: "cannot be written because the disk is full",
    errno.EDQUOT: "cannot be written because your share of the disk is full",
    errno.EROFS: "cannot be written: it is on a read-only disk",
    errno.EACCES: "cannot be written: you have no right to write there",
    errno.EPERM: "cannot be written: you have no right to write there",
    errno.ENOENT: "cannot be written: its folder does not exist",
    errno.ENOTDIR: "cannot be written: its folder is no folder",
    errno.EISDIR: "cannot be written: it is a folder",
    errno.ENAMETOOLONG: "cannot be written: its name is too long",
}


def not_written(error: OSError) -> str:
    """Why something was not written, in words for the user."""
    return WORDS.get(error.errno or 0, f"cannot be written ({error.strerror or error})")


@contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """A path of the same name in a folder of its own, to write to. What the block has written there takes its place
    when it ends well; where it does not, what was there before is as it was. Raises InputError for what the system
    refuses.
    """
    import shutil  # what only reads needs neither
    import tempfile

    folder: Path | None = None
    try:
        if path.is_dir():
            raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR))
        folder = Path(tempfile.mkdtemp(prefix=".eager-tern-", dir=path.absolute().parent))
        yield folder / path.name
        written = sorted(folder.iterdir())
        for new in written:
            _on_disk(new)
            there = path.with_name(new.name)
            if there.exists():
                new.chmod(there.stat().st_mode & 0o777)
        for new in written:
            new.replace(path.with_name(new.name))
    except OSError as error:
        raise InputError(path, not_written(error)) from None
    finally:
        if folder is not None:
            shutil.rmtree(folder, ignore_errors=True)


def write_text(path: Path, text: str) -> None:
    """A text in place of what the file holds. Raises InputError."""
    with replacing(path) as beside:
        beside.write_text(text, "utf-8")


def _on_disk(path: Path) -> None:
    with path.open("rb") as file:
        os.fsync(file.fileno())
