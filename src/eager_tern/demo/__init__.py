"""The Skarvholm bird observatory: its gadgets and the demo casebook."""
