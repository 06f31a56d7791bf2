"""What is assumed of receivers, handsets and the silences between frames; other modules derive theirs from these.

What a thing assumed costs as evidence stands in ``linecode.prices``, how close edges lie in ``linecode.closeness``.
"""

from __future__ import annotations

import math

# Receivers
EDGE_JITTER_US = 60.0  # standard deviation of an edge at the worst that is promised
USUAL_JITTER_US = 30.0  # of a duration in most recordings, before anything was measured
FINEST_US = 12.0  # no receiver times a mark better: so that many pulses together are no likelier than each by itself
MOST_MARK_EXCESS_US = 150.0
EXCESS_SIGMA_US = 80.0  # half of the most: two of three receivers stay within
EXCESS_FOUND_US = MOST_MARK_EXCESS_US + 1.2 * USUAL_JITTER_US  # with what estimating it adds
DURATION_JITTER_US = math.sqrt(2.0) * EDGE_JITTER_US  # both its edges err
LARGEST_JITTER_US = 4 * DURATION_JITTER_US  # no duration errs by more

# Handsets
MOST_CLOCK_ERROR = 0.15  # of the published timing: ceramic resonators and RC clocks
CLOCK_SIGMA = 0.08  # half of the most
SPEED_SIGMA = 0.05  # of senders of characters, which their receivers have to follow
CLOCK_WANDERS = 0.03  # of a length: what it errs by the more, the longer it is
SLOWER_RHYTHM = 1.15  # than its sheet says, that a gadget repeats itself
FEWEST_BITS = 8  # of a frame, for each row of them
MOST_PULSES = 2000  # no frame has more; chatter has
MOST_IN_SECTION = 400  # pulses; the longest air conditioners' have 310
LONGEST_FRAME_US = 400_000.0  # 40 bytes at 1000 baud, 300 bits of the slowest pulse distance
LONGEST_MARK_US = 120_000.0  # nine bits at 75 baud; a longer one is a stuck line, and no part of a frame
SLOW_US = 1_000.0  # shortest pulse of what is slower than all handsets: asynchronous characters

# Silences, each longer than the one before
SHORTEST_GAP_US = 2_500.0  # between sections or copies, where it is known what the bits look like
SMALLEST_GAP_US = 4_000.0  # where it is not: spaces within bits are shorter
LONGEST_LEADER_MARK_US = 12_000.0  # 9 ms, 15 % slow, lengthened: a longer level is a rest
LONGEST_IN_DATA_US = 14_000.0  # of a pulse that may recur like a bit's
SURE_GAP_US = 15_000.0  # no space inside a frame section of the handsets in use is as long
LONGEST_GAP_US = 40_000.0  # between two sections of a frame
USUAL_REST_US = 45_000.0  # between the frames of most handsets
LONGEST_SILENCE_US = 150_000.0  # between the frames of one press, where no sheet says more
REPEAT_WITHIN_US = 250_000.0  # from the beginning of a frame to that of its repeat: such a silence behind 100 ms
