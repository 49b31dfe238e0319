"""Speed, as ratios in one run: ./run bench, or some of its parts. Each part in a process of its own, as it has a database."""

from __future__ import annotations

import importlib
import subprocess
import sys

LIVE = ("scanning", "live", "ticks", "pages", "placing")  # of the running application
PARTS = (
    "fits",
    "recognising",
    "network",
    "surfaces",
    "scans",
    "maps",
    "sheet",
    "proving",
    "imports",
    "reports",
    "catalogue",
    *LIVE,
)

if __name__ == "__main__":  # what a part starts does not start the parts again
    parts = sys.argv[1:] or PARTS
    if len(parts) == 1:
        importlib.import_module(parts[0]).run()
    else:
        for part in parts:
            subprocess.run([sys.executable, __file__, part], check=True)
