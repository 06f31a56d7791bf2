"""The command's documents: as JSON and as lines of text."""
