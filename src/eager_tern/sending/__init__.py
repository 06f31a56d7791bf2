"""What is said: presses made or as recorded, routines and sweeps of them, and what came back."""
