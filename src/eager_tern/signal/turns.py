"""Whether two frequencies take turns, as the tones of one transmitter do, or go together as a signal and its ghost."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from eager_tern.signal.baseband import level_of, turning
from eager_tern.signal.evidence import tone_nats
from eager_tern.signal.values import Floats

ENVELOPES_S = 300e-6, 90e-6  # of two tones: the longer one for weak signals, the shorter for fast ones
TAKES_TURNS, FOLLOWS = -0.25, 0.5  # correlation of two envelopes: two tones of one transmitter; one and its ghost
CLEARLY_TAKES_TURNS = -0.7
FAINTLY_TAKES_TURNS = -0.12  # the same in noise, which hides much of it, where the likelihood says so, too
FAINT = 12.0  # energy of the stronger tone in a window over the noise's density: beyond, the correlation tells
FEWEST_NATS = 2.0  # of that likelihood: two transmitters at one time are seldom
EITHER_TONE, NO_TONE = 0.4, 0.2  # of the time around a burst in two tones
TURN_S = 30e-3  # two tones change places within that time; a drifting carrier goes from one to the other but once
PHASES = 4  # of the windows in which tones are held against each other: none knows where a bit begins
FEWEST_WINDOWS = 10


def by_turns(samples: NDArray[Any], rate_hz: float, one_hz: float, other_hz: float) -> float:
    """The correlation of two frequencies that may take turns, quickly or slowly."""
    return min(correlation(samples, rate_hz, one_hz, other_hz, each, TURN_S) for each in ENVELOPES_S)


def are_two_tones(samples: NDArray[Any], rate_hz: float, one_hz: float, other_hz: float, noise: float) -> bool:
    """Whether two frequencies of like strength are tones of one transmitter; ``noise`` is its density.

    In noise the correlation is small even then. How likely the samples are where just one tone is sent at a time,
    beside two transmitters that know nothing of each other, still tells.
    """
    if by_turns(samples, rate_hz, one_hz, other_hz) < TAKES_TURNS:
        return True
    step = _step(rate_hz, one_hz, other_hz, ENVELOPES_S[0])
    shifts = [step * phase // PHASES for phase in range(PHASES)]
    together = np.mean([correlation(samples[shift:], rate_hz, one_hz, other_hz) for shift in shifts])
    if together > FAINTLY_TAKES_TURNS:
        return False
    seconds = step / rate_hz
    levels = [level_of(samples * turning(tone, rate_hz, samples.size), rate_hz, noise) for tone in (one_hz, other_hz)]
    if max(levels) ** 2 * seconds > FAINT * noise:
        return False
    one, other = (
        tone_nats(np.sqrt(_powers_at(samples, rate_hz, tone, step, shifts)) * seconds, seconds, level, noise)
        for tone, level in zip((one_hz, other_hz), levels, strict=True)
    )
    either = np.logaddexp(np.logaddexp(one, other) + np.log(EITHER_TONE), np.log(NO_TONE))
    each_for_itself = np.logaddexp(one, 0.0) + np.logaddexp(other, 0.0) - 2 * np.log(2)
    return float((either - each_for_itself).sum()) / PHASES > FEWEST_NATS


def correlation(
    samples: NDArray[Any],
    rate_hz: float,
    one_hz: float,
    other_hz: float,
    envelope_s: float = ENVELOPES_S[0],
    within_s: float | None = None,
) -> float:
    """How the powers at two frequencies go together while either is sent: 1 as one, −1 by turns.

    With ``within_s``, only what changes in that time counts.
    """
    step = _step(rate_hz, one_hz, other_hz, envelope_s)
    one, other = (_powers(samples, rate_hz, tone, step) for tone in (one_hz, other_hz))
    if one.size < FEWEST_WINDOWS:
        return 0.0
    sent = np.convolve(one / one.mean() + other / other.mean(), np.ones(9) / 9, "same") > 0.5
    if within_s is not None:
        window = np.ones(min(max(3, round(within_s * rate_hz / step)), one.size))
        usual = np.convolve(sent, window, "same")
        one, other = (each - np.convolve(each * sent, window, "same") / np.maximum(usual, 1) for each in (one, other))
    a, b = one[sent], other[sent]
    if a.size < 8 or a.std() == 0 or b.std() == 0:
        return 0.0
    return float(np.corrcoef(a, b)[0, 1])


def _step(rate_hz: float, one_hz: float, other_hz: float, envelope_s: float) -> int:
    """Samples of a window over which a tone is summed: a zero of the one at the other."""
    apart = abs(one_hz - other_hz)
    length = envelope_s if apart == 0 else max(1, round(envelope_s * apart)) / apart
    return max(1, round(length * rate_hz))


def _powers(samples: NDArray[Any], rate_hz: float, tone_hz: float, step: int) -> Floats:
    """The power of a tone in each window of so many samples."""
    used = samples.size // step * step
    turned = samples[:used] * turning(tone_hz, rate_hz, used)
    return np.asarray(np.abs(turned.reshape(-1, step).mean(axis=1)) ** 2, np.float64)


def _powers_at(samples: NDArray[Any], rate_hz: float, tone_hz: float, step: int, shifts: list[int]) -> Floats:
    """The same for windows that begin at each of some samples."""
    return np.concatenate([_powers(samples[shift:], rate_hz, tone_hz, step) for shift in shifts])
