"""How close a frame's edges lie to its ruler (rms as a fraction of the unit): the limits used everywhere."""

from __future__ import annotations

AT_A_GLANCE = 0.1  # of one whose symbols need no search for a better clock: 30 µs of 300, and no other one comes near
CLEAN = 0.15  # of a frame that nothing happened to
STEADY_IN_CHATTER = 0.2  # of one that is believed though it stands in chatter
STEADY = 0.25  # what a receiver's jitter makes of short units, 60 µs of 250
COARSEST_SHEET = 0.3  # beyond which a sheet does not fit; symbols a unit apart are then told wrongly one time in twenty
COARSEST = 0.4  # beyond which nothing is known of a code
COARSEST_WIDE = 0.5  # for sheets whose symbols differ by four units and more
UNEVEN = 0.6  # where a repeat says what to expect
