"""Transmitters in a recording: each found, told from its ghosts, tuned to and filtered."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.signal.baseband import Baseband, Complexes, Keying, level_of, turning
from eager_tern.signal.order import median
from eager_tern.signal.recording import Recording, Samples
from eager_tern.signal.spectrum import Patch, find_patches
from eager_tern.signal.turns import CLEARLY_TAKES_TURNS, FOLLOWS, TAKES_TURNS, are_two_tones, by_turns, correlation
from eager_tern.signal.two_tones import fast_tones

MARGIN_S = 4e-3  # of silence kept on either side of a burst
FAINT_MARGIN_S = 14e-3  # of a faint one, whose first and last rows of the spectrum may show nothing
FAINT, FAINT_S = 10.0, 300e-6  # energy of a usual pulse over the noise's density, below which a burst is faint
WIDEST_HZ = 12_000.0  # half the width a keyed carrier is filtered to: its edges are then some 40 µs slow
NARROWEST_HZ = 2_500.0
ROOM_OF_BITS = 0.8  # beside a tone, in rates of its bits
TONE_HZ = 250.0  # a tone's own width
TONES_APART_HZ = 1_500.0
WEAKEST_TONE = 0.12  # of the other tone's power
SELDOM_TONE = 0.004  # of the same, where marks are short and far between, and then only if it clearly takes turns
PEAKS = 6  # of a patch that could be its second tone: keying makes some, too
BESIDE = 0.5  # of the shorter one's time that two patches share, which are of one burst then
BESIDE_STRONG, BRIEF_S = 0.01, 12e-3  # of a strong one's power, and no longer: the strong one's keying
IMAGE = 0.01  # of a signal's power, at its frequency below 0: a receiver whose two channels are not quite alike
MIRRORED = 0.3  # of a peak's power on the other side of the tone: keying makes both alike
SAME_CARRIER_HZ, SAME_TONE_HZ = 4_000.0, 1_500.0
ROWS_AT_ONCE = 4096  # of the filter: what is in memory at one time
LONGEST_S = 10.0  # a burst is cut there: memory stays bounded


class Transmission(Struct, frozen=True):
    """Everything one transmitter sent. ``frequency_hz`` is counted from the recording's 0."""

    frequency_hz: float
    keying: Keying
    bursts: tuple[Baseband, ...]

    @property
    def deviation_hz(self) -> float:
        return median([burst.deviation_hz for burst in self.bursts])


class _Found(Struct, frozen=True):
    """A burst before it is filtered: samples, tones (the lower first; one for a keyed carrier), room to its sides."""

    first: int
    last: int
    tones_hz: tuple[float, ...]
    room_hz: float
    noise: float
    power: float

    @property
    def center_hz(self) -> float:
        return sum(self.tones_hz) / len(self.tones_hz)


def find_transmissions(recording: Recording, lowest_hz: float | None = None) -> list[Transmission]:
    """The transmitters of a recording, strongest first.

    For a real recording (sound) only carriers from ``lowest_hz`` on count.
    """
    patches = find_patches(recording, lowest_hz)
    found = [burst for group in _at_one_time(patches) for burst in _tell_apart(recording, group)]
    groups: list[list[_Found]] = []
    for burst in sorted(_with_both_tones(found), key=lambda b: -b.power):
        for group in groups:
            same = len(group[0].tones_hz) == len(burst.tones_hz)
            if same and abs(group[0].center_hz - burst.center_hz) < SAME_CARRIER_HZ:
                group.append(burst)
                break
        else:
            groups.append([burst])
    transmissions = []
    for group in groups:
        bursts = tuple(tune(recording, b) for b in sorted(group, key=lambda b: b.first))
        center = median([b.center_hz for b in group])
        keying: Keying = "fsk" if len(group[0].tones_hz) == 2 else "ook"
        transmissions.append(Transmission(center, keying, bursts))
    return transmissions


def _with_both_tones(found: Sequence[_Found]) -> list[_Found]:
    """Bursts of which only one tone was seen, with the other one that the same transmitter has elsewhere."""
    two = [burst for burst in found if len(burst.tones_hz) == 2]
    whole = []
    for burst in found:
        near = [b for b in two if min(abs(tone - burst.tones_hz[0]) for tone in b.tones_hz) < SAME_TONE_HZ]
        if len(burst.tones_hz) == 1 and near:
            whole.append(replace(burst, tones_hz=near[0].tones_hz, room_hz=near[0].room_hz))
        else:
            whole.append(burst)
    return whole


def _at_one_time(patches: Sequence[Patch]) -> list[list[Patch]]:
    """Patches in groups of which each overlaps another of its group in time."""
    groups: list[list[Patch]] = []
    until = -1
    for patch in patches:
        if groups and patch.first < until:
            groups[-1].append(patch)
        else:
            groups.append([patch])
            until = patch.last
        until = max(until, patch.last)
    return groups


def _tell_apart(recording: Recording, group: Sequence[Patch]) -> list[_Found]:
    """The bursts of patches at one time: two tones that take turns are one, what follows a stronger one is a ghost."""
    recording = _centred(recording, min(p.first for p in group), max(p.last for p in group))
    left = sorted(group, key=lambda p: -p.power)
    bursts: list[_Found] = []
    while left:
        patch = left[0]
        samples = _samples(recording, [patch])
        seen = [p for p in left if _overlap(patch, p) > BESIDE]
        low, high = min(p.low_hz for p in seen), max(p.high_hz for p in seen)
        if (fast := fast_tones(samples, recording.rate_hz, low, high)) is not None:
            tones: tuple[float, ...] = fast.tones_hz
            own, ghosts = seen, list[Patch]()
            room = max(WIDEST_HZ, ROOM_OF_BITS / fast.shortest_s)
        else:
            tones, own, ghosts = _of_one(recording, samples, patch, left[1:])
            others = [p for p in seen if p not in own and p not in ghosts]
            room = min([WIDEST_HZ, *(_room(tones, other) for other in others)])
        left = [p for p in left if p not in own and p not in ghosts]
        first, last = min(p.first for p in own), max(p.last for p in own)
        bursts.append(_Found(first, last, tuple(sorted(tones)), room, patch.noise, patch.power))
    return bursts


def _samples(recording: Recording, patches: Sequence[Patch]) -> Samples:
    """Those of the time in which any of the patches is, as far as memory allows."""
    first, last = min(p.first for p in patches), max(p.last for p in patches)
    return recording.padded(first, min(last, first + int(LONGEST_S * recording.rate_hz)))


def _of_one(
    recording: Recording, samples: Samples, patch: Patch, weaker: Sequence[Patch]
) -> tuple[tuple[float, ...], list[Patch], list[Patch]]:
    """The tones of the transmitter that a patch is of, its patches, and its ghosts, which nobody sent.

    ``samples`` are the patch's; ``weaker`` are the patches among which the others are.
    """
    rate = recording.rate_hz
    tones = _tones(samples, rate, patch)
    own, ghosts = [patch], list[Patch]()
    for other in weaker:
        beside = _overlap(patch, other) > BESIDE
        comparable = len(tones) == 1 and other.power > WEAKEST_TONE * patch.power
        if not beside and not (comparable and _overlap(patch, other) > 0):  # a faint tone is seen for a while only
            continue
        if other.power < BESIDE_STRONG * patch.power and other.last - other.first < BRIEF_S * rate:
            ghosts.append(other)
            continue
        heard = samples if beside else _samples(recording, [patch, other])
        (tone,) = _tones(heard, rate, other)[:1]
        mirrored = other.power < IMAGE * patch.power and any(abs(tone + t) < SAME_TONE_HZ for t in tones)
        same = any(abs(tone - t) < SAME_TONE_HZ for t in tones)  # a part of the signal that one tone alone was sent in
        if beside and mirrored:
            ghosts.append(other)
        elif beside and same:
            own.append(other)
        elif comparable and not same and are_two_tones(heard, rate, tones[0], tone, patch.noise):
            tones = (tones[0], tone)
            own.append(other)
        elif beside and any(correlation(samples, rate, t, tone) > FOLLOWS for t in tones):
            ghosts.append(other)
    return tones, own, ghosts


def _centred(recording: Recording, first: int, last: int) -> Recording:
    """The recording without the constant that a receiver adds to a stretch: what is left on the average beside it."""
    margin = int(MARGIN_S * recording.rate_hz)
    beside = recording.part(max(first - margin, 0), first), recording.part(last, min(last + margin, recording.size))
    rest = np.concatenate(beside)
    constant = rest.mean() if rest.size else 0.0
    return replace(recording, part=lambda a, b: recording.part(a, b) - constant)


def _overlap(a: Patch, b: Patch) -> float:
    """The part of the shorter one's time that both share."""
    shared = min(a.last, b.last) - max(a.first, b.first)
    return shared / max(min(a.last - a.first, b.last - b.first), 1)


def _room(tones: tuple[float, ...], other: Patch) -> float:
    """Half the distance to another transmitter's patch."""
    away = min(max(other.low_hz - tone, tone - other.high_hz) for tone in tones)
    return max(NARROWEST_HZ, away / 2 + NARROWEST_HZ)


def _tones(samples: NDArray[Any], rate_hz: float, patch: Patch) -> tuple[float, ...]:
    """The strongest tone within a patch, and a second one that takes turns with it, if there is one."""
    size = 1 << int(np.ceil(np.log2(samples.size)))
    power = np.abs(np.fft.fft(samples, size)) ** 2
    frequencies = np.fft.fftfreq(size, 1 / rate_hz)
    width = max(1, round(TONE_HZ / (rate_hz / size)))
    window = np.hanning(width + 2)
    smooth = np.fft.ifft(np.fft.fft(power) * np.fft.fft(np.pad(window, (0, size - window.size)))).real
    smooth = np.roll(smooth, -(window.size // 2))
    inside = (frequencies >= patch.low_hz) & (frequencies <= patch.high_hz)
    strongest = int(np.argmax(np.where(inside, smooth, 0.0)))
    first = float(frequencies[strongest])
    far = np.where(inside & (np.abs(frequencies - first) > TONES_APART_HZ), smooth, 0.0)
    others = []
    for _ in range(PEAKS):
        second = int(np.argmax(far))
        part = float(far[second] / smooth[strongest])
        if part < SELDOM_TONE:
            break
        other = float(frequencies[second])
        is_peak = far[second] >= max(smooth[(second - width) % size], smooth[(second + width) % size])
        mirror = smooth[(2 * strongest - second + np.arange(-width, width + 1)) % size].max()
        if is_peak and mirror < MIRRORED * far[second]:
            together = by_turns(samples, rate_hz, first, other)
            if together < (TAKES_TURNS if part > WEAKEST_TONE else CLEARLY_TAKES_TURNS):
                others.append((part * together**2, other))
        far[np.abs(frequencies - other) < TONES_APART_HZ] = 0.0
    return (first, max(others)[1]) if others else (first,)


def tune(recording: Recording, burst: _Found) -> Baseband:
    """The burst with its centre at 0, filtered to its width and sampled no more often than that needs."""
    tuned = _tuned(recording, burst, MARGIN_S)
    faint = tuned.level**2 * FAINT_S < FAINT * tuned.noise
    return _tuned(recording, burst, FAINT_MARGIN_S) if faint else tuned


def _tuned(recording: Recording, burst: _Found, margin_s: float) -> Baseband:
    rate = recording.rate_hz
    deviation = (burst.tones_hz[1] - burst.tones_hz[0]) / 2 if len(burst.tones_hz) == 2 else 0.0
    half = deviation + burst.room_hz
    center = burst.center_hz
    decimation = max(1, int(rate / (4 * half)))
    # The filter falls off within the room beside the tones, which it must not weaken.
    wings = max(1, round(1.6 * rate / burst.room_hz / decimation)) * decimation
    margin = int(margin_s * rate) // decimation * decimation
    first = burst.first - margin
    last = min(burst.last, burst.first + int(LONGEST_S * rate)) + margin
    samples = _centred(recording, burst.first, burst.last).padded(first - wings, last + wings)
    turned = samples * turning(center, rate, samples.size)
    if decimation > 1:
        values = _filtered(turned, _low_pass(half / rate, wings), decimation)[: (last - first) // decimation]
    else:
        values = turned[wings:-wings].astype(np.complex64)
    slow = rate / decimation
    if deviation == 0:
        off = _offset(values, slow)
        values = values * turning(off, slow, values.size)
    tones = (deviation, -deviation) if deviation else (0.0,)
    level = float(np.mean([level_of(values * turning(tone, slow, values.size), slow, burst.noise) for tone in tones]))
    return Baseband(values, slow, first / rate * 1e6, burst.noise, level, deviation)


def _low_pass(cutoff: float, wings: int) -> NDArray[np.float32]:
    """A sinc in a Hamming window, shape (2·wings + 1,); ``cutoff`` as a part of the sampling rate."""
    taps = np.sinc(2 * cutoff * np.arange(-wings, wings + 1)) * np.hamming(2 * wings + 1)
    return np.asarray(taps / taps.sum(), dtype=np.float32)


def _filtered(samples: Complexes, taps: NDArray[np.float32], decimation: int) -> Complexes:
    """Every so many samples of the filtered signal, from the first on that the filter covers."""
    windows = np.lib.stride_tricks.sliding_window_view(samples, taps.size)[::decimation]
    pieces = [windows[i : i + ROWS_AT_ONCE] @ taps for i in range(0, len(windows), ROWS_AT_ONCE)]
    return np.concatenate(pieces).astype(np.complex64)


def _offset(values: Complexes, rate_hz: float) -> float:
    """How far the carrier is off 0, from the phase that it gains within marks (Kay 1989)."""
    lag = max(1, round(100e-6 * rate_hz))
    width = max(1, round(150e-6 * rate_hz))
    smooth = np.convolve(values, np.ones(width) / width, "same")
    strong = np.abs(smooth) > 0.6 * np.quantile(np.abs(smooth), 0.97)
    both = strong[lag:] & strong[:-lag]
    if not both.any():
        return 0.0
    phase = np.angle(np.sum((smooth[lag:] * smooth[:-lag].conj())[both]))
    return float(phase / (2 * np.pi * lag / rate_hz))
