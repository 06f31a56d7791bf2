"""What is kept: gadgets, takes, presses, labels, keys; the SQLite store and its changes."""
