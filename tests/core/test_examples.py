"""The examples in the docstrings of the core run, and give what they say."""

from __future__ import annotations

import doctest
import importlib

import pytest

TOLD = [
    "fitting.api",
    "fitting.recognise",
    "alignment.reference_points",
    "alignment.steps",
    "alignment.holds",
    "network.adjustment",
    "deriving.possible",
    "deriving.bolt_circle",
    "tolerances.zones",
    "tolerances.decision",
    "probing.compensation",
    "frames",
    "uncertainty",
]


@pytest.mark.parametrize("name", TOLD)
def test_examples_run(name):
    module = importlib.import_module(f"zipplumb.core.{name}")
    found = doctest.testmod(module)
    assert found.attempted, "there is no example"
    assert not found.failed
