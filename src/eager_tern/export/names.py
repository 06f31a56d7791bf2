"""Names and words of people within generated code: nothing in them may break it."""

from __future__ import annotations

import keyword
import re

LONGEST = 60  # of an identifier: compilers tell 63 letters apart
LONGEST_WORDS = 200  # of a name in a comment: what is longer is nobody's to read there
# Of C, C++ and the boards' cores.
C_WORDS = frozenset({
    "alignas", "alignof", "and", "asm", "auto", "bool", "boolean", "break", "byte", "case", "catch", "char", "class",
    "const", "constexpr", "continue", "default", "delete", "do", "double", "else", "enum", "explicit", "export",
    "extern", "false", "final", "float", "for", "friend", "goto", "if", "inline", "int", "interrupts", "long", "loop",
    "main", "mutable", "namespace", "new", "not", "nullptr", "operator", "or", "override", "private", "protected",
    "public", "register", "restrict", "return", "setup", "short", "signed", "sizeof", "static", "struct", "switch",
    "template", "this", "throw", "true", "try", "typedef", "typename", "union", "unsigned", "using", "virtual",
    "void", "volatile", "while", "word", "xor",
})  # fmt: skip


def identifier(name: str) -> str:
    """Small letters, digits and _, whatever the name is; a + or − at its end is told apart."""
    plain = (
        name.lower()
        .replace("+", " plus ")
        .replace("−", " minus ")
        .replace("-", " minus " if name.endswith("-") else " ")
    )
    word = re.sub(r"[^a-z0-9]+", "_", plain).strip("_")[:LONGEST].strip("_") or "unnamed"
    return f"n{word}" if word[0].isdigit() else word


def member(name: str) -> str:
    """A field's name as that of a struct's member or an argument: words of the languages get an underscore behind."""
    return f"{name}_" if name in C_WORDS or keyword.iskeyword(name) else name


def spelled(name: str) -> str:
    """A gadget's name as its files, its code and its topics spell it."""
    return member(identifier(name))


def free(name: str, taken: set[str]) -> str:
    """The name, or the first one made from it that nobody has; it is taken then."""
    number, found = 1, name
    while found in taken:
        number += 1
        found = f"{name}_{number}"
    taken.add(found)
    return found


def in_a_line(text: str) -> str:
    """Words in one line, what cannot be printed left out, cut where they go on without end."""
    flat = " ".join("".join(c if c.isprintable() else " " for c in text).split())
    return flat if len(flat) <= LONGEST_WORDS else f"{flat[: LONGEST_WORDS - 1]}…"


def in_comment(text: str) -> str:
    """Words within a C comment: nothing in them ends it, begins another or goes on in the next line."""
    return in_a_line(text).replace("*/", "* /").replace("/*", "/ *").replace("\\", "/").replace("??/", "? ?/")


def in_docstring(text: str) -> str:
    """Words within a Python docstring."""
    return in_a_line(text).replace("\\", "/").replace('"""', "'''")


def c_string(text: str) -> str:
    """A string literal that every compiler takes: UTF-8, what is no plain letter as octal escapes."""
    out = []
    for byte in text.encode("utf-8", "replace"):
        plain = 32 <= byte < 127 and chr(byte) not in '"\\?'
        out.append(chr(byte) if plain else f"\\{byte:03o}")
    return f'"{"".join(out)}"'
