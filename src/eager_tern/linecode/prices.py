"""The price of each assumption in nats, the logarithm of how often it holds."""

from __future__ import annotations

from math import log

# What a reading has to be better by than random pulses.
NOISE_HEAD_START = 10.0  # of a code that no sheet describes, before it is worth a word
NOISE_BESIDE_SHEETS = 4.0  # of anything beside pulses that could be of any length
ENOUGH = 14.0  # of a frame found in noise, beyond what its bits themselves take

# How usual a code is.
SELDOM_SYMBOLS = log(0.05)  # more than two symbols
PLAIN_BITS = log(0.02)  # bits without an edge in each
ROW_BEGINS = -4.0  # each row of data: they begin about once in fifty pulses
RUN_IN = -log(40)  # how many pulses run in, up to forty
# Most handsets speak a protocol of the library; one that does not could have any number of bits and any unit.
UNKNOWN = log(0.02) - log(100) - log(20)
SERIAL = log(0.02)  # characters; their speed and framing are paid for in their score
NO_CHECKS = log(0.02)  # a sheet whose bits may be anything fits much that is none of its frames
FOLLOWS_ALONE = log(0.02)  # a frame that follows another, without the other
LEADER_MISSED = log(1e-4)  # all of the frame before, though the line is seen to rest: at most its beginning gets lost
CHECK_FAILS = log(0.02)  # damage that leaves the timing as it is
NO_CHECK_HOLDS = log(1e-12)  # then it is rather another protocol of the same timing
OTHER_LENGTH = -3.0  # a frame of another number of characters among many of one
OVERRULES = 1e4  # a sheet that was said to hold against whatever else fits: more than any evidence

# What may have happened to a frame.
SLIP = -1.2  # a symbol that begins an eighth of a unit early or late
STRAY = log(0.1) - log(50_000) - log(200)  # once in ten frames, at any µs of some 50 ms, of up to 200 µs
DISTURBED = -20.0  # errors all along the frame
IN_CHATTER = -6.0  # it begins and ends anywhere in a stretch of some hundred pulses
BARE = -14.0  # nothing but bits: in noise it may as well begin a bit later
TWO_AT_ONCE = -7.0  # another gadget sends within a section's gap, in one case of a thousand
