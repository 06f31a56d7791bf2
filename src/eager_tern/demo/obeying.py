"""The observatory's gadgets at the other end: what each makes of the pulses that reach it.

Written from what the gadgets are, as their makers would have: plain loops over durations, and no line of the
application's own reading, so that obeying proves something. A gadget obeys a whole frame whose check is right and whose
timing a real receiver would bear; everything else it hears and does not care about.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from msgspec import Struct, field

Durations = Sequence[float]  # signed µs: a frame, with the silence behind it or without
State = dict[str, int | float | str]
MARGIN_US = 120.0  # what a receiver adds to a mark or takes from it
TOLERANCE = 0.2  # of a length, besides


class Reaction(Struct, frozen=True):
    """What a gadget did with a press. ``obeyed`` is what it was told, None where it did not care: ``why`` says so."""

    obeyed: Mapping[str, int | float | str] | None
    why: str = ""


class Gadget(Struct):
    """A gadget with what it shows: its ``state``. ``hears`` are the carriers (Hz) that reach it; 0 for radio."""

    name: str
    state: State
    listens: Callable[[Gadget, Sequence[Durations]], Reaction]
    hears: tuple[float, float] = (33_000.0, 43_000.0)
    last: Reaction = field(default_factory=lambda: Reaction(None, "has heard nothing yet"))
    memory: dict[str, int] = field(default_factory=dict)

    def hear(self, frames: Sequence[Durations], carrier_hz: float | None) -> Reaction:
        """A press reaches the gadget."""
        if carrier_hz is not None and not self.hears[0] <= carrier_hz <= self.hears[1]:
            what = f"a carrier of {carrier_hz / 1000:.1f} kHz" if carrier_hz else "no carrier"
            self.last = Reaction(None, f"{what} does not get through to it")
        else:
            self.last = self.listens(self, frames)
        if self.last.obeyed is not None:
            self.state.update(self.last.obeyed)
        return self.last


class IgnoredError(Exception):
    """Why a frame is none of the gadget's."""


def _near(us: float, wanted: float) -> bool:
    return abs(abs(us) - wanted) < MARGIN_US + TOLERANCE * wanted


def _expect(us: float, wanted: float, what: str) -> None:
    if (us > 0) != (wanted > 0) or not _near(us, abs(wanted)):
        raise IgnoredError(f"{what} is {abs(us):.0f} µs, not {abs(wanted):.0f}")


def _distance(frame: Durations, at: int, count: int, mark: float, zero: float, one: float) -> list[int]:
    """Bits of a mark each and a space that tells."""
    bits = []
    for number in range(count):
        if at + 1 >= len(frame):
            raise IgnoredError(f"it ends after {number} bits")
        _expect(frame[at], mark, f"mark {number + 1}")
        space = -frame[at + 1]
        if _near(space, zero) and not (_near(space, one) and abs(space - one) < abs(space - zero)):
            bits.append(0)
        elif _near(space, one):
            bits.append(1)
        else:
            raise IgnoredError(f"space {number + 1} is {space:.0f} µs")
        at += 2
    return bits


def _number(bits: Sequence[int], low_first: bool) -> int:
    value = 0
    for bit in reversed(bits) if low_first else bits:
        value = value * 2 + bit
    return value


def _taking(
    decode: Callable[[Gadget, Sequence[Durations]], State],
) -> Callable[[Gadget, Sequence[Durations]], Reaction]:
    def listens(gadget: Gadget, frames: Sequence[Durations]) -> Reaction:
        try:
            return Reaction(decode(gadget, frames))
        except IgnoredError as why:
            return Reaction(None, str(why))

    return listens


# The projector: 9 ms and 4.5 ms, then address, its complement, command, its complement, lowest bit first.
PROJECTOR_KEYS = {
    0x40: "Lamp", 0x12: "Timer", 0x44: "Freeze", 0x1A: "Previous slide", 0x5E: "Blank", 0x16: "Next slide",
    0x0D: "Focus −", 0x03: "Menu", 0x09: "Focus +", 0x1E: "Zoom −", 0x51: "Keystone", 0x1D: "Zoom +",
}  # fmt: skip


def _projector(gadget: Gadget, frames: Sequence[Durations]) -> State:
    frame = frames[0]
    _expect(frame[0], 9000, "the leader's mark")
    if len(frame) > 1 and _near(-frame[1], 2250):
        raise IgnoredError("a repeat without its first frame")
    _expect(frame[1], -4500, "the leader's space")
    numbers = [_number(_distance(frame, 2 + 16 * i, 8, 562, 562, 1687), True) for i in range(4)]
    if len(frame) < 67 or not _near(frame[66], 562):
        raise IgnoredError("the last mark is missing")
    if numbers[0] ^ numbers[1] != 0xFF or numbers[2] ^ numbers[3] != 0xFF:
        raise IgnoredError("a byte and its complement do not agree")
    if numbers[0] != 0x5B:
        raise IgnoredError(f"it is addressed to {numbers[0]}")
    key = PROJECTOR_KEYS.get(numbers[2])
    if key is None:
        raise IgnoredError(f"it knows no command {numbers[2]}")
    state: State = {"key": key}
    slide = int(gadget.state["slide"])
    if key == "Next slide":
        # While the key is held a repeat comes every 108 ms; each fourth turns another slide.
        held = sum(1 for a in frames[1:] if _near(a[0], 9000) and len(a) > 2 and _near(-a[1], 2250))
        state["slide"] = min(slide + 1 + held // 4, 80)
    elif key == "Previous slide":
        state["slide"] = max(slide - 1, 1)
    elif key == "Lamp":
        state["lamp"] = "off" if gadget.state["lamp"] == "on" else "on"
    return state


# The audio guide: 2.4 ms, then 7 bits of command and 5 of address by the mark's length; it acts on the second of two.
def _audio_guide(gadget: Gadget, frames: Sequence[Durations]) -> State:
    def read(frame: Durations) -> tuple[int, int]:
        _expect(frame[0], 2400, "the leader's mark")
        bits = []
        for number in range(12):
            at = 1 + 2 * number
            if at + 1 >= len(frame):
                raise IgnoredError(f"it ends after {number} bits")
            _expect(frame[at], -600, f"space {number + 1}")
            long = abs(frame[at + 1] - 1200) < abs(frame[at + 1] - 600)
            _expect(frame[at + 1], 1200 if long else 600, f"mark {number + 1}")
            bits.append(int(long))
        if len(frame) > 26:
            raise IgnoredError("it has more than 12 bits")
        return _number(bits[:7], True), _number(bits[7:], True)

    if len(frames) < 2:
        raise IgnoredError("it waits for a second frame like it")
    one, other = read(frames[0]), read(frames[1])
    if one != other:
        raise IgnoredError("two frames say different things")
    period = sum(abs(d) for d in frames[0])
    if not 36_000 < period < 54_000:
        raise IgnoredError(f"its repeat comes after {period / 1000:.0f} ms, not 45")
    command, address = one
    if address != 21:
        raise IgnoredError(f"it is addressed to {address}")
    names = {51: "Earlier stop", 50: "Play", 52: "Later stop", 19: "Quieter", 77: "Language", 18: "Louder", 57: "Rest"}
    if command not in names:
        raise IgnoredError(f"it knows no command {command}")
    state: State = {"key": names[command]}
    stop, loud = int(gadget.state["stop"]), int(gadget.state["loudness"])
    steps = {"Later stop": ("stop", min(stop + 1, 40)), "Earlier stop": ("stop", max(stop - 1, 1)),
             "Louder": ("loudness", min(loud + 1, 10)), "Quieter": ("loudness", max(loud - 1, 0))}  # fmt: skip
    if names[command] in steps:
        name, value = steps[names[command]]
        state[name] = value
    return state


# The lamp: 14 bits of 1.778 ms, a space before a mark is 1: two ones, toggle, 5 of address, 6 of command.
def _lamp(gadget: Gadget, frames: Sequence[Durations]) -> State:
    levels: list[int] = [0]  # the first half bit is a space nobody sees
    for number, d in enumerate(frames[0]):
        if number == len(frames[0]) - 1 and d < 0:
            break
        halves = 1 if abs(abs(d) - 889) < abs(abs(d) - 1778) else 2
        _expect(d, 889 * halves if d > 0 else -889 * halves, f"pulse {number + 1}")
        levels += [int(d > 0)] * halves
    levels += [0] * (28 - len(levels))
    if len(levels) != 28:
        raise IgnoredError(f"it has {len(levels)} half bits, not 28")
    bits = []
    for at in range(0, 28, 2):
        if levels[at] == levels[at + 1]:
            raise IgnoredError(f"bit {at // 2} has no change in its middle")
        bits.append(levels[at + 1])
    if bits[:2] != [1, 1]:
        raise IgnoredError("it begins with other start bits")
    toggle, address, command = bits[2], _number(bits[3:8], False), _number(bits[8:], False)
    if address != 14:
        raise IgnoredError(f"it is addressed to {address}")
    if gadget.memory.get("toggle") == toggle and gadget.memory.get("command") == command:
        raise IgnoredError("the same toggle again: the key is still down")
    names = {12: "On / off", 41: "Dusk", 17: "Dimmer", 35: "Red", 16: "Brighter"}
    if command not in names:
        raise IgnoredError(f"it knows no command {command}")
    gadget.memory.update(toggle=toggle, command=command)
    state: State = {"key": names[command]}
    glow = int(gadget.state["glow"])
    state["glow"] = {
        "On / off": 0 if glow else 6, "Dusk": 1, "Dimmer": max(glow - 1, 0), "Brighter": min(glow + 1, 10), "Red": glow,
    }[names[command]]  # fmt: skip
    return state


# The cabinet: two sections of 430 µs units, 40 and 72 bits, each with a check of its own.
def _cabinet(gadget: Gadget, frames: Sequence[Durations]) -> State:
    frame, u = frames[0], 430.0
    _expect(frame[0], 8 * u, "the leader's mark")
    _expect(frame[1], -4 * u, "the leader's space")
    one = _distance(frame[:82], 2, 39, u, u, 3 * u)
    bits = [*one, _last_before_gap(frame, 80, u)]
    if len(frame) < 84 or not 6000 < -frame[83] < 14_000:
        raise IgnoredError("there is no gap of some 9.8 ms between its sections")
    at = 84
    if len(frame) < at + 147:
        raise IgnoredError("its second section is not whole")
    _expect(frame[at], 8 * u, "the second leader's mark")
    _expect(frame[at + 1], -4 * u, "the second leader's space")
    bits += _distance(frame, at + 2, 72, u, u, 3 * u)
    _expect(frame[at + 146], u, "the last mark")
    return _cabinet_state(gadget, bits)


def _last_before_gap(frame: Durations, at: int, unit: float) -> int:
    """The fortieth bit, whose space is followed by the section's last mark."""
    (bit,) = _distance(frame, at, 1, unit, unit, 3 * unit)
    if len(frame) <= at + 2:
        raise IgnoredError("its first section is not whole")
    _expect(frame[at + 2], unit, "the first section's last mark")
    return bit


def _cabinet_state(gadget: Gadget, bits: Sequence[int]) -> State:
    """Bytes as sent, the first bit lowest: humidity and power in the first section, the rest in the second."""
    first = [_number(bits[i : i + 8], True) for i in range(0, 40, 8)]
    second = [_number(bits[i : i + 8], True) for i in range(40, 112, 8)]
    check = 0x5A
    for byte in first[:4]:
        check ^= byte
    if check != first[4]:
        raise IgnoredError("the first section's check is wrong")
    if (0x1B + sum(second[:8])) % 256 != second[8]:
        raise IgnoredError("the second section's check is wrong")
    if (first[0], first[1]) != (_number([1, 1, 0, 0, 0, 1, 0, 0], True), _number([1, 1, 0, 1, 0, 0, 1, 1], True)):
        raise IgnoredError("it is meant for another make of cabinet")
    modes = {1: "cool", 2: "dry", 4: "fan", 6: "heat"}
    mode = second[2] & 7
    if mode not in modes:
        raise IgnoredError(f"it knows no mode {mode}")
    state: State = {
        "power": "on" if first[3] & 1 else "off",
        "humidity": first[2] & 0x7F,
        "temperature": 16 + (second[1] & 0x1F) + (second[2] >> 7) / 2,
        "mode": modes[mode],
        "sleep": (second[3] >> 6 | (second[4] & 7) << 2) / 2,
    }
    if mode != 4:
        state["blower"] = second[2] >> 4 & 3
    return state


# The shutters by radio: 24 bits of 340 µs units, a short and a long pulse each; they wait for a second like it.
def _shutters(gadget: Gadget, frames: Sequence[Durations]) -> State:
    def read(frame: Durations) -> int:
        bits = []
        for number in range(24):
            if 2 * number + 1 >= len(frame):
                raise IgnoredError(f"it ends after {number} bits")
            mark, space = frame[2 * number], -frame[2 * number + 1]
            if _near(mark, 340) and _near(space, 1020):
                bits.append(0)
            elif _near(mark, 1020) and _near(space, 340):
                bits.append(1)
            else:
                raise IgnoredError(f"bit {number} is {mark:.0f} and {space:.0f} µs")
        if len(frame) < 49 or not _near(frame[48], 340):
            raise IgnoredError("the mark behind the bits is missing")
        return _number(bits, False)

    if len(frames) < 2:
        raise IgnoredError("it waits for a second frame like it")
    one, other = read(frames[0]), read(frames[1])
    if one != other:
        raise IgnoredError("two frames say different things")
    rest = -frames[0][-1] if frames[0][-1] < 0 else 0.0
    if not 7000 < rest < 15_000:
        raise IgnoredError(f"the next frame comes after {rest / 1000:.1f} ms, not 10.5")
    if one >> 8 != 0b0110100111000101:
        raise IgnoredError("it comes from another handset")
    moves = {3: "down", 5: "stop", 12: "up"}
    which, move = one >> 4 & 0xF, moves.get(one & 0xF)
    if move is None:
        raise IgnoredError(f"it knows no move {one & 0xF}")
    shutters = {1: "west", 2: "east", 4: "north", 8: "skylight"}  # no key of the handset sends the last
    moved = [name for bit, name in shutters.items() if which & bit]
    if not moved:
        raise IgnoredError("it names no shutter")
    return dict.fromkeys(moved, move)


# The tide gauge's display in the office: the gauge sends each reading twice by radio, with a CRC behind it.
def _tide_display(gadget: Gadget, frames: Sequence[Durations]) -> State:
    frame, u = frames[0], 480.0
    _expect(frame[0], 6 * u, "the leader's mark")
    _expect(frame[1], -6 * u, "the leader's space")
    bits = _distance(frame, 2, 56, u, 2 * u, 4 * u)
    crc = 0
    for bit in bits[:48]:
        top = crc >> 7 ^ bit
        crc = (crc << 1 & 0xFF) ^ (0x31 if top else 0)
    if crc != _number(bits[48:], False):
        raise IgnoredError("its CRC is wrong")
    if _number(bits[:8], False) != 0b10011100:
        raise IgnoredError("it comes from another gauge")
    water = _number(bits[28:40], False)
    return {
        "level": _number(bits[16:28], False) / 2,
        "water": round((water - 4096 if water >= 2048 else water) / 10, 1),
        "battery": round(_number(bits[40:48], False) / 50, 2),
    }


# The counter in the hut: bytes at 600 baud over a light beam, lowest bit first; light is a start bit and a 0.
def _turnstile(gadget: Gadget, frames: Sequence[Durations]) -> State:
    bit_us = 1e6 / 600
    line: list[int] = []
    for d in frames[0][:-1] if frames[0][-1] < 0 else frames[0]:
        cells = round(abs(d) / bit_us)
        if cells < 1 or abs(abs(d) - cells * bit_us) > 0.35 * bit_us:
            raise IgnoredError(f"a pulse of {abs(d):.0f} µs is no whole bits of 600 baud")
        line += [0 if d > 0 else 1] * cells
    line += [1] * (50 - len(line))
    if len(line) != 50:
        raise IgnoredError(f"it has {len(line)} bit times, not 50")
    numbers = []
    for at in range(0, 50, 10):
        if line[at] != 0 or line[at + 9] != 1:
            raise IgnoredError(f"byte {at // 10} has no start or no stop bit")
        numbers.append(_number(line[at + 1 : at + 9], True))
    if sum(numbers[:4]) % 256 != numbers[4]:
        raise IgnoredError("its sum is wrong")
    if numbers[0] != _number([1, 1, 0, 1, 0, 0, 1, 0], True):
        raise IgnoredError("it begins with another byte")
    way = {1: "in", 2: "out"}.get(numbers[3] & 3)
    if way is None:
        raise IgnoredError("it says neither in nor out")
    return {"visitors": numbers[1] + 256 * numbers[2], "way": way}


RADIO = (-1.0, 0.0)


def gadgets() -> dict[str, Gadget]:
    """All seven, by name, as they are in the morning."""
    cabinet: State = {"power": "on", "temperature": 20.0, "mode": "cool", "humidity": 50, "blower": 1, "sleep": 0.0}
    shut: State = dict.fromkeys(("north", "east", "west", "skylight"), "down")
    all_of_them = (
        Gadget("Slide projector", {"key": "", "slide": 1, "lamp": "off"}, _taking(_projector)),
        Gadget("Audio guide", {"key": "", "stop": 1, "loudness": 4}, _taking(_audio_guide)),
        Gadget("Nest-box lamp", {"key": "", "glow": 0}, _taking(_lamp)),
        Gadget("Climate cabinet", cabinet, _taking(_cabinet)),
        Gadget("Window shutters", shut, _taking(_shutters), RADIO),
        Gadget("Tide gauge", {"level": 165.0, "water": 7.2, "battery": 3.1}, _taking(_tide_display), RADIO),
        Gadget("Turnstile", {"visitors": 238, "way": "in"}, _taking(_turnstile), RADIO),
    )
    return {gadget.name: gadget for gadget in all_of_them}
