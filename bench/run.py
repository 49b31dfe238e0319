"""Speed, as ratios in one run: ./run bench, or some of its parts."""

from __future__ import annotations

import importlib
import sys

PARTS = ("fits", "recognising", "network", "surfaces", "sheet", "imports", "live", "ticks", "pages")

for part in sys.argv[1:] or PARTS:
    importlib.import_module(part).run()
