"""Stacks of bits: what varies with what, fields, checks, proof."""
