"""What is assumed of receivers, handsets and silences hangs together."""

from __future__ import annotations

from itertools import pairwise

from eager_tern.linecode import closeness
from eager_tern.signal import assumed


def test_each_silence_is_longer_than_the_one_before() -> None:
    silences = [
        assumed.SHORTEST_GAP_US,
        assumed.SMALLEST_GAP_US,
        assumed.LONGEST_LEADER_MARK_US,
        assumed.LONGEST_IN_DATA_US,
        assumed.SURE_GAP_US,
        assumed.LONGEST_GAP_US,
        assumed.USUAL_REST_US,
        assumed.LONGEST_SILENCE_US,
        assumed.REPEAT_WITHIN_US,
    ]
    assert all(shorter < longer for shorter, longer in pairwise(silences))


def test_what_receivers_do_is_ordered() -> None:
    assert assumed.FINEST_US < assumed.USUAL_JITTER_US < assumed.EDGE_JITTER_US < assumed.DURATION_JITTER_US
    assert assumed.DURATION_JITTER_US < assumed.EXCESS_SIGMA_US * 1.1 < assumed.MOST_MARK_EXCESS_US
    assert assumed.MOST_MARK_EXCESS_US < assumed.EXCESS_FOUND_US < assumed.LARGEST_JITTER_US


def test_a_longest_mark_is_no_silence_of_a_frame() -> None:
    assert assumed.LONGEST_LEADER_MARK_US > (9_000 + assumed.MOST_MARK_EXCESS_US) * (1 + assumed.MOST_CLOCK_ERROR)
    assert assumed.LONGEST_MARK_US > assumed.LONGEST_GAP_US


def test_each_step_of_closeness_asks_less_than_the_one_before() -> None:
    steps = [
        closeness.CLEAN,
        closeness.STEADY_IN_CHATTER,
        closeness.STEADY,
        closeness.COARSEST_SHEET,
        closeness.COARSEST,
        closeness.COARSEST_WIDE,
        closeness.UNEVEN,
    ]
    assert all(closer < coarser for closer, coarser in pairwise(steps))
