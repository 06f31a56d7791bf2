"""The ``eager-tern`` command: everything the window can do, without a window."""
