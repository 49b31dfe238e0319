"""The first page of a job in a process that has just started: ``python bench/first_page.py JOB``, with the database named."""

from __future__ import annotations

import asyncio
import gc
import sys
import time

from zipplumb.core import kernels
from zipplumb.serve.web import RARELY
from zipplumb.web.app import create_app
from zipplumb.web.live.hub import Hub
from zipplumb.web.live.listeners import Page, Watched


async def begun(hub: Hub, job: int) -> None:
    page = Page()
    hub.jobs[job] = Watched(pages={page})
    hub._whole(job, page)


if __name__ == "__main__":
    kernels.load()  # as a web process does when it starts
    app = create_app()
    gc.freeze()
    gc.set_threshold(*RARELY)
    began, used = time.perf_counter(), time.process_time()
    asyncio.run(begun(Hub(app), int(sys.argv[1])))
    print(f"  {time.perf_counter() - began:.2f} s, of processor {time.process_time() - used:.2f} s")
