"""What many tests share."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import pytest
from hypothesis import settings

from eager_tern.demo.recipe import make_demo_casebook

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
# The same examples every time; `make fuzz` looks for new ones.
settings.register_profile("same", deadline=None, max_examples=40, derandomize=True)
settings.register_profile("fuzz", deadline=None, max_examples=1000)
settings.load_profile(os.environ.get("HYPOTHESIS_PROFILE", "same"))


@pytest.fixture(autouse=True)
def own_home(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Settings and data of the tests stay out of the user's."""
    home = tmp_path_factory.mktemp("home")
    for name in ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME"):
        monkeypatch.setenv(name, str(home / name.lower()))
    return home


@pytest.fixture(scope="session")
def demo_casebook(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("demo") / "skarvholm.tern"
    make_demo_casebook(path)
    return path


@pytest.fixture
def rng() -> np.random.Generator:
    return np.random.default_rng(20_261_025)
