"""Write-ups put into files."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from eager_tern.compare.writeup import Block, Figure, as_html, as_markdown
from eager_tern.errors import InputError
from eager_tern.replacing import write_text


def publish(path: Path, blocks: Sequence[Block]) -> list[Path]:
    """Write a page (``.html``), or Markdown with its figures beside it (``.md``); the files. Raises InputError."""
    if path.suffix.lower() not in (".html", ".md"):
        raise InputError(path, "a write-up is .html or .md")
    if path.suffix.lower() == ".html":
        texts = {path: as_html(blocks)}
    else:
        figures = [block for block in blocks if isinstance(block, Figure)]
        # Two gadgets may be written up in one folder.
        own = [Figure(f"{path.stem}-{b.name}", b.caption, b.svg) if isinstance(b, Figure) else b for b in blocks]
        texts = {path: as_markdown(own), **{path.with_name(f"{path.stem}-{f.name}.svg"): f.svg for f in figures}}
    for file, text in texts.items():
        write_text(file, text)
    return list(texts)
