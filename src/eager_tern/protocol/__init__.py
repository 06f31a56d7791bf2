"""The protocol sheet language: loading, reading frames, making frames, presses."""
