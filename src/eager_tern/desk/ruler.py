"""The unit ruler under a tape, and the leans of the edges on it."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainter, QPen

from eager_tern.desk.theme import colour
from eager_tern.signal.values import Floats

GOOD_LEAN, POOR_LEAN = 0.12, 0.25  # of a unit
STEEPEST_PX, PX_A_UNIT = 7.0, 24.0
LEAST_UNIT_PX = 3.0


def draw_ruler(painter: QPainter, box: QRectF, from_us: float, to_us: float, zero_us: float, unit_us: float) -> None:
    """A tick a unit under a box that shows the time between two moments, counted from ``zero_us``; a longer one every
    fourth. Nothing where the ticks would run together."""
    scale = box.width() / max(to_us - from_us, 1e-9)
    if unit_us * scale < LEAST_UNIT_PX:
        return
    painter.setPen(QPen(colour("fog"), 1))
    first, last = int(np.ceil((from_us - zero_us) / unit_us - 1e-9)), int((to_us - zero_us) / unit_us)
    for n in range(first, last + 1):
        x = box.left() + (zero_us + n * unit_us - from_us) * scale
        painter.drawLine(QPointF(x, box.bottom() + 2), QPointF(x, box.bottom() + (6 if n % 4 == 0 else 4)))


def draw_leans(
    painter: QPainter,
    box: QRectF,
    from_us: float,
    to_us: float,
    edges_us: Floats,
    deviations_us: Floats,
    unit_us: float,
) -> None:
    """A tick for each edge, slanting by how far the edge is from its place on the ruler."""
    scale = box.width() / max(to_us - from_us, 1e-9)
    if unit_us * scale < LEAST_UNIT_PX:
        return
    y = box.bottom() + 8
    inside = np.flatnonzero((edges_us >= from_us - 1e-6) & (edges_us < to_us - 1e-6))
    for n in inside.tolist():
        lean = float(deviations_us[n]) / unit_us
        role = "proven" if abs(lean) < GOOD_LEAN else "uncertain" if abs(lean) < POOR_LEAN else "attention"
        painter.setPen(QPen(colour(role), 2.0 if role == "attention" else 1.4))
        x = box.left() + (float(edges_us[n]) - from_us) * scale
        slant = float(np.clip(lean * PX_A_UNIT, -STEEPEST_PX, STEEPEST_PX))
        painter.drawLine(QPointF(x - slant / 2, y + 7), QPointF(x + slant / 2, y))
