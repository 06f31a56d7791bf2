"""Pulses to bits: unit, mark excess, the line codes and the evidence for each."""
