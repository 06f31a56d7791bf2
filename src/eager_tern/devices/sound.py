"""The receiver's data line at a sound card's input, or a recording of it played as if it came in now."""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any, Literal

import numpy as np
from msgspec import Struct

from eager_tern.devices.serial_port import Port, Received
from eager_tern.errors import InputError
from eager_tern.signal.following import LineFollower, block_size
from eager_tern.signal.values import Levels

CARD, PLAY = "sound:", "play:"  # what their ids begin with
RATE_HZ = 48_000
CLIPS = "The input clips: turn it down until the level stays below its top. Frames can be read, but lengths suffer."
GAIN_FOLLOWS = (
    "The silence grows louder: this looks like a microphone jack with automatic gain. Use a line input, or turn the "
    "automatic gain off in the system's sound settings."
)
MICROPHONE = "This is a microphone's input: turn its boost and automatic gain off, or use a line input."
LOST = "The machine was too slow and lost samples; the take shows a gap there."


def is_sound(device: str) -> bool:
    return device.startswith((CARD, PLAY))


@cache
def sounddevice_if_there() -> Any:
    """The package, or None where it or its library is not installed."""
    try:
        import sounddevice
    except (ImportError, OSError):
        return None
    return sounddevice


def sound_inputs() -> list[Port]:
    """The inputs of this machine's sound cards; none where sound is not installed."""
    return cards("input", 1)


def cards(way: Literal["input", "output"], channels: int) -> list[Port]:
    """The sound cards that have so many channels in or out; none where sound is not installed."""
    sounddevice = sounddevice_if_there()
    if sounddevice is None:
        return []
    try:
        found = sounddevice.query_devices()
    except sounddevice.PortAudioError:
        return []
    fitting = (d["name"] for d in found if d[f"max_{way}_channels"] >= channels)
    return [Port(f"{CARD}{name}", f"Sound {way}: {name}") for name in fitting]


class SoundInput(Struct):
    """An open input. ``poll`` waits for the next block of samples."""

    device: str
    _next: Callable[[], tuple[Levels, bool]]
    _end: Callable[[], None]
    _line: LineFollower
    _said: set[str]
    _first_words: str = ""

    @classmethod
    def open(cls, device: str, speed: float = 1.0) -> SoundInput:
        """Open a sound card's input, or a recording, which is played ``speed`` times as fast. Raises InputError."""
        if device.startswith(PLAY):
            read, end, rate = _playing(Path(device.removeprefix(PLAY)), speed)
            return cls(device, read, end, LineFollower(rate), set())
        name = device.removeprefix(CARD)
        read, end, rate = _listening(name)
        return cls(device, read, end, LineFollower(rate), set(), MICROPHONE if "mic" in name.lower() else "")

    def poll(self) -> Received:
        """The durations of the next block, its level, and what is wrong with it. Raises InputError at the end."""
        samples, lost = self._next()
        signed = self._line.feed(samples)
        words = CLIPS if self._line.clips else GAIN_FOLLOWS if self._line.gain_follows else self._first_words
        news = LOST if lost else "" if words in self._said else words
        self._said.add(words)
        return Received((signed,) if signed.size else (), news=news, lost_lines=int(lost), level=self._line.peak)

    def close(self) -> None:
        self._end()


Source = tuple[Callable[[], tuple[Levels, bool]], Callable[[], None], float]


def _listening(name: str) -> Source:
    sounddevice = sounddevice_if_there()
    if sounddevice is None:
        raise InputError(CARD + name, "sound needs the package sounddevice and the library PortAudio (libportaudio2)")
    size = block_size(RATE_HZ)
    try:
        stream = sounddevice.InputStream(RATE_HZ, size, name, channels=1, dtype="float32")
        stream.start()
    except (sounddevice.PortAudioError, ValueError) as error:
        raise InputError(CARD + name, f"cannot be opened ({str(error).split('[')[0].strip()})") from None

    def read() -> tuple[Levels, bool]:
        try:
            values, lost = stream.read(size)
        except sounddevice.PortAudioError:
            raise InputError(CARD + name, "the input has disappeared; what came before it did is kept") from None
        return np.ascontiguousarray(values[:, 0]), bool(lost)

    return read, stream.close, RATE_HZ


def _playing(path: Path, speed: float) -> Source:
    import soundfile

    try:
        file = soundfile.SoundFile(str(path))
    except soundfile.LibsndfileError as error:
        raise InputError(path, f"is no audio that can be read ({error.error_string.strip().rstrip('.')})") from None
    size = block_size(file.samplerate)
    began, played = time.monotonic(), 0
    ended = False

    def read() -> tuple[Levels, bool]:
        nonlocal played, ended
        if ended:
            raise InputError(path, "has been played to its end")
        values = file.read(size, dtype="float32", always_2d=True)[:, 0]
        ended = values.size == 0
        played += size
        time.sleep(max(0.0, began + played / file.samplerate / speed - time.monotonic()))
        # A rest behind the end, so that what came last is read.
        return np.ascontiguousarray(
            np.pad(values, (0, size - values.size), mode="edge" if values.size else "constant")
        ), False

    return read, file.close, file.samplerate
