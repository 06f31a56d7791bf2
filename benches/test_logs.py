"""How many logs that chance made are read as what was sent, held against what was measured before."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from tests.dressed_logs import a_dressed_log
from tests.formats.test_logs import read_right
from tests.logs import a_log

from benches.baseline import held

LOGS = 400


def test_logs(tmp_path: Path) -> None:
    """Aim: every one; here others than the tests see."""
    logs = (a_log(np.random.default_rng(seed)) for seed in range(1000, 1000 + LOGS))
    right = sum(read_right(tmp_path / "log.txt", text, sent) for text, sent in logs)
    held("logs", right, LOGS)


def test_logs_in_any_dress(tmp_path: Path) -> None:
    """Aim: every one; whatever a log's numbers stand among is drawn anew."""
    logs = (a_dressed_log(np.random.default_rng(seed)) for seed in range(1000, 1000 + LOGS))
    right = sum(read_right(tmp_path / "log.txt", text, sent) for text, sent in logs)
    held("logs in any dress", right, LOGS)
