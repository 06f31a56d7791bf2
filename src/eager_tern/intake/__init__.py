"""From files and devices to presses in a casebook."""
