"""Samples to edges: a threshold that follows the signal, with hysteresis, and edges placed between samples."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.signal.crossings import crossing_places
from eager_tern.signal.phases import evenly_phased
from eager_tern.signal.values import Edges, Floats, Levels

CHUNK_S = 0.3e-3  # the envelope's grain: short enough to lie inside most pulses or gaps
REACH_S = 1.2e-3  # how far round it the envelope looks: an edge is over in that time, the sag of a level is not
QUIET_QUANTILE = 0.2  # one stretch in five is taken to hold no edge: its range is noise
REACH_TO_CHUNK = 2.6  # how much larger the range of noise is at the most within REACH_S than within a chunk
ACTIVE_RATIO = 1.9  # the largest range of noise within REACH_S in an hour, beside its usual one
STEEP = 0.5  # an edge does most of its way within two chunks; hum does not
NEIGHBOURHOOD_S = 60e-3  # an edge is as high as the others within this time, or
LEAST_OF_OTHERS = 0.4  # at least this part of them; less is sag
LEAST_OF_ALL = 0.12  # and at least this part of the highest in the recording so far; less is hum
FULL_SWING = 0.5  # of the largest range: a line that has as much everywhere never rests
TWO_LEVELS = 2.0  # kurtosis below which samples lie on two levels, softened and drooping as they may
LOUD = 0.1  # swing, of full scale, beyond which noise comes from a receiver and not from the sound card's own input
DEAD_BAND = 0.3  # of the range, for a line told by its changes
SMALLEST_SWING = 4e-4  # of full scale: a few steps of a 16-bit recording


class ThresholdSettings(Struct, frozen=True):
    """``level`` fixes the threshold by hand (in the samples' own units); None follows the signal.

    ``hysteresis`` is the half width of the dead band as a part of the local swing. ``rests`` is False for a line that
    is never quiet, so that every change of it counts; None finds that out.
    """

    level: float | None = None
    hysteresis: float = 0.15
    rests: bool | None = None


class EdgeFollower:
    """Edges of a sampled line as its samples come, block by block.

    The threshold is the middle of the line's range within ``REACH_S``; where that range is no more than noise, or
    little beside the edges around, the last level is kept: so a level may sag, as behind a coupling capacitor. An edge
    is placed between two samples, where the line crosses the middle. Blocks have shape (n,), all but the last of a
    length that is a multiple of ``block_grain(rate_hz)``. What is quiet is told from a block and the ``history_s``
    before it, so short blocks need some.
    """

    def __init__(self, rate_hz: float, settings: ThresholdSettings | None = None, history_s: float = 0.0) -> None:
        self._settings = settings or ThresholdSettings()
        self._grain = block_grain(rate_hz)
        reach = max(1, round(REACH_S * rate_hz / self._grain))
        around = reach + max(1, round(NEIGHBOURHOOD_S * rate_hz / self._grain))
        self._reaches = reach, around
        self._margin = around * self._grain
        self._history = max(self._margin, round(history_s * rate_hz / self._grain) * self._grain)
        self._before: Levels = np.empty(0, np.float32)
        self._current: Levels | None = None
        self._largest = 0.0
        self._high: bool | None = None
        self.starts_high: bool | None = None  # known with the first edge
        self.settled = 0  # samples up to which all edges are told

    def feed(self, block: Levels) -> Floats:
        """Take a block in; gives the edges within the block before it, in samples from the start."""
        found = self._edges(block[: self._margin])
        self._current = block
        return found

    def finish(self) -> Floats:
        """The edges of the last block, as if the recording ended with it."""
        found = self._edges(np.empty(0, np.float32))
        self._current = None
        return found

    def _edges(self, after: Levels) -> Floats:
        block, before = self._current, self._before
        if block is None:
            return np.empty(0)
        x = np.concatenate((before, block, after))
        found, rising, self._largest = _crossings(x, self._grain, self._reaches, self._largest, self._settings)
        inside = (found >= before.size - 0.5) & (found < before.size + block.size - 0.5)
        found, rising = found[inside] + (self.settled - before.size), rising[inside]
        self.settled += block.size
        short = self._history > block.size
        self._before = np.concatenate((before, block))[-self._history :] if short else block[-self._history :]
        # A block's own first decision may repeat the level the last one ended on.
        if found.size and self._high is not None and rising[0] == self._high:
            found, rising = found[1:], rising[1:]
        if found.size == 0:
            return found
        if self.starts_high is None:
            self.starts_high = not rising[0]
        keep = np.concatenate(([True], rising[1:] != rising[:-1]))
        self._high = bool(rising[keep][-1])
        return found[keep]


def edges_of_samples(blocks: Iterable[Levels], rate_hz: float, settings: ThresholdSettings | None = None) -> Edges:
    """Edges of a sampled line, found by an ``EdgeFollower``, so that a long recording needs little memory; where they
    lie between samples is told by all of them together.
    """
    follower = EdgeFollower(rate_hz, settings)
    positions = [follower.feed(block) for block in blocks]
    positions.append(follower.finish())
    us, starts_high = 1e6 / rate_hz, bool(follower.starts_high)
    places = np.concatenate(positions)
    rising = (np.arange(places.size) % 2 == 0) != starts_high
    return Edges(evenly_phased(places, rising) * us, starts_high, 0.0, follower.settled * us)


def edges_of_changes(times_us: Floats, values: Floats, start_us: float, end_us: float) -> Edges:
    """Edges of a line of which each change is known: its times, shape (n,), and the value from then on.

    The threshold is the middle of the values' range, the dead band a good quarter of it, so that ringing passes.
    """
    low, high = float(values.min()), float(values.max())
    half = DEAD_BAND * (high - low) / 2
    middle = (low + high) / 2
    states = (values > middle + half).astype(np.int8) - (values < middle - half).astype(np.int8)
    states[0] = 1 if values[0] > middle else -1
    decided = np.flatnonzero(states)
    kept = decided[np.concatenate(([True], states[decided][1:] != states[decided][:-1]))]
    return Edges(times_us[kept[1:]], bool(states[0] > 0), start_us, end_us)


def block_grain(rate_hz: float) -> int:
    """Samples in a chunk of the envelope: a power of two near ``CHUNK_S``."""
    return int(1 << max(1, round(float(np.log2(max(CHUNK_S * rate_hz, 2.0))))))


def _fold(x: Levels, grain: int, pick: np.ufunc) -> Levels:
    """Largest or smallest value of each chunk, by halving: much quicker than a reduction over a short axis."""
    while grain > 1:
        x = pick(x[::2], x[1::2])
        grain //= 2
    return x


def _spread(x: Levels, reach: int, pick: np.ufunc) -> Levels:
    """Largest or smallest value within ``reach`` chunks on either side, by doubling."""
    padded = np.pad(x, reach, mode="edge")
    width, target = 1, 2 * reach + 1
    while width < target:
        step = min(width, target - width)
        padded = pick(padded[:-step], padded[step:])
        width += step
    return padded


def _noise(swing: Levels, chunk_range: Levels) -> float:
    """The usual range of noise within ``REACH_S``: of the quieter stretches, and no less than the samples' grid."""
    quiet = min(
        float(np.quantile(swing, QUIET_QUANTILE)), REACH_TO_CHUNK * float(np.quantile(chunk_range, QUIET_QUANTILE))
    )
    some = chunk_range[chunk_range > 0]
    grid = 2.0 * float(some.min()) if some.size else 0.0
    # On a line of two levels the smallest step there is an edge.
    return max(quiet, grid) if float(swing.max()) > 3 * grid else quiet


def _never_rests(x: Levels, swing: Levels) -> bool:
    """Whether a line swings fully all the time, as a radio receiver's that amplifies noise: loudly, or between two
    levels.

    Then nothing is quiet, and there is no noise beside the swing. Two levels have a kurtosis of 1, Gaussian noise of 3;
    a receiver's noise that is faster than the samples comes out as such.
    """
    most = float(swing.max())
    if float(np.quantile(swing, QUIET_QUANTILE)) < FULL_SWING * most:
        return False
    if most > LOUD:
        return True
    centred = x - x.mean()
    squares = centred * centred
    return float(np.mean(squares * squares)) < TWO_LEVELS * float(np.mean(squares)) ** 2


def _crossings(
    x: Levels, grain: int, reaches: tuple[int, int], largest: float, settings: ThresholdSettings
) -> tuple[NDArray[np.float64], NDArray[np.bool_], float]:
    """Positions (in samples of ``x``) and directions of the crossings that pass the dead band.

    ``largest`` is the highest swing so far, and comes back with what was found here.
    """
    if x.size < 2:
        return np.empty(0), np.empty(0, np.bool_), largest
    short = -x.size % grain
    padded = np.pad(x, (0, short), mode="edge") if short else x
    chunk_high, chunk_low = _fold(padded, grain, np.maximum), _fold(padded, grain, np.minimum)
    reach, around = reaches
    high, low = _spread(chunk_high, reach, np.maximum), _spread(chunk_low, reach, np.minimum)
    swing = high - low
    largest = max(largest, float(swing.max()))
    least = LEAST_OF_OTHERS * _spread(swing, around, np.maximum)
    by_hand = settings.level is not None
    restless = by_hand or (_never_rests(x, swing) if settings.rests is None else not settings.rests)
    noise = 0.0 if restless else _noise(swing, chunk_high - chunk_low)
    step = np.maximum(chunk_high[1:], chunk_high[:-1]) - np.minimum(chunk_low[1:], chunk_low[:-1])
    steepest = _spread(np.append(step, 0.0).astype(np.float32), reach, np.maximum)
    middle = (high + low) / 2 if settings.level is None else np.full_like(high, settings.level)
    band = settings.hysteresis * swing
    if by_hand:  # what crosses the level is an edge, whatever it stands among
        quiet = swing <= SMALLEST_SWING
    else:
        quiet = swing <= np.maximum(least, max(ACTIVE_RATIO * noise, LEAST_OF_ALL * largest, SMALLEST_SWING))
    if not restless:
        quiet |= steepest < STEEP * swing
    upper = np.where(quiet, np.inf, middle + band).astype(np.float32)
    lower = np.where(quiet, -np.inf, middle - band).astype(np.float32)
    # Only chunks that touch a bound can hold an edge.
    busy = np.flatnonzero((chunk_high > upper) | (chunk_low < lower))
    if busy.size == 0:
        return np.empty(0), np.empty(0, np.bool_), largest
    rows = padded.reshape(-1, grain)
    if busy.size < 0.7 * rows.shape[0]:
        rows, upper_busy, lower_busy = rows[busy], upper[busy], lower[busy]
    else:
        busy, upper_busy, lower_busy = np.arange(rows.shape[0]), upper, lower
    level = (rows > upper_busy[:, None]).view(np.int8) - (rows < lower_busy[:, None]).view(np.int8)
    flat = level.ravel()
    turns = np.flatnonzero(flat[1:] != flat[:-1]) + 1
    turns = np.concatenate(([0], turns))
    decided = turns[flat[turns] != 0]
    states = flat[decided]
    decided = decided[np.concatenate(([True], states[1:] != states[:-1]))]
    at = busy[decided // grain] * grain + decided % grain
    rising = flat[decided] > 0
    if not restless and at.size:
        kept = _without_sags(_local_steps(step, at // grain) / swing[at // grain], rising)
        # A first decision that is none of them says the level before.
        before = ~rising[kept[:1]] if kept.size else rising[:1]
        at, rising = np.append(at[:1], at[kept]), np.append(before, rising[kept])
    # The first decision only says which level the line is on, unless the line crosses over just before it.
    position = crossing_places(padded, at, rising, middle[at // grain])
    return position[1:], rising[1:], largest


def _without_sags(suddenness: Levels, rising: NDArray[np.bool_]) -> NDArray[np.intp]:
    """Which crossings are edges: a level that sags back to where the line stood before an edge crosses the middle
    slowly, and once more before the next edge. Where one that is sudden follows on another of its direction, the
    steepest between them is an edge, too.
    """
    sudden = np.flatnonzero(suddenness >= STEEP)
    kept = [sudden]
    same = rising[sudden[1:]] == rising[sudden[:-1]]
    for one, other in zip(sudden[:-1][same].tolist(), sudden[1:][same].tolist(), strict=True):
        between = np.arange(one + 1, other, 2)
        kept.append(between[[np.argmax(suddenness[between])]])
    return np.sort(np.concatenate(kept))


def _local_steps(step: Levels, chunks: NDArray[np.intp]) -> Levels:
    """By how much the line changes within two chunks, of which each is one; ``step`` is that from each to the next."""
    padded = np.pad(step, 1, mode="edge") if step.size else np.zeros(2, np.float32)
    return np.maximum(padded[chunks], padded[chunks + 1])
