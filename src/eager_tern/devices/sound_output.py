"""A sound output as a transmitter: two infrared diodes back to back, or the bare envelope for radio."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
from msgspec import field
from numpy.typing import NDArray

from eager_tern.devices.serial_port import Port
from eager_tern.devices.sound import CARD, cards, sounddevice_if_there
from eager_tern.devices.targets import USUAL_CARRIER_HZ, RealTime, Went
from eager_tern.errors import InputError
from eager_tern.replacing import not_written
from eager_tern.signal.values import Floats

RATE_HZ = 192_000  # half a carrier of 38 kHz needs 48 kHz at the least; edges lie on whole samples
LOUD = 0.9
LEAD_S = 0.05  # of silence before the first mark: cards swallow the start of what they play
WAV = ".wav"
Stereo = NDArray[np.float32]


def waveform(signed_us: Floats, carrier_hz: float | None, rate_hz: int = RATE_HZ) -> Stereo:
    """Signed durations as stereo samples, shape (n, 2).

    Half the carrier on both channels in opposite phase: of two diodes back to back one lights in either half of the
    wave, so that light comes at the whole carrier. With a carrier of 0 a mark is a level, for a radio transmitter.
    """
    edges = np.concatenate(([0.0], np.cumsum(np.abs(signed_us)))) * rate_hz / 1e6
    times = np.arange(int(np.ceil(edges[-1])))
    at = np.searchsorted(edges, times, side="right") - 1
    marks = signed_us[np.minimum(at, signed_us.size - 1)] > 0
    if carrier_hz == 0:
        left = np.where(marks, LOUD, 0.0)
        return np.column_stack((left, left)).astype(np.float32)
    half = (carrier_hz or USUAL_CARRIER_HZ) / 2
    since = times - edges[np.minimum(at, edges.size - 1)]  # each mark begins with the wave's rise
    left = np.where(marks, LOUD * np.sin(2 * np.pi * half / rate_hz * since), 0.0)
    return np.column_stack((left, -left)).astype(np.float32)


def sound_outputs() -> list[Port]:
    """The stereo outputs of this machine's sound cards; none where sound is not installed."""
    return cards("output", 2)


class SoundTarget(RealTime):
    """A card's output, or a WAV file (``sound:NAME.wav``) of what would have been played."""

    id: str
    name: str
    _played: list[Stereo] = field(default_factory=list)

    @classmethod
    def open(cls, target_id: str) -> SoundTarget:
        """Raises InputError where there is no such output."""
        name = target_id.removeprefix(CARD)
        if not name.lower().endswith(WAV):
            sounddevice = sounddevice_if_there()
            if sounddevice is None:
                raise InputError(
                    target_id, "sound needs the package sounddevice and the library PortAudio (libportaudio2)"
                )
            try:
                sounddevice.check_output_settings(name, 2, "float32", None, RATE_HZ)
            except (sounddevice.PortAudioError, ValueError) as error:
                raise InputError(target_id, f"cannot play at {RATE_HZ} Hz in stereo ({error})") from None
        return cls(target_id, name)

    def cannot(self, frames: Sequence[Floats], carrier_hz: float | None) -> str:
        if carrier_hz and not 20_000 <= carrier_hz <= RATE_HZ / 2:
            return f"a carrier of {carrier_hz / 1000:.1f} kHz cannot be made by sound; 20 to {RATE_HZ // 2000} kHz can"
        return ""

    def send(self, frames: Sequence[Floats], carrier_hz: float | None, stopped: Callable[[], bool]) -> Went:
        if self._is_file:
            part = waveform(np.concatenate([*frames[:-1], frames[-1][:-1]]), carrier_hz)
            self._played.append(part)
            return Went(len(frames))
        sounddevice = sounddevice_if_there()
        went = 0
        try:
            with sounddevice.OutputStream(RATE_HZ, device=self.name, channels=2, dtype="float32") as stream:
                stream.write(np.zeros((int(LEAD_S * RATE_HZ), 2), np.float32))
                for frame in frames:
                    if stopped():
                        break
                    stream.write(waveform(frame, carrier_hz))
                    went += 1
        except sounddevice.PortAudioError as error:
            raise InputError(self.id, f"did not take the frame ({error})") from None
        return Went(went)

    @property
    def _is_file(self) -> bool:
        return self.name.lower().endswith(WAV)

    def rest(self, seconds: float, stopped: Callable[[], bool]) -> None:
        if self._is_file:
            self._played.append(np.zeros((int(seconds * RATE_HZ), 2), np.float32))
        else:
            super().rest(seconds, stopped)

    def now_s(self) -> float:
        return sum(map(len, self._played)) / RATE_HZ if self._is_file else super().now_s()

    def close(self) -> None:
        if not self._is_file or not self._played:
            return
        import soundfile

        quiet = np.zeros((int(LEAD_S * RATE_HZ), 2), np.float32)
        try:
            soundfile.write(str(Path(self.name)), np.concatenate((quiet, *self._played, quiet)), RATE_HZ, "PCM_16")
        except (soundfile.LibsndfileError, OSError) as error:
            why = not_written(error) if isinstance(error, OSError) else "cannot be written"
            raise InputError(self.name, why) from None
