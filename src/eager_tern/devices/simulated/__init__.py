"""Stand-ins for hardware, shipped so that everything can be tried without any."""
