"""The voice: no text that a user meets has words that are out of use here (DESIGN, "Voice")."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

from eager_tern.session.cards import STATUS_WORDS

ROOT = Path(__file__).parents[1]
# What an experienced friend at the bench would not say, and what contradicts itself.
OUT_OF_USE = (
    "please", "simply", "successfully", "invalid", "illegal", "utilize", "leverage", "in order to", "an error occurred",
    "oops", "uncertain ·", "click here", "is not supported", "fatal", "aborted", "are it,", "cannot be found",
)  # fmt: skip
TEXTS = [ROOT / "README.md", ROOT / "CHANGELOG.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").glob("*.md"))]
CODE = sorted((ROOT / "src/eager_tern").rglob("*.py"))


def words_of(path: Path) -> Iterator[tuple[int, str]]:
    """The texts of a module that somebody may read: strings with a blank in them that are no docstrings."""
    nodes = list(ast.walk(ast.parse(path.read_text("utf-8"))))
    docs = {
        id(node.body[0].value)
        for node in nodes
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef)
        and node.body
        and isinstance(node.body[0], ast.Expr)
    }
    for node in nodes:
        if (
            isinstance(node, ast.Constant)
            and isinstance(node.value, str)
            and " " in node.value
            and id(node) not in docs
        ):
            yield node.lineno, node.value


def test_no_word_out_of_use() -> None:
    pattern = re.compile(rf"(?<!\w)({'|'.join(map(re.escape, OUT_OF_USE))})", re.IGNORECASE)
    said = [(f"{path.name}:{line}", text) for path in CODE for line, text in words_of(path)]
    said += [(path.name, path.read_text("utf-8")) for path in TEXTS]
    found = [(place, match[0]) for place, text in said if (match := pattern.search(text))]
    assert not found


def test_one_word_for_how_sure_a_finding_is() -> None:
    assert set(STATUS_WORDS.values()) == {"sure", "not proven", "does not hold", ""}


def test_messages_end_as_sentences_do() -> None:
    """What is said in the line under the header is a sentence: it begins with a capital and ends with a stop."""
    said = re.compile(r'\.(?:say|emit)\(\s*(?:tr\(\s*)?"([A-Z][^"]{30,})"[,)]')
    for path in sorted((ROOT / "src/eager_tern/desk").glob("*.py")):
        for text in said.findall(path.read_text("utf-8")):
            assert text.rstrip()[-1] in ".…?}", (path.name, text)
