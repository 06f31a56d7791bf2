"""Telling numbers from other words."""

from __future__ import annotations


def is_number(word: str) -> bool:
    """Whether a word can be read as a number, "nan" and "inf" included: what may not be is said with its place."""
    try:
        float(word)
    except ValueError:
        return False
    return True
