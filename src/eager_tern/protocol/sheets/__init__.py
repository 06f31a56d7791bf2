"""The library of protocol sheets."""
