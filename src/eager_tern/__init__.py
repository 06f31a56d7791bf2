"""Eager Tern: find out what a remote control, a sensor or a toy is saying."""

__version__ = "0.1.0"
