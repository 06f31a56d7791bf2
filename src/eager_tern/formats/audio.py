"""Audio: the receiver's data line recorded through a sound card."""

from __future__ import annotations

import errno
import struct
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from msgspec.structs import replace

from eager_tern.errors import InputError
from eager_tern.formats.capture import AS_FOUND, Capture, Format, Note, ReadOptions
from eager_tern.signal.carrier import duty_in_bursts
from eager_tern.signal.keying import pulses_of_bursts
from eager_tern.signal.order import median
from eager_tern.signal.quality import CLIPS, clips
from eager_tern.signal.radio import Transmission, find_transmissions
from eager_tern.signal.recording import Recording
from eager_tern.signal.threshold import ThresholdSettings, edges_of_samples
from eager_tern.signal.values import Levels, Pulses

FASTEST_WITHOUT_CARRIER_HZ = 96_001  # sampled faster, a recording may hold the unstripped carrier
FASTEST_HZ = 50_000_000  # of a line's recording: more is a damaged header
LOWEST_CARRIER_HZ = 20_000.0
LARGEST_NOISE = 16.0  # standard deviations from end to end, where it is not as loud at all frequencies
LEAST_CARRIER = 0.2  # of half the swing: the edges of a stripped line hold less of any frequency up there
BLOCK, SMALL_BLOCK = 1 << 19, 1 << 12  # samples read at a time
EDGE = 1.5  # samples to either side
WRITTEN_RATE_HZ = 48_000
REST_S = 0.05
SWING = 0.6


def claims(head: bytes, suffix: str) -> bool:
    """RIFF or RF64 with WAVE, AIFF, or one of the formats that begin with a word of their own."""
    return (
        (head[:4] in (b"RIFF", b"RF64") and head[8:12] == b"WAVE")
        or (head[:4] == b"FORM" and head[8:12] in (b"AIFF", b"AIFC"))
        or head[:4] in (b"fLaC", b".snd", b"OggS", b"caff", b"riff")
    )


def read(path: Path, options: ReadOptions = AS_FOUND) -> list[Capture]:
    """One capture a channel that carries a signal (the first, if none does). Raises InputError."""
    import soundfile  # its library takes a while to load

    threshold = ThresholdSettings(options.level) if options.level is not None else None
    try:
        info = soundfile.info(str(path))
    except soundfile.LibsndfileError as error:
        raise InputError(path, f"is no audio that can be read ({error.error_string.strip().rstrip('.')})") from None
    if not 1 <= info.samplerate <= FASTEST_HZ:
        raise InputError(path, f"a sample rate of {info.samplerate:,} Hz is not possible")
    if info.frames == 0:
        raise InputError(path, "holds no samples")
    warnings = _cut_short(path)
    captures = []
    for channel in range(info.channels):
        if info.samplerate >= FASTEST_WITHOUT_CARRIER_HZ and threshold is None:
            with_carrier = _with_carrier(path, info, channel, warnings)
            if with_carrier is not None:
                captures.append(with_carrier)
                continue
        captures.append(_of_line(path, info, channel, threshold, warnings))
    carrying = [c for c in captures if c.bursts or (c.edges is not None and c.edges.times_us.size)]
    if not carrying and threshold is None:  # all of it is noise, or a signal no louder than that
        return [_of_line(path, info, 0, ThresholdSettings(rests=False), warnings)]
    return carrying or captures[:1]


def _of_line(
    path: Path, info: Any, channel: int, threshold: ThresholdSettings | None, warnings: Sequence[str]
) -> Capture:
    """A channel as a line of two levels."""
    import soundfile

    with soundfile.SoundFile(str(path)) as file:
        wrong: list[str] = []
        edges = edges_of_samples(_blocks(file, channel, wrong), info.samplerate, threshold)
        found = tuple(dict.fromkeys((*warnings, *wrong)))
        return Capture(str(path), FORMAT.name, channel, info.samplerate, edges, warnings=found)


def samples_between(path: Path, channel: int, from_us: float, to_us: float) -> tuple[Levels, float, float]:
    """The samples of a stretch of time, their rate, and the time of the first. Raises InputError."""
    import soundfile

    try:
        with soundfile.SoundFile(str(path)) as file:
            first = min(max(int(from_us / 1e6 * file.samplerate), 0), file.frames)
            count = min(int((to_us - from_us) / 1e6 * file.samplerate) + 2, file.frames - first)
            file.seek(first)
            values = file.read(max(count, 0), dtype="float32", always_2d=True)
            if channel >= values.shape[1]:
                raise InputError(path, f"has no channel {channel} any more")
            return np.ascontiguousarray(values[:, channel]), file.samplerate, first / file.samplerate * 1e6
    except soundfile.LibsndfileError:
        raise InputError(path, "cannot be read any more") from None


def _with_carrier(path: Path, info: Any, channel: int, warnings: tuple[str, ...]) -> Capture | None:
    """The channel with its carrier taken off, if it is a carrier that makes up a good part of it."""
    import soundfile

    with soundfile.SoundFile(str(path)) as file:
        swing = [np.inf, -np.inf]

        def part(first: int, last: int) -> Levels:
            file.seek(first)
            values = np.ascontiguousarray(file.read(last - first, dtype="float32", always_2d=True)[:, channel])
            if values.size:
                swing[:] = min(swing[0], float(values.min())), max(swing[1], float(values.max()))
            return np.pad(values, (0, last - first - values.size))

        recording = Recording(info.samplerate, info.frames, part)
        try:
            found = find_transmissions(recording, LOWEST_CARRIER_HZ)
        except soundfile.LibsndfileError:
            return None
        strong = [t for t in found if t.keying != "fsk" and _level(t) > LEAST_CARRIER * (swing[1] - swing[0]) / 2]
        noisy = [t for t in found if t.keying != "fsk" and _buried(t, info.samplerate, swing[1] - swing[0])]
        if not strong and not noisy:
            return None
        best = max(strong or noisy, key=_level)
        pulses = replace(pulses_of_bursts(best.bursts), carrier_hz=best.frequency_hz)
        duty = duty_in_bursts(recording, best.bursts)
    return Capture(
        str(path), FORMAT.name, channel, info.samplerate, None, pulses, best.bursts, duty=duty, warnings=warnings
    )  # fmt: skip


def _level(found: Transmission) -> float:
    return median([burst.level for burst in found.bursts])


def _buried(found: Transmission, rate_hz: float, swing: float) -> bool:
    """Whether noise, rather than a line's own swing, is what makes the recording so much larger than the carrier."""
    noise = median([burst.noise for burst in found.bursts]) * rate_hz
    return median([burst.level**2 for burst in found.bursts]) < noise and swing < LARGEST_NOISE * noise**0.5


def _blocks(file: Any, channel: int, wrong: list[str]) -> Iterator[Levels]:
    import soundfile

    size, at = BLOCK, 0
    while True:
        try:
            if file.tell() != at:
                file.seek(at)
            block = file.read(size, dtype="float32", always_2d=True)
        except soundfile.LibsndfileError:
            if size == BLOCK:  # what stands before the damage is to be had in smaller pieces
                size = SMALL_BLOCK
                continue
            wrong.append(f"cannot be read beyond sample {at}")
            return
        at += len(block)
        if len(block) == 0:
            return
        values = np.ascontiguousarray(block[:, channel])
        if CLIPS not in wrong and clips(values):
            wrong.append(CLIPS)
        yield values


def _cut_short(path: Path) -> tuple[str, ...]:
    """A warning where the file ends before its header says."""
    with path.open("rb") as file:
        head = file.read(12)
    size = path.stat().st_size
    if head[:4] == b"RIFF":
        told = struct.unpack("<I", head[4:8])[0] + 8
        if told > size + 1 and told < 0xFFFFFF00:
            return (f"is cut short at byte {size} of {told}",)
    return ()


def write(path: Path, pulses: Pulses, notes: Sequence[Note] = ()) -> None:
    """The line at 48 kHz, 16 bits, low at rest.

    Each edge rises as half a sine within three samples, so that interpolation between them gives its place back.
    """
    import soundfile

    rate = WRITTEN_RATE_HZ
    edges = pulses.edge_times_us * rate / 1e6
    size = int(np.ceil(edges[-1] if pulses.durations_us.size else 0.0) + REST_S * rate)
    nearest = np.rint(edges).astype(np.intp)
    steps = np.zeros(size + 4)
    signs = 1.0 - 2.0 * (np.arange(edges.size) % 2)
    np.add.at(steps, np.minimum(nearest + 3, steps.size - 1), signs)
    line = np.cumsum(steps)
    for shift in range(-2, 3):  # the samples the edge passes through
        at = nearest + shift
        inside = at >= 0
        risen = (1 + np.sin(np.pi / 2 * np.clip((at - edges) / EDGE, -1.0, 1.0))) / 2
        np.add.at(line, at[inside], (signs * risen)[inside])
    try:
        soundfile.write(str(path), (line[:size] * 2 - 1) * SWING, rate, subtype="PCM_16")
    except soundfile.LibsndfileError as error:
        raise OSError(errno.EIO, error.error_string.strip()) from None


FORMAT = Format("audio", (".wav", ".flac"), claims, read, write, obeys=frozenset({"level"}))
