"""Small help for the benchmarks: best of several runs, and a line of the table."""

from __future__ import annotations

import time
from collections.abc import Callable


def best(call: Callable[[], object], runs: int = 5) -> float:
    """Seconds of the fastest of several runs, after one to warm up."""
    call()
    seconds = []
    for _ in range(runs):
        begin = time.perf_counter()
        call()
        seconds.append(time.perf_counter() - begin)
    return min(seconds)


def row(name: str, ours: float, other: float, against: str) -> None:
    print(f"  {name:44} {1e3 * ours:10.2f} ms   {other / ours:8.1f} × as fast as {against}", flush=True)


def spread(seconds: list[float]) -> str:
    ordered = sorted(1e3 * s for s in seconds)
    high = ordered[int(0.95 * (len(ordered) - 1))]
    return f"median {ordered[len(ordered) // 2]:.1f} ms, p95 {high:.1f} ms, worst {ordered[-1]:.1f} ms, of {len(ordered)}"
