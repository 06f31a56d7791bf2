"""The open casebook as whoever works with it sees it: its selection, history and commands, without a window."""
