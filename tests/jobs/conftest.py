import pytest
from job_bench import Bench


@pytest.fixture
def bench(stack):
    return Bench(stack)


@pytest.fixture
def aligned(bench):
    """Planes A, B, C and the right end planned, aligned and touched; the end 0.08 mm too far out."""
    bench.rows = {
        "A": bench.plan_plane("Top", [0, 0, 60], [0, 0, 1], datum="A"),
        "B": bench.plan_plane("Side", [0, -140, 30], [0, -1, 0], datum="B"),
        "C": bench.plan_plane("Left", [-250, 0, 30], [-1, 0, 0], datum="C"),
        "end": bench.plan_plane("Right", [250, 0, 30], [1, 0, 0], asked=[{"key": "height", "lower": -0.2, "upper": 0.2}]),
    }
    for name, row in bench.rows.items():
        bench.touch_plane(row, 0.08 if name == "end" else 0.0)
    return bench
