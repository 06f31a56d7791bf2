"""Samples and pulses: thresholds, edges, polarity, bursts."""
