"""Speed, as ratios in one run: ./run bench, or some of its parts. Each part in a process of its own, as it has a database."""

from __future__ import annotations

import importlib
import subprocess
import sys

PARTS = ("fits", "recognising", "network", "surfaces", "scans", "sheet", "imports", "live", "ticks", "pages", "placing")

parts = sys.argv[1:] or PARTS
if len(parts) == 1:
    importlib.import_module(parts[0]).run()
else:
    for part in parts:
        subprocess.run([sys.executable, __file__, part], check=True)
