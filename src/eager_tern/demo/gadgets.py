"""The gadgets of the Skarvholm bird observatory. All of it is made up."""

from __future__ import annotations

from msgspec import Struct, field


class DemoKey(Struct, frozen=True):
    name: str
    row: int
    col: int
    values: dict[str, int]


class DemoGadget(Struct, frozen=True):
    """``caught`` names the keys that the demo casebook begins with."""

    name: str
    about: str
    sheet: str
    keys: tuple[DemoKey, ...]
    caught: tuple[str, ...] = field(default=())

    def key(self, name: str) -> DemoKey:
        return next(key for key in self.keys if key.name == name)


def _keys(values: dict[str, int], rows: tuple[tuple[tuple[str, int] | None, ...], ...]) -> tuple[DemoKey, ...]:
    return tuple(
        DemoKey(cell[0], r, c, {**values, "command": cell[1]})
        for r, row in enumerate(rows)
        for c, cell in enumerate(row)
        if cell is not None
    )


PROJECTOR = DemoGadget(
    "Slide projector",
    "The lecture room's projector, Skarvholm bird observatory. The handset's Menu cap is gone.",
    "nec",
    _keys(
        {"address": 0x5B},
        (
            (("Lamp", 0x40), ("Timer", 0x12), ("Freeze", 0x44)),
            (("Previous slide", 0x1A), ("Blank", 0x5E), ("Next slide", 0x16)),
            (("Focus −", 0x0D), ("Menu", 0x03), ("Focus +", 0x09)),
            (("Zoom −", 0x1E), ("Keystone", 0x51), ("Zoom +", 0x1D)),
        ),
    ),
    ("Next slide", "Previous slide", "Lamp", "Focus +", "Focus −", "Freeze", "Blank"),
)

AUDIO_GUIDE = DemoGadget(
    "Audio guide",
    "Speaks in the visitors' corridor.",
    "sirc12",
    _keys(
        {"address": 21},
        (
            (("Earlier stop", 51), ("Play", 50), ("Later stop", 52)),
            (("Quieter", 19), ("Language", 77), ("Louder", 18)),
            (None, ("Rest", 57), None),
        ),
    ),
    ("Play", "Later stop", "Louder"),
)

NEST_LAMP = DemoGadget(
    "Nest-box lamp",
    "A dim lamp for the camera in nest box 4.",
    "rc5",
    _keys(
        {"address": 14},
        (
            (("On / off", 12), None, ("Dusk", 41)),
            (("Dimmer", 17), ("Red", 35), ("Brighter", 16)),
        ),
    ),
    ("On / off", "Brighter"),
)

GADGETS = (PROJECTOR, AUDIO_GUIDE, NEST_LAMP)
