"""Drawing pulses: ink blocks where there is room, shades of ink where there are too many."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QColor, QImage, QPainter

from eager_tern.signal.coverage import mark_coverage, mark_time_before
from eager_tern.signal.values import Floats

FEW_EDGES_PER_PX = 0.5
FAINTEST = 0.16  # a single mark in a wide stretch is still to be seen


def draw_marks(
    painter: QPainter,
    box: QRectF,
    edges_us: Floats,
    from_us: float,
    to_us: float,
    ink: QColor,
    marked: Floats | None = None,
) -> None:
    """Marks between two times, spread over a box. ``marked`` is ``mark_time_before`` of the edges, if known already."""
    if edges_us.size < 2 or to_us <= from_us or box.width() < 1:
        return
    first = int(np.searchsorted(edges_us, from_us, side="right")) - 1
    first = max(first - (first % 2), 0)  # edges of even index begin a mark
    last = int(np.searchsorted(edges_us, to_us, side="left"))
    last = min(last + 1 - (last % 2), edges_us.size - 1)
    if last <= first:
        return
    scale = box.width() / (to_us - from_us)
    if (last - first) <= FEW_EDGES_PER_PX * box.width():
        painter.setPen(QColor(0, 0, 0, 0))
        painter.setBrush(ink)
        starts = np.clip((edges_us[first:last:2] - from_us) * scale, 0, box.width())
        ends = np.clip((edges_us[first + 1 : last + 1 : 2] - from_us) * scale, 0, box.width())
        for start, end in zip(starts.tolist(), ends.tolist(), strict=True):
            if end > start:
                painter.drawRect(QRectF(box.left() + start, box.top(), max(end - start, 0.8), box.height()))
        return
    marked = mark_time_before(edges_us) if marked is None else marked
    columns = max(round(box.width()), 1)
    shade = mark_coverage(edges_us, marked, np.linspace(from_us, to_us, columns + 1))
    painter.drawImage(box, shade_image(shade, ink))


def shade_image(shade: Floats, ink: QColor) -> QImage:
    """One row of pixels, each as dark as its part of mark (0 to 1)."""
    alpha = np.where(shade > 0, FAINTEST + (1 - FAINTEST) * shade, 0.0)
    row = np.empty((1, shade.size, 4), np.uint8)
    row[..., 0], row[..., 1], row[..., 2] = ink.red(), ink.green(), ink.blue()
    row[..., 3] = np.rint(alpha * ink.alpha())
    image = QImage(row.tobytes(), shade.size, 1, 4 * shade.size, QImage.Format.Format_RGBA8888)
    return image.copy()
