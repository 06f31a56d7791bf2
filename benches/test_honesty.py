"""How often a check is claimed where there is none."""

from __future__ import annotations

import numpy as np
from tests.unchecked import unchecked

from benches.baseline import held
from eager_tern.compare.comparison import compare

GADGETS = 300


def test_no_check_is_claimed() -> None:
    """Aim: none in 299 of 300."""
    honest = sum(not compare(unchecked(np.random.default_rng([99, n]))).checks for n in range(GADGETS))
    held("no check claimed where there is none", honest, GADGETS)
