"""``zip-plumb serve``: which processes there are, and what each of them does."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from ..core import kernels
from .settings import must_be_set
from .supervisor import Supervisor


def serve(what: str, host: str, port: int, web: int, workers: int, logs: Path | None, pids: Path | None) -> int:
    """Run web, link, worker or all of them (``what``) until a signal to stop."""
    must_be_set("ZIPPLUMB_DATABASE", *(["ZIPPLUMB_SECRET"] if what in ("web", "all") else []))
    programs: dict[str, Callable[[], object]] = {}
    # heavy, and loaded once for all of them
    kernels.load()
    if what in ("web", "all"):
        from . import web as web_server

        listening = web_server.bound(host, port)
        programs |= {f"web-{k + 1}": partial(web_server.serve, listening) for k in range(web)}
    if what in ("link", "all"):
        from ..jobs.link.agents import run_link

        programs["link"] = run_link
    if what in ("worker", "all"):
        from ..jobs.worker import work

        programs |= {f"worker-{k + 1}": work for k in range(workers)}
    return Supervisor(programs, logs, pids).run()
