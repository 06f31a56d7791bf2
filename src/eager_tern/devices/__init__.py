"""Live sources, one module each; the simulated ones in ``simulated``."""
