"""Calipers between any two edges of a take."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from eager_tern.session.words import duration
from eager_tern.signal.measure import measure
from eager_tern.signal.values import Floats
from eager_tern.texts import tr


class Calipers(QObject):
    """Two edges, as times from the start of the take; the second one may still be missing."""

    changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.one_us: float | None = None
        self.other_us: float | None = None

    def set_edge(self, edge_us: float) -> None:
        """The first edge, then the second; a third begins anew."""
        if self.one_us is None or self.other_us is not None:
            self.one_us, self.other_us = edge_us, None
        elif edge_us != self.one_us:
            self.other_us = edge_us
        self.changed.emit()

    def step(self, edges_us: Floats, by: int, extend: bool) -> None:
        """Move to a neighbouring edge; with ``extend`` the other jaw stays."""
        if edges_us.size == 0:
            return
        at = self.other_us if self.other_us is not None else self.one_us
        if at is None:
            self.one_us = float(edges_us[0])
        else:
            index = int(np.clip(np.argmin(np.abs(edges_us - at)) + by, 0, edges_us.size - 1))
            if extend:
                self.other_us = float(edges_us[index])
            else:
                self.one_us, self.other_us = float(edges_us[index]), None
        self.changed.emit()

    def clear(self) -> None:
        self.one_us = self.other_us = None
        self.changed.emit()

    def text(self, unit_us: float | None, sample_rate_hz: float | None) -> str:
        """What lies between the jaws, in every measure that is known."""
        if self.one_us is None or self.other_us is None:
            return ""
        found = measure(self.one_us, self.other_us, unit_us, sample_rate_hz)
        parts = [duration(found.us)]
        if found.units is not None:
            parts.append(tr("{units:.2f} units", units=found.units))
        if found.samples is not None:
            parts.append(tr("{samples:.1f} samples", samples=found.samples))
        if found.hz is not None:
            parts.append(f"{found.hz:.0f} Hz" if found.hz < 10_000 else f"{found.hz / 1e3:.2f} kHz")
        return " · ".join(parts)
